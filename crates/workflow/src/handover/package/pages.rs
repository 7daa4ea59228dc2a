//! Sheets and report of a package: as PDF and HTML, with the files of the sheets, which the package's recipe lays out again.

use std::path::Path;

use bothros_core::Monitor as _;
use bothros_products::Units;
use bothros_recipe::{ReportFormat, ReportSettings, SheetSettings};
use bothros_store::{JobHandle, Store};

use crate::recipe::pages::{report_settings, sheet_settings};
use crate::report::{report, write_as};
use crate::sheets::{DPI, SheetFile, SheetFormat, SheetSources, sheets, write_sheet};
use crate::{Calibration, Facts, GridCache, LayerCache, Result};

/// What was laid out for a package.
#[derive(Default)]
pub(super) struct LaidOut {
    /// names of the files
    pub files: Vec<String>,
    /// what a recipe says of the sheets
    pub sheets: Vec<SheetSettings>,
    /// what it says of the report
    pub report: Option<ReportSettings>,
    /// what did not come out as it was meant
    pub complaints: Vec<String>,
}

/// Lays out what of sheets and report is wanted, into a folder.
///
/// # Errors
/// Those of laying out and writing; [`bothros_core::Error::Cancelled`].
pub(super) async fn laid_out(
    store: &Store,
    grids: &GridCache,
    facts: &Facts,
    dir: &Path,
    handle: &JobHandle,
) -> Result<LaidOut> {
    let choice = &facts.settings.handover;
    let mut out = LaidOut::default();
    if !choice.sheets && !choice.report {
        return Ok(out);
    }
    let (layers, calibration) = (LayerCache::default(), Calibration::default());
    let from = SheetSources { store, grids, layers: &layers, calibration: &calibration, maps: None };
    let short = facts.short_name();
    let kept = if choice.sheets { sheets(store, facts.study).await? } else { Vec::new() };
    for (n, sheet) in kept.iter().enumerate() {
        if handle.is_cancelled() {
            return Err(bothros_core::Error::Cancelled.into());
        }
        handle.say(&format!("laying out sheet {} of {}", n + 1, kept.len()));
        let settings = sheet_settings(&short, n + 1, &sheet.name);
        let base = settings.file_name();
        let written = Box::pin(write_sheet(from, facts.study, &sheet.sheet, SheetFormat::Pdf, DPI)).await?;
        out.complaints
            .extend(written.complaints.iter().map(|what| format!("Sheet “{}”: {what}", sheet.name)));
        let template = SheetFile::of(store, facts.study, sheet.id).await?.bytes()?;
        for (ending, bytes) in [("pdf", &written.bytes), ("sheet.json", &template)] {
            let name = format!("{base}.{ending}");
            tokio::fs::write(dir.join(&name), bytes).await?;
            out.files.push(name);
        }
        out.sheets.push(settings);
    }
    if choice.report {
        handle.say("writing the report");
        let told = Box::pin(report(from, facts.study, Units::Metric)).await?;
        let formats = [ReportFormat::Pdf, ReportFormat::Html, ReportFormat::Csv];
        let files = crate::blocking(move || write_as(&told, Units::Metric, &formats)).await?;
        for (name, bytes) in files {
            let name = format!("{short}_{name}");
            tokio::fs::write(dir.join(&name), bytes).await?;
            out.files.push(name);
        }
        out.report = Some(report_settings(facts, &formats));
    }
    Ok(out)
}
