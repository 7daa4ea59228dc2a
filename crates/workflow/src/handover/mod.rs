//! The package.

pub(crate) mod package;

pub use package::{package_contents, package_name, start_package};
