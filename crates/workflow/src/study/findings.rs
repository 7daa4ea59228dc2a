//! Findings about a DEM: what is wrong with it for hydrology, how much and where.

use bothros_core::Cell;
use bothros_formats::{CrsKind, Overlap};
use bothros_products::Units;
use bothros_products::numbers::{count, whole};
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
    /// mend spikes
    Spikes,
    /// give steps of rounding a slope again
    Steps,
    /// declare the sea as outside
    Sea,
    /// raise or lower files to fit those above them
    Level,
    /// fill voids when the DEM is conditioned
    FillVoids,
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

/// Steps that rounding has left in the elevations as they were given.
fn steps(facts: &Facts, units: Units) -> Option<Finding> {
    let source = facts.source.as_ref()?;
    let whole = source.summary.as_ref().is_some_and(|s| s.whole_numbers);
    let terrain = facts.terrain.as_ref();
    // On ground that is not warped, finer steps are told too, where they make level ground.
    let (step, level) = terrain.map_or((None, 0.0), |t| {
        (t.quality.step_m, t.quality.level_cells as f64 / t.summary.cells.max(1) as f64)
    });
    if terrain.is_some_and(|t| t.prepared.steps) {
        return None;
    }
    let what = match (whole, step) {
        (true, _) => "Every elevation is a whole number".to_owned(),
        (false, Some(step)) if level > 0.05 => {
            format!("Every elevation is a multiple of {}", units.size(step))
        }
        _ => return None,
    };
    let text = format!(
        "{what}: gentle ground becomes terraces, on which flow has no slope to follow, and directions over them are \
         conventions, not evidence. Softening gives them a slope again, within half a step of what was given."
    );
    let title = if whole { "Whole-number elevations" } else { "Rounded elevations" };
    Some(finding(Severity::Attention, title, text, terrain.map(|_| Action::Steps)))
}

/// How the files that a DEM is put together from agree.
fn files(facts: &Facts, units: Units) -> Vec<Finding> {
    let Some(source) = &facts.source else { return Vec::new() };
    let mut found = Vec::new();
    // Places are in the CRS of the mosaic, which may not be that of the map.
    let to_map = source
        .grid()
        .3
        .zip(facts.terrain.as_ref())
        .and_then(|(from, terrain)| bothros_formats::Transform::new(from, &terrain.crs).ok());
    let names = source.names();
    found.extend(datums(&names, &source.datums()));
    // Fewer cells, or centimetres, are no news.
    let told = |o: &&Overlap| o.cells >= 10 && o.mean_m.abs() >= 0.05 && !source.level;
    let (overlaps, more) = largest(source.overlaps.iter().filter(told), |o| o.mean_m.abs());
    for overlap in overlaps {
        let name = names.get(overlap.piece as usize).copied().unwrap_or_default();
        let text = format!(
            "{name} lies {} {} the files before it, on the mean of {} that they share (root mean square {}). \
             A constant difference is mostly another height datum.",
            units.height(overlap.mean_m.abs(), 2),
            if overlap.mean_m > 0.0 { "above" } else { "below" },
            count(overlap.cells, "cell", "cells"),
            units.height(overlap.rms_m, 2)
        );
        found.push(finding(Severity::Attention, "Files at different heights", text, Some(Action::Level)));
    }
    if more > 0 {
        let text = format!(
            "{} lie at other heights than those before them, by less than these.",
            count(more, "more file", "more files")
        );
        found.push(finding(Severity::Attention, "Files at different heights", text, Some(Action::Level)));
    }
    let marked = source.seams.iter().filter(|placed| placed.seam.is_marked());
    let (seams, more) = largest(marked, |placed| placed.seam.rough_m);
    for placed in seams {
        let seam = &placed.seam;
        let shift = match seam.is_shifted() {
            true => format!(
                "the second lies {} {} on the mean of {} pairs of cells",
                units.height(seam.step_m.abs(), 2),
                if seam.step_m > 0.0 { "higher" } else { "lower" },
                whole(seam.length)
            ),
            false => format!(
                "neither lies higher as a whole, by {} pairs of cells, but the ground is rougher than beside the seam",
                whole(seam.length)
            ),
        };
        let text = format!(
            "Where {} meets {}, {shift}; steps are {} in size on the mean, {} beside the seam, {} at most. Water may pond or \
             follow the seam.",
            placed.names[0],
            placed.names[1],
            units.height(seam.rough_m, 2),
            units.height(seam.usual_m, 2),
            units.height(seam.largest_m.abs(), 2)
        );
        let at =
            to_map.as_ref().and_then(|t| t.point(placed.x, placed.y).ok()).or(Some((placed.x, placed.y)));
        found.push(Finding { at, ..finding(Severity::Attention, "Seam between files", text, None) });
    }
    if more > 0 {
        let text = format!(
            "{} stand out from the ground beside them, with smaller steps than these; the map draws where files meet.",
            count(more, "more seam", "more seams")
        );
        found.push(finding(Severity::Attention, "Seam between files", text, None));
    }
    if !source.more.is_empty() && source.mosaic.as_ref().is_some_and(|m| !m.exact) {
        let text = format!("The files do not lie on one grid: {}.", source.notes.join("; "));
        found.push(finding(Severity::Note, "Files brought to one grid", text, None));
    }
    found
}

/// Of many findings of one kind those that matter most, the first of equals first, and how many more there are.
fn largest<'a, T>(all: impl Iterator<Item = &'a T>, size: impl Fn(&T) -> f64) -> (Vec<&'a T>, u64) {
    const MOST_ALIKE: usize = 12;
    let mut all: Vec<&T> = all.collect();
    if all.len() <= MOST_ALIKE {
        return (all, 0);
    }
    all.sort_by(|a, b| size(b).total_cmp(&size(a)));
    let more = all.split_off(MOST_ALIKE).len();
    (all, more as u64)
}

/// Heights that are counted from different levels, or from nobody knows what, are not put together in silence.
fn datums(names: &[&str], stated: &[Option<&str>]) -> Option<Finding> {
    if names.len() < 2 {
        return None;
    }
    let same = |a: &str, b: &str| a.eq_ignore_ascii_case(b);
    let first = stated.iter().flatten().next();
    let other = first.and_then(|first| stated.iter().flatten().find(|d| !same(d, first)));
    if let (Some(first), Some(other)) = (first, other) {
        let text = format!(
            "Heights of some files are counted from {first}, of others from {other}. They are put together as they are: bring them to one datum before, or look at the steps where they \
             meet and fit them in height."
        );
        return Some(finding(Severity::Attention, "Different vertical datums", text, None));
    }
    let unknown: Vec<&str> =
        names.iter().zip(stated).filter(|(_, datum)| datum.is_none()).map(|(name, _)| *name).collect();
    if unknown.is_empty() {
        return None;
    }
    let text = format!(
        "What heights are counted from is not stated of {}. Files of different datums differ by a constant or more; state it under Files.",
        match unknown.len() {
            n if n == names.len() => "any file".to_owned(),
            1 => unknown[0].to_owned(),
            n => format!("{} and {}", unknown[0], count(n as u64 - 1, "more", "more")),
        }
    );
    Some(finding(Severity::Note, "Vertical datum not stated", text, None))
}

/// Spikes, level ground, the sea.
fn doubtful(terrain: &crate::TerrainFacts, units: Units) -> Vec<Finding> {
    let (quality, frame) = (&terrain.quality, &terrain.frame);
    let cells = terrain.summary.cells.max(1) as f64;
    let mut found = Vec::new();
    if let Some(worst) = quality.worst_spikes.first() {
        let text = format!(
            "{} far out of all around; the worst stands {} {} its neighbours. Upwards they divert flow, downwards they \
             swallow it.",
            count(quality.spikes, "single cell stands", "single cells stand"),
            units.height(worst.above_m.abs().into(), 1),
            if worst.above_m > 0.0 { "above" } else { "below" },
        );
        let at = Some(frame.centre(worst.at));
        found.push(Finding { at, ..finding(Severity::Attention, "Spikes", text, Some(Action::Spikes)) });
    }
    if let Some(sea) = &quality.sea {
        let text = format!(
            "Level ground of {} at {} reaches the edge of the footprint: it looks like the sea. As outside, each stream ends \
             at the shore by itself.",
            units.area(frame.area_of(sea.cells).as_m2()),
            units.height(sea.elevation_m.into(), 2)
        );
        let at = Some(frame.centre(sea.at));
        found.push(Finding { at, ..finding(Severity::Attention, "Sea", text, Some(Action::Sea)) });
    }
    let share = quality.level_cells as f64 / cells * 100.0;
    let largest = quality.level_patches.iter().find(|p| Some(p.at) != quality.sea.map(|s| s.at));
    if share >= 0.5
        && let Some(largest) = largest
    {
        let text = format!(
            "{share:.1} % of the cells are level with all their neighbours; the largest level ground has {} at {}. Lakes and \
             flattened water are level; elsewhere streams over level ground are conventions.",
            units.area(frame.area_of(largest.cells).as_m2()),
            units.height(largest.elevation_m.into(), 2)
        );
        let at = Some(frame.centre(largest.at));
        let severity = if share >= 10.0 { Severity::Attention } else { Severity::Note };
        found.push(Finding { at, ..finding(severity, "Level ground", text, None) });
    }
    found
}

/// The findings of the Terrain stage, the most serious first, with numbers in `units`.
pub fn findings(facts: &Facts, units: Units) -> Vec<Finding> {
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
                    match source.cell_m() {
                        Some((east, north)) => format!(
                            "Cells are measured in degrees, {} east-west and {} north-south on the ground: slopes and areas cannot \
                             be computed on them. Reproject the DEM to a projected CRS.",
                            units.height(east, 1),
                            units.height(north, 1)
                        ),
                        None => "Cells are measured in degrees: slopes and areas cannot be computed on them. Reproject the DEM to a \
                                 projected CRS."
                            .into(),
                    },
                    Some(Action::Warp),
                ));
            } else if !source.is_ready() && !source.info.is_north_up() {
                found.push(finding(
                    Severity::Blocking,
                    "Turned grid",
                    "Rows do not run from west to east. Reproject the DEM to a north-up grid.".into(),
                    Some(Action::Warp),
                ));
            } else if !source.is_ready() {
                let [_, width, _, _, _, height] = source.info.geo_transform;
                let text = format!(
                    "Cells are {} x {} {}: flow directions need squares. Reproject the DEM to square cells.",
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
    found.extend(steps(facts, units));
    found.extend(files(facts, units));
    if let Some(terrain) = &facts.terrain {
        let summary = &terrain.summary;
        if summary.voids > 0 {
            let at = summary.largest_voids.first().map(|v| terrain.frame.centre(v.at));
            let area = terrain.frame.area_of(summary.void_cells);
            let text = format!(
                "{} without elevations inside the terrain, {} ({}) in all.",
                count(summary.voids, "hole", "holes"),
                count(summary.void_cells, "cell", "cells"),
                units.area(area.as_m2())
            );
            let text = match facts.settings.conditioning.fill_voids {
                false => format!(
                    "{text} They count as outside: water drains into them. Where the ground goes on, have them filled."
                ),
                true => format!("{text} They are filled from their rim when the DEM is conditioned."),
            };
            let action = (!facts.settings.conditioning.fill_voids).then_some(Action::FillVoids);
            let severity = if action.is_some() { Severity::Attention } else { Severity::Note };
            found.push(Finding { at, ..finding(severity, "Voids", text, action) });
        }
        found.extend(doubtful(terrain, units));
        if let Some((rows, cols)) = terrain.full_rectangle {
            let share = rows as f64 * cols as f64 / summary.cells as f64;
            let text = format!(
                "Part of the raster's rim has no elevations. The largest full rectangle has {cols} x {rows} cells, {:.0} % of what there is.",
                share * 100.0
            );
            found.push(finding(Severity::Note, "Ragged rim", text, Some(Action::Crop)));
        }
    } else if let Some(summary) = source.summary.as_ref().filter(|s| s.voids > 0) {
        let (_, _, [left, width, _, top, _, height], _) = source.grid();
        let centre = |cell: Cell| {
            (left + (cell.col as f64 + 0.5) * width.abs(), top - (cell.row as f64 + 0.5) * height.abs())
        };
        let at = summary.largest_voids.first().map(|v| centre(v.at));
        let text = format!(
            "{} without elevations, {} in all.",
            count(summary.voids, "hole", "holes"),
            count(summary.void_cells, "cell", "cells")
        );
        found.push(Finding { at, ..finding(Severity::Attention, "Voids", text, None) });
    }
    if found.iter().all(|f| f.severity >= Severity::Note) && facts.terrain.is_some() {
        let text = "Projected, square cells, north up: the DEM can be conditioned as it is.".to_owned();
        found.push(finding(Severity::Good, "Fit to go on", text, None));
    }
    found.sort_by_key(|f| f.severity);
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn datums_that_differ_or_are_not_known_are_told() {
        let names = ["north.tif", "south.tif", "west.tif"];
        let title =
            |stated: &[Option<&str>]| datums(&names[..stated.len()], stated).map(|f| (f.title, f.text));
        assert_eq!(title(&[None]), None, "one file has nothing to differ from");
        assert_eq!(title(&[Some("EGM2008"), Some("egm2008")]), None);
        let (told, text) = title(&[Some("EGM2008"), None, Some("EVRF2019")]).unwrap();
        assert_eq!(told, "Different vertical datums");
        assert!(text.contains("EGM2008") && text.contains("EVRF2019"), "{text}");
        let (told, text) = title(&[Some("EGM2008"), None]).unwrap();
        assert_eq!(told, "Vertical datum not stated");
        assert!(text.contains("of south.tif."), "{text}");
        assert!(title(&[None, None, None]).unwrap().1.contains("of any file"));
    }
}
