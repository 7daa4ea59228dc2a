//! `[report]` and `[[sheets]]`: what of a run is laid out on pages. A run computes; whoever lays pages out is handed in.

use std::collections::{BTreeMap, HashSet};
use std::path::{Path, PathBuf};

use bothros_core::formula::Unit;
use bothros_core::{Frame, Grid, Part, Threshold};
use bothros_formats::{Crs, Layer, ReadFeature, Wanted};
use bothros_products::{Placed, Row};
use serde::{Deserialize, Serialize};

use crate::inputs::features;
use crate::{Error, Recipe, Result, Summary};

/// What a report is written as.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ReportFormat {
    /// report.pdf
    Pdf,
    /// report.html, one file
    Html,
    /// report_NAME.csv for each of its tables
    Csv,
}

/// In what a report tells lengths and areas.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ReportUnits {
    /// metres and km²
    #[default]
    Metric,
    /// feet and acres, on letter paper
    UsCustomary,
}

/// `[report]`
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ReportSettings {
    /// what it is called; the name of the recipe's file by default
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// PDF by default
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub formats: Vec<ReportFormat>,
    /// metric by default
    #[serde(default)]
    pub units: ReportUnits,
    /// sections in their order; those not named follow in the usual one
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub order: Vec<String>,
    /// sections that are left out
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<String>,
    /// the analyst's own words in sections
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub own: BTreeMap<String, String>,
}

/// What a sheet is written as.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SheetFormat {
    /// vectors, text as text, georeferenced
    Pdf,
    /// the same for editors of drawings
    Svg,
    /// dots
    Png,
}

/// `[[sheets]]`
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SheetSettings {
    /// the file of a sheet, as the application hands it out
    pub template: PathBuf,
    /// name of its files, without ending; that of the template by default
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// PDF by default
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub formats: Vec<SheetFormat>,
    /// resolution of pictures, dots an inch; 300 by default
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dpi: Option<f64>,
}

impl SheetSettings {
    /// Name of its files, without ending.
    pub fn file_name(&self) -> String {
        let of_template = || self.template.file_stem().map(|s| s.to_string_lossy().into_owned());
        self.name.clone().or_else(of_template).unwrap_or_else(|| "sheet".into())
    }
}

/// Checks what a recipe says of pages, before any work begins.
pub(crate) fn check(recipe: &Recipe) -> Result<()> {
    let mut names = HashSet::new();
    for sheet in &recipe.sheets {
        let name = sheet.file_name();
        let plain = |c: char| c.is_alphanumeric() || " -_.()".contains(c);
        if name.trim().is_empty() || name.len() > 100 || name.starts_with('.') || !name.chars().all(plain) {
            let what = format!("“{name}” is no name of a file; letters, digits, spaces, - and _ make one");
            return Err(Error::key("sheets.name", what));
        }
        if !names.insert(name.to_lowercase()) {
            return Err(Error::key(
                "sheets.name",
                format!("two sheets are called “{name}”; name one of them"),
            ));
        }
        if let Some(dpi) = sheet.dpi.filter(|dpi| !(30.0..=1200.0).contains(dpi)) {
            return Err(Error::key("sheets.dpi", format!("{dpi} is out of range, 30 to 1200")));
        }
    }
    Ok(())
}

/// What a run has computed, for those who lay out its pages.
pub struct Ran<'a> {
    /// what was asked for
    pub recipe: &'a Recipe,
    /// what came of it
    pub summary: &'a Summary,
    /// the place of all grids
    pub frame: &'a Frame,
    /// its CRS
    pub crs: &'a Crs,
    /// conditioned ground, metres
    pub ground: &'a Grid<f32>,
    /// the surface that flow was routed on less the prepared DEM, metres; NaN where nothing was changed
    pub change: &'a Grid<f32>,
    /// D8 codes
    pub directions: &'a Grid<u8>,
    /// cells upstream by D8, the cell itself not counted
    pub accumulation: &'a Grid<u32>,
    /// rasters from formulas, with their units
    pub derived: &'a BTreeMap<String, (Grid<f32>, Unit)>,
    /// streams, where they were asked for
    pub network: Option<(Threshold, &'a bothros_core::network::Network)>,
    /// pour points, the first with catchment_id 1
    pub points: &'a [Placed],
    /// catchments, sub-basins, pour points, and what else was asked for
    pub layers: &'a [Layer],
    /// rows of [`MEASURES`](bothros_products::MEASURES)
    pub measures: &'a [Row],
}

impl Ran<'_> {
    /// Lines, areas and points that conditioning was given, by the recipe's key.
    ///
    /// # Errors
    /// [`Error::Data`] where a file cannot be read any more.
    pub fn given(&self) -> Result<Vec<(&'static str, Vec<ReadFeature>)>> {
        let Some(settings) = &self.recipe.conditioning else { return Ok(Vec::new()) };
        let rebuild = settings.rebuild.as_ref();
        let mut all = vec![
            ("breach_lines", settings.breach_lines.as_ref(), Wanted::Lines),
            ("walls", settings.walls.as_ref(), Wanted::Lines),
            ("lakes", settings.lakes.as_ref(), Wanted::Polygons),
            ("rebuild.areas", rebuild.map(|r| &r.areas), Wanted::Polygons),
            ("rebuild.points", rebuild.and_then(|r| r.points.as_ref()), Wanted::Points),
            ("rebuild.contours", rebuild.and_then(|r| r.contours.as_ref()), Wanted::Lines),
            ("burn.streams", settings.burn.as_ref().map(|b| &b.streams), Wanted::Lines),
        ];
        let basins = settings.closed_basins.0.iter();
        all.extend(basins.map(|path| ("closed_basins", Some(path), Wanted::PointsOrPolygons)));
        let mut out = Vec::new();
        for (key, path, wanted) in all {
            if let Some(path) = path {
                let mut told = Vec::new();
                out.push((key, features(self.recipe, key, path, wanted, self.crs, &mut told)?));
            }
        }
        Ok(out)
    }
}

/// Lays out the pages of runs.
pub trait Pages {
    /// Checks what only the pages themselves tell: templates, names of sections.
    ///
    /// # Errors
    /// [`Error::Recipe`] with the key that is wrong.
    fn check(&self, recipe: &Recipe) -> Result<()>;

    /// Writes sheets and report into a folder; returns what did not come out as it was meant.
    ///
    /// # Errors
    /// [`Error::Write`], [`Error::Cancelled`], [`Error::Data`] where a sheet cannot be laid out.
    fn write(&self, ran: &Ran<'_>, dir: &Path, part: &Part<'_>) -> Result<Vec<String>>;
}

/// For programs that lay no pages out.
pub(crate) struct NoPages;

impl Pages for NoPages {
    fn check(&self, recipe: &Recipe) -> Result<()> {
        let key = match (recipe.report.is_some(), recipe.sheets.is_empty()) {
            (true, _) => "report",
            (false, false) => "sheets",
            _ => return Ok(()),
        };
        Err(Error::key(key, "this program lays no pages out"))
    }
    fn write(&self, _: &Ran<'_>, _: &Path, _: &Part<'_>) -> Result<Vec<String>> {
        Ok(Vec::new())
    }
}
