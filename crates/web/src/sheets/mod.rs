//! Map sheets: their list, the page on which one is laid out, and its files.

mod add;
mod change;
mod chosen;
mod editor;
mod files;
mod list;
mod part;
mod report;

use axum::Router;
use axum::routing::{get, post};
use bothros_workflow::SheetSources;

use crate::App;

/// Routes of a study's sheets.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/sheets", get(list::list).post(add::add))
        .route("/sheets/copy", post(add::copy))
        .route("/sheets/atlas.pdf", get(files::atlas_file))
        .route("/report", get(report::shown))
        .route("/report/sections", get(report::sections).post(report::section))
        .route("/report/told", get(report::told))
        .route("/report/own", post(report::own))
        .route("/report/file/{ending}", get(report::file))
        .route("/sheets/{sheet}", get(editor::editor))
        .route("/sheets/{sheet}/state", get(editor::state))
        .route("/sheets/{sheet}/preview.svg", get(files::preview))
        .route("/sheets/{sheet}/file/{format}", get(files::file))
        .route("/sheets/{sheet}/rename", post(add::rename))
        .route("/sheets/{sheet}/delete", post(add::delete))
        .route("/sheets/{sheet}/atlas", post(files::atlas))
        .route("/sheets/{sheet}/page", post(change::page))
        .route("/sheets/{sheet}/together", post(change::together))
        .route("/sheets/{sheet}/guides", post(change::guides))
        .route("/sheets/{sheet}/parts", post(change::add_part))
        .route("/sheets/{sheet}/parts/{part}", get(part::form))
        .route("/sheets/{sheet}/parts/{part}/choices", post(chosen::change))
        .route("/sheets/{sheet}/parts/{part}/place", post(change::place))
        .route("/sheets/{sheet}/parts/{part}/look", post(change::look))
        .route("/sheets/{sheet}/parts/{part}/shown", post(change::shown))
        .route("/sheets/{sheet}/parts/{part}/move", post(change::order))
        .route("/sheets/{sheet}/parts/{part}/delete", post(change::delete_part))
        .route("/sheets/{sheet}/parts/{part}/layer", post(part::layer))
        .route("/sheets/{sheet}/parts/{part}/entry", post(part::entry))
}

/// Routes of a study's sheets that take files.
pub fn uploads() -> Router<App> {
    Router::new()
        .route("/sheets/file", post(add::from_file))
        .route("/sheets/{sheet}/parts/{part}/picture", post(part::picture))
}

/// What the page hears when a sheet was changed.
const CHANGED: &str = "sheet-changed";

impl App {
    /// Where sheets take what they show from.
    fn sheet_sources(&self) -> SheetSources<'_> {
        SheetSources {
            store: &self.store,
            grids: &self.grids,
            layers: &self.layers,
            calibration: &self.calibration,
            maps: self.options.maps.as_ref(),
        }
    }
}
