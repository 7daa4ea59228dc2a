//! What is wrong with a DEM for hydrology, how much and where, in plain words.

use bothros_core::Cell;
use bothros_formats::CrsKind;
use serde::Serialize;

use crate::Facts;

/// How much a finding matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Severity {
    /// work cannot go on before it is mended
    Blocking,
    /// results suffer
    Attention,
    /// worth knowing
    Note,
    /// as it should be
    Good,
}

/// What mends a finding.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Action {
    /// say which band holds the elevations
    ChooseBand,
    /// say which CRS the coordinates are in
    ChooseCrs,
    /// warp to a projected CRS on square cells
    Warp,
    /// say what unit the elevations have
    VerticalUnit,
    /// crop to the largest full rectangle
    Crop,
}

/// Something found.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Finding {
    /// how much it matters
    pub severity: Severity,
    /// in a few words
    pub title: String,
    /// what it means and what to do
    pub text: String,
    /// where, in the coordinates of the map
    pub at: Option<(f64, f64)>,
    /// what mends it
    pub action: Option<Action>,
}

fn finding(severity: Severity, title: &str, text: String, action: Option<Action>) -> Finding {
    Finding { severity, title: title.into(), text, at: None, action }
}

/// The findings of the Terrain stage, the gravest first.
pub fn findings(facts: &Facts) -> Vec<Finding> {
    let mut found = Vec::new();
    let Some(source) = &facts.source else { return found };
    if source.band.is_none() {
        let text =
            format!("The file has {} bands. Say which one holds the elevations.", source.info.bands.len());
        found.push(finding(Severity::Blocking, "Several bands", text, Some(Action::ChooseBand)));
    }
    match &source.crs {
        None => found.push(finding(
            Severity::Blocking,
            "No CRS",
            "The file does not say which coordinates it is in, so no distance or area can be trusted. Choose its CRS.".into(),
            Some(Action::ChooseCrs),
        )),
        Some(crs) if facts.terrain.is_none() => {
            if crs.kind == CrsKind::Geographic {
                found.push(finding(
                    Severity::Blocking,
                    "Geographic coordinates",
                    "Cells are measured in degrees: they are no squares on the ground, and slopes and areas cannot be computed. \
                     Warp the DEM to a projected CRS."
                        .into(),
                    Some(Action::Warp),
                ));
            } else if !source.info.is_north_up() {
                found.push(finding(
                    Severity::Blocking,
                    "Turned grid",
                    "Rows do not run from west to east. Warp the DEM to a north-up grid.".into(),
                    Some(Action::Warp),
                ));
            } else if !source.info.is_square() {
                let [_, width, _, _, _, height] = source.info.geo_transform;
                let text = format!(
                    "Cells are {} x {} {}: flow directions need squares. Warp the DEM to square cells.",
                    width.abs(),
                    height.abs(),
                    crs.unit
                );
                found.push(finding(Severity::Blocking, "Cells that are not square", text, Some(Action::Warp)));
            }
        }
        Some(_) => {}
    }
    if let Some(band) = source.band
        && source.info.vertical_unit(band).is_none()
    {
        let text = format!(
            "The file does not say what unit its elevations have; {} is taken.",
            match source.vertical_unit {
                bothros_formats::VerticalUnit::Metre => "the metre",
                bothros_formats::VerticalUnit::Foot => "the foot",
                bothros_formats::VerticalUnit::UsSurveyFoot => "the US survey foot",
            }
        );
        found.push(finding(Severity::Note, "Vertical unit not declared", text, Some(Action::VerticalUnit)));
    }
    if source.summary.as_ref().is_some_and(|s| s.whole_numbers) {
        found.push(finding(
            Severity::Attention,
            "Whole-number elevations",
            "Every elevation is a whole number: gentle ground becomes terraces, on which flow has no slope to follow. \
             Directions over them are conventions, not evidence."
                .into(),
            None,
        ));
    }
    if let Some(terrain) = &facts.terrain {
        let summary = &terrain.summary;
        if summary.voids > 0 {
            let at = summary.largest_voids.first().map(|v| terrain.frame.centre(v.at));
            let area = terrain.frame.area_of(summary.void_cells);
            let text = format!(
                "{} {} without elevations inside the terrain, {} cells ({:.4} km²) in all. They count as outside: water drains into them.",
                summary.voids,
                if summary.voids == 1 { "hole" } else { "holes" },
                summary.void_cells,
                area.as_km2()
            );
            found.push(Finding { at, ..finding(Severity::Attention, "Voids", text, None) });
        }
        if let Some((rows, cols)) = terrain.full_rectangle {
            let share = rows as f64 * cols as f64 / summary.cells as f64;
            let text = format!(
                "Part of the raster's rim has no elevations. The largest full rectangle has {cols} x {rows} cells, {:.0} % of what there is.",
                share * 100.0
            );
            found.push(finding(Severity::Note, "Ragged rim", text, Some(Action::Crop)));
        }
    } else if let Some(summary) = source.summary.as_ref().filter(|s| s.voids > 0) {
        let [left, width, _, top, _, height] = source.info.geo_transform;
        let centre = |cell: Cell| {
            (left + (cell.col as f64 + 0.5) * width.abs(), top - (cell.row as f64 + 0.5) * height.abs())
        };
        let at = summary.largest_voids.first().map(|v| centre(v.at));
        let text =
            format!("{} holes without elevations, {} cells in all.", summary.voids, summary.void_cells);
        found.push(Finding { at, ..finding(Severity::Attention, "Voids", text, None) });
    }
    if found.iter().all(|f| f.severity >= Severity::Note) && facts.terrain.is_some() {
        let text = "Projected, square cells, north up: the DEM can be conditioned as it is.".to_owned();
        found.push(finding(Severity::Good, "Fit to go on", text, None));
    }
    found.sort_by_key(|f| f.severity);
    found
}
