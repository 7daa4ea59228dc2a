//! Map sheets of a study: kept with it, filled with what it holds, laid out and written.

pub(crate) mod atlas;
mod compared;
mod dots;
mod features;
mod filled;
mod ground;
mod kept;
mod layers;
pub(crate) mod of_run;
mod source;
mod streams;
mod template;
mod views;
mod written;

pub use atlas::start_atlas;
pub use filled::{SheetSources, laid, laid_entries, sheet_views};
pub(crate) use kept::put_sheet_back;
pub use kept::{
    KeptSheet, SheetLook, add_sheet, change_sheet, copy_sheet, delete_sheet, put_logo, rename_sheet, sheet,
    sheets,
};
pub use layers::{SheetLayer, sheet_layers};
pub use template::{LARGEST_SHEET_FILE, SheetFile, add_sheet_from};
pub use written::{DPI, SheetFormat, Written, write_sheet};
pub(crate) use written::{drawn_as, made};
