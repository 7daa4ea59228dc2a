//! The application as a whole: over the wire, in the browser, and against references. One program, so that it is
//! linked once and all its parts share one PostgreSQL.
#![allow(clippy::unwrap_used)]

mod again;
mod application;
mod archive;
mod backdrops;
mod bad_input;
mod batch;
mod batches;
mod begins;
mod by_hand;
mod by_hand_too;
mod calibration;
mod catchments;
mod conditioning;
mod connected;
mod derived;
mod drawn;
mod face;
mod formulas;
mod handover;
mod hostile;
mod land;
mod network;
mod odd;
mod pages;
mod processes;
mod races;
mod recipe;
mod reference;
mod report;
mod resilience;
mod routes;
mod same;
mod sheets;
mod sheets_read;
mod support;
mod sure;
mod tables;
mod tabs;
mod terrain;
mod typing;
mod undo;
mod upgrade;
mod value_rasters;
mod walk;
