//! Sheets and report of a recipe's run, laid out as those of a study are.

use std::path::{Path, PathBuf};

use bothros_core::{Monitor as _, Part};
use bothros_products::Units;
use bothros_recipe::{Error, Pages, Ran, Recipe, ReportFormat, ReportUnits, SheetSettings};

use crate::report::{ReportChoice, report_of_run, write_as};
use crate::sheets::of_run::{RunMaps, check_pictures};
use crate::sheets::{DPI, SheetFile, SheetFormat, drawn_as};
use crate::{SECTIONS, quantity};

/// Lays out what recipes ask for.
#[derive(Debug, Clone, Copy, Default)]
pub struct RunPages;

type Result<T> = std::result::Result<T, Error>;

fn template(recipe: &Recipe, of: &SheetSettings) -> Result<SheetFile> {
    let wrong = |why: String| Error::Recipe(format!("sheets.template: {}: {why}", of.template.display()));
    let bytes = std::fs::read(recipe.path(&of.template)).map_err(|e| wrong(e.to_string()))?;
    let file = SheetFile::read(&bytes).map_err(|e| wrong(e.to_string()))?;
    check_pictures(&file).map_err(|e| wrong(e.to_string()))?;
    Ok(file)
}

fn title(recipe: &Recipe) -> String {
    let told = recipe.report.as_ref().and_then(|r| r.title.clone());
    told.unwrap_or_else(|| recipe.name.clone().unwrap_or_else(|| "Run of a recipe".into()))
}

fn failed(error: crate::Error) -> Error {
    match error {
        crate::Error::Core(bothros_core::Error::Cancelled) => Error::Cancelled,
        other => Error::Data(other.to_string()),
    }
}

fn written(path: PathBuf, bytes: &[u8]) -> Result<()> {
    std::fs::write(&path, bytes).map_err(|e| Error::Write { path, error: e.to_string() })
}

impl Pages for RunPages {
    fn check(&self, recipe: &Recipe) -> Result<()> {
        for sheet in &recipe.sheets {
            template(recipe, sheet)?;
        }
        let Some(report) = &recipe.report else { return Ok(()) };
        let all = [("order", &report.order), ("left_out", &report.left_out)];
        let own: Vec<String> = report.own.keys().cloned().collect();
        for (key, names) in all.into_iter().chain([("own", &own)]) {
            if let Some(name) = names.iter().find(|name| !SECTIONS.iter().any(|(key, _)| key == name)) {
                let known = SECTIONS.map(|(key, _)| key).join(", ");
                return Err(Error::Recipe(format!(
                    "report.{key}: there is no section “{name}”; there are {known}"
                )));
            }
        }
        Ok(())
    }

    fn write(&self, ran: &Ran<'_>, dir: &Path, part: &Part<'_>) -> Result<Vec<String>> {
        // Pages ask for what they show as they ask a study, which answers when it has read it.
        let runtime = tokio::runtime::Builder::new_current_thread()
            .build()
            .map_err(|e| Error::Write { path: dir.to_owned(), error: e.to_string() })?;
        runtime.block_on(pages(ran, dir, part))
    }
}

async fn pages(ran: &Ran<'_>, dir: &Path, part: &Part<'_>) -> Result<Vec<String>> {
    let recipe = ran.recipe;
    let title = title(recipe);
    let files: Vec<(&SheetSettings, SheetFile)> =
        recipe.sheets.iter().map(|s| Ok((s, template(recipe, s)?))).collect::<Result<_>>()?;
    let mut told = Vec::new();
    let count = (files.len() + 1) as f64;
    let maps = RunMaps::of(ran, &title).map_err(failed)?;
    for (n, (settings, file)) in files.iter().enumerate() {
        if part.is_cancelled() {
            return Err(Error::Cancelled);
        }
        part.progress(n as f64 / count);
        let (name, dpi) = (settings.file_name(), settings.dpi.unwrap_or(DPI));
        let laid = Box::pin(maps.sheet(file, dpi)).await.map_err(failed)?;
        told.extend(laid.complaints.iter().map(|what| format!("sheet “{name}”: {what}")));
        let formats = match settings.formats.is_empty() {
            true => vec![SheetFormat::Pdf],
            false => settings.formats.iter().map(|f| format_of(*f)).collect(),
        };
        for format in formats {
            let bytes = drawn_as(&laid, format, dpi).map_err(failed)?;
            written(dir.join(format!("{name}.{}", format.name())), &bytes)?;
        }
    }
    if part.is_cancelled() {
        return Err(Error::Cancelled);
    }
    part.progress(files.len() as f64 / count);
    if let Some(settings) = &recipe.report {
        let choice = ReportChoice {
            order: settings.order.clone(),
            left_out: settings.left_out.clone(),
            own: settings.own.clone(),
        };
        let units = match settings.units {
            ReportUnits::Metric => Units::Metric,
            ReportUnits::UsCustomary => Units::UsCustomary,
        };
        let report = Box::pin(quantity::scoped(units, report_of_run(ran, &maps, &title, &choice)));
        let report = report.await.map_err(failed)?;
        let formats = match settings.formats.is_empty() {
            true => &[ReportFormat::Pdf][..],
            false => &settings.formats,
        };
        for (name, bytes) in write_as(&report, units, formats).map_err(failed)? {
            written(dir.join(name), &bytes)?;
        }
    }
    Ok(told)
}

fn format_of(of: bothros_recipe::SheetFormat) -> SheetFormat {
    match of {
        bothros_recipe::SheetFormat::Pdf => SheetFormat::Pdf,
        bothros_recipe::SheetFormat::Svg => SheetFormat::Svg,
        bothros_recipe::SheetFormat::Png => SheetFormat::Png,
    }
}
