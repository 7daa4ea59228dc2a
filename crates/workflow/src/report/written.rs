//! The report written: PDF, HTML, and its tables.

use std::io::Write as _;

use bothros_products::Units;
use bothros_sheets::report::{Block, Report, book, html};
use bothros_sheets::{About, Page, PageSize, pdf};

use super::report;
use crate::Result;
use crate::sheets::{SheetSources, made};

/// What a report is written as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReportFormat {
    /// pages, with contents and links
    Pdf,
    /// one file
    Html,
    /// its tables as CSV, packed
    Tables,
}

impl ReportFormat {
    /// The format of an ending.
    pub fn from_ending(ending: &str) -> Option<Self> {
        match ending {
            "pdf" => Some(Self::Pdf),
            "html" => Some(Self::Html),
            "zip" => Some(Self::Tables),
            _ => None,
        }
    }

    /// Ending and media type of its file.
    pub fn file(self) -> (&'static str, &'static str) {
        match self {
            Self::Pdf => ("pdf", "application/pdf"),
            Self::Html => ("html", "text/html; charset=utf-8"),
            Self::Tables => ("zip", "application/zip"),
        }
    }
}

/// The tables of a report as CSV: name of the file, and what is in it.
pub(crate) fn tables(report: &Report) -> Result<Vec<(String, Vec<u8>)>> {
    let mut out = Vec::new();
    for block in report.sections.iter().flat_map(|section| &section.blocks) {
        let Block::Table(table) = block else { continue };
        let mut writer = csv::Writer::from_writer(Vec::new());
        writer.write_record(&table.heads).map_err(std::io::Error::other)?;
        for row in &table.rows {
            writer.write_record(row).map_err(std::io::Error::other)?;
        }
        let bytes = writer.into_inner().map_err(|e| std::io::Error::other(e.to_string()))?;
        out.push((format!("report_{}.csv", table.name), bytes));
    }
    Ok(out)
}

/// The pages of a report as PDF.
fn pages(report: &Report, units: Units) -> Result<Vec<u8>> {
    let size = match units {
        Units::Metric => PageSize::A4,
        Units::UsCustomary => PageSize::Letter,
    };
    let book = book(report, Page { size, across: false })?;
    Ok(pdf(&book.pages, &About { title: report.title.clone(), made: made() })?)
}

/// A report in formats: names of files, and what is in them.
///
/// # Errors
/// [`crate::Error::Sheets`] where it cannot be written.
pub(crate) fn write_as(
    report: &Report,
    units: Units,
    formats: &[bothros_recipe::ReportFormat],
) -> Result<Vec<(String, Vec<u8>)>> {
    use bothros_recipe::ReportFormat::{Csv, Html, Pdf};
    let mut out = Vec::new();
    for format in formats {
        match format {
            Pdf => out.push(("report.pdf".into(), pages(report, units)?)),
            Html => out.push(("report.html".into(), html(report)?.into_bytes())),
            Csv => out.extend(tables(report)?),
        }
    }
    Ok(out)
}

/// Writes the report of a study in units, on pages of a size.
///
/// # Errors
/// Those of [`report`], and [`crate::Error::Sheets`] where it cannot be written.
pub async fn write_report(
    from: SheetSources<'_>,
    study: i64,
    units: Units,
    format: ReportFormat,
) -> Result<Vec<u8>> {
    let report = report(from, study, units).await?;
    crate::blocking(move || match format {
        ReportFormat::Pdf => pages(&report, units),
        ReportFormat::Html => Ok(html(&report)?.into_bytes()),
        ReportFormat::Tables => {
            let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
            for (name, bytes) in tables(&report)? {
                zip.start_file(name, zip::write::SimpleFileOptions::default())?;
                zip.write_all(&bytes)?;
            }
            Ok(zip.finish()?.into_inner())
        }
    })
    .await
}
