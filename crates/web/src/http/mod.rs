//! Requests and answers: what every route needs, whatever it is about.

pub mod assets;
pub mod changed;
pub mod error;
pub mod events;
pub mod form;
pub mod health;
pub mod listen;
pub mod security;
pub mod upload;
