//! Map sheets and the report of a study, as its recipe tells them.

use std::path::Path;

use bothros_recipe::{ReportFormat, ReportSettings, SheetSettings};
use bothros_store::Store;

use crate::sheets::{KeptSheet, SheetFile, sheets};
use crate::{Facts, Result};

/// A name in small letters, digits and underscores; empty where nothing of it is left.
fn plain(name: &str) -> String {
    let letters = name.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '_' });
    let all: String = letters.collect();
    let words: Vec<&str> = all.split('_').filter(|word| !word.is_empty()).collect();
    words.join("_").chars().take(40).collect()
}

/// What a recipe says of a study's sheet, `number` from 1.
pub(crate) fn sheet_settings(short: &str, number: usize, name: &str) -> SheetSettings {
    let base = format!("{short}_sheet_{number}_{}", plain(name));
    let base = base.trim_end_matches('_').to_owned();
    SheetSettings {
        template: format!("{base}.sheet.json").into(),
        name: Some(base),
        formats: Vec::new(),
        dpi: None,
    }
}

/// What a recipe says of a study's report.
pub(crate) fn report_settings(facts: &Facts, formats: &[ReportFormat]) -> ReportSettings {
    let own = &facts.settings.report;
    ReportSettings {
        title: Some(facts.name.clone()),
        formats: formats.to_vec(),
        order: own.order.clone(),
        left_out: own.left_out.clone(),
        own: own.own.clone(),
        ..ReportSettings::default()
    }
}

/// The sheets of a study, each with what its recipe says of it.
///
/// # Errors
/// Those of the store.
pub(crate) async fn told_sheets(store: &Store, facts: &Facts) -> Result<Vec<(KeptSheet, SheetSettings)>> {
    let short = facts.short_name();
    let told = |(at, sheet): (usize, KeptSheet)| {
        let settings = sheet_settings(&short, at + 1, &sheet.name);
        (sheet, settings)
    };
    Ok(sheets(store, facts.study).await?.into_iter().enumerate().map(told).collect())
}

/// Lays the files of a study's sheets into a folder; their names.
///
/// # Errors
/// Those of the store and the disk.
pub(crate) async fn lay_out_sheets(store: &Store, facts: &Facts, dir: &Path) -> Result<Vec<String>> {
    let mut files = Vec::new();
    for (sheet, settings) in told_sheets(store, facts).await? {
        let bytes = SheetFile::of(store, facts.study, sheet.id).await?.bytes()?;
        tokio::fs::write(dir.join(&settings.template), bytes).await?;
        files.push(settings.template.to_string_lossy().into_owned());
    }
    Ok(files)
}

#[cfg(test)]
mod tests {
    use super::plain;

    #[test]
    fn names_of_sheets_make_names_of_files() {
        assert_eq!(plain("Sorrel Water: network & divides"), "sorrel_water_network_divides");
        assert_eq!(plain("Übersicht"), "bersicht");
        assert_eq!(plain("流域"), "");
    }
}
