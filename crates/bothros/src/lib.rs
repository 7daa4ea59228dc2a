//! The parts of the program, for `main` and for tests that start the real server.

pub mod bench;
pub mod demo;
pub mod serve;
