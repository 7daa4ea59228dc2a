//! The package.

pub(crate) mod package;

pub use package::{package_name, start_package};
