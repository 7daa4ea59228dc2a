//! Requests and responses: what every route needs.

pub mod assets;
pub mod attachment;
pub mod changed;
pub mod error;
pub mod events;
pub mod form;
pub mod health;
pub mod listen;
pub mod range;
pub mod security;
mod unread;
pub mod upload;
