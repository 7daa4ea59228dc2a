//! The package, and what goes into it.

mod checks;
mod choice;
mod kept;
pub(crate) mod package;
pub(crate) mod scheme;
mod typed;

pub use bothros_products::{ModelChoice, Parameter, TypedValue};
pub use checks::Issue;
pub use choice::{
    HandoverChoice, MoreFormat, add_format, hand_out_alone, hand_out_in, set_direction_codes, set_short_name,
};
pub use kept::{PackageDifference, TableDifference, compare_packages, delete_package};
pub use package::{LAYERS, layer, package_contents, package_name, start_package};
pub use scheme::{ModelTables, model_tables, set_model};
pub use typed::{forget_lost, set_parameter};
