//! What the desk tells of files, of other DEMs of the same area, and of pictures behind the map.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Html;
use bothros_formats::Crs;
use bothros_workflow::{Facts, PicturePlace, Preparing};

use crate::App;
use crate::http::error::Result;
use crate::shell::desk::{Fact, fact};
use crate::ui::{quantity, render};

/// A file of the DEM.
pub(super) struct FileRow {
    pub place: usize,
    pub name: String,
    pub about: String,
    pub first: bool,
    pub last: bool,
    pub removable: bool,
    pub provenance: bothros_workflow::Provenance,
}

/// Files of the DEM that are shown at once; more are shown when asked for.
const SHOWN: usize = 20;

/// The files of the DEM in their order, or the first of them.
pub(super) struct FileRows {
    pub rows: Vec<FileRow>,
    pub count: usize,
}

impl FileRows {
    /// How many are not shown.
    pub fn rest(&self) -> usize {
        self.count - self.rows.len()
    }
}

#[derive(Template)]
#[template(path = "stages/terrain/files.html")]
struct FileList {
    study: i64,
    files: FileRows,
}

/// All files of the DEM, where the desk shows the first.
pub async fn all_files(State(app): State<App>, Path(study): Path<i64>) -> Result<Html<String>> {
    let facts = Facts::of(&app.store.study(study).await?)?;
    Ok(Html(render(&FileList { study, files: file_rows(&facts, usize::MAX) })?))
}

/// The first files of the DEM.
pub(super) fn first_files(facts: &Facts) -> FileRows {
    file_rows(facts, SHOWN)
}

fn file_rows(facts: &Facts, most: usize) -> FileRows {
    let Some(source) = &facts.source else { return FileRows { rows: Vec::new(), count: 0 } };
    let order = source.order();
    let row = |(place, &number): (usize, &usize)| {
        let (name, info, bytes, crs, unit, provenance) = match number.checked_sub(1).map(|n| &source.more[n])
        {
            None => {
                let s = source;
                (&s.file, &s.info, s.bytes, s.crs.as_ref(), s.vertical_unit, &s.provenance)
            }
            Some(f) => (&f.file, &f.info, f.bytes, Some(&f.crs), f.vertical_unit, &f.provenance),
        };
        let [_, width, _, _, _, _] = info.geo_transform;
        let about = format!(
            "{} × {} cells of {} {}, {}, elevations in {}, {}",
            quantity::whole(info.cols as u64),
            quantity::whole(info.rows as u64),
            quantity::plain(width.abs()),
            crs.map_or("units", |c| quantity::unit(&c.unit)),
            crs.map_or("CRS unknown".into(), Crs::label),
            unit.code(),
            quantity::bytes(bytes)
        );
        FileRow {
            place,
            name: name.clone(),
            about,
            first: place == 0,
            last: place + 1 == order.len(),
            removable: number != 0,
            provenance: provenance.clone(),
        }
    };
    FileRows { rows: order.iter().enumerate().take(most).map(row).collect(), count: order.len() }
}

pub(super) fn source_facts(facts: &Facts) -> Vec<Fact> {
    let mut out = Vec::new();
    if let Some(source) = &facts.source {
        let bytes = source.bytes + source.more.iter().map(|file| file.bytes).sum::<u64>();
        out.push(fact(
            "File",
            format!("{} ({}, {})", source.title(), source.info.format, quantity::bytes(bytes)),
        ));
        let crs = source.crs.as_ref().map_or("unknown".into(), Crs::label);
        out.push(fact("CRS", if source.crs_chosen { format!("{crs} (chosen by hand)") } else { crs }));
        if facts.terrain.as_ref().is_none_or(|t| t.prepared != Preparing::default()) {
            // Of all files together, where there are several.
            let (rows, cols, [_, width, _, _, _, height], _) = source.grid();
            let title =
                if source.more.is_empty() { "Cells of the file" } else { "Cells of the files together" };
            let size = match source.cell_m() {
                Some((east, north)) => format!(
                    "{} east-west, {} north-south",
                    quantity::metres_to(east, 1),
                    quantity::metres_to(north, 1)
                ),
                None => format!(
                    "{} × {} {}",
                    quantity::plain(width.abs()),
                    quantity::plain(height.abs()),
                    source.crs.as_ref().map_or("units", |c| quantity::unit(&c.unit))
                ),
            };
            let count = format!("{} × {}", quantity::whole(cols as u64), quantity::whole(rows as u64));
            out.push(fact(title, format!("{count} of {size}")));
        }
        if let Some(band) = source.band.and_then(|b| source.info.bands.get(b - 1)) {
            let nodata = band.nodata.map_or("none declared".into(), |n| {
                if n.is_nan() { "not a number".into() } else { format!("{n}") }
            });
            out.push(fact("Values", format!("{}, nodata {nodata}", band.value_type)));
        }
        out.push(fact(
            "Vertical unit",
            match source.vertical_unit.code() {
                "m" => "metre",
                "ft" => "foot, converted to metres",
                _ => "US survey foot, converted to metres",
            },
        ));
    }
    if let Some(terrain) = &facts.terrain {
        let frame = &terrain.frame;
        for done in &terrain.done {
            out.push(fact("Prepared", done.clone()));
        }
        out.push(fact(
            "Grid",
            format!(
                "{} × {} cells of {} {}",
                quantity::whole(frame.cols as u64),
                quantity::whole(frame.rows as u64),
                quantity::plain(frame.cell_size),
                quantity::unit(&terrain.crs.unit)
            ),
        ));
        let [west, south, east, north] = frame.extent();
        out.push(fact("Extent", format!("E {west:.1} – {east:.1}, N {south:.1} – {north:.1}")));
        out.push(fact("Footprint", quantity::area(frame.area_of(terrain.summary.cells).as_m2())));
    }
    let summary =
        facts.terrain.as_ref().map(|t| &t.summary).or(facts.source.as_ref().and_then(|s| s.summary.as_ref()));
    if let Some(s) = summary {
        out.push(fact(
            "Elevations",
            format!(
                "{} to {}, mean {}",
                quantity::metres(s.lowest_m),
                quantity::metres(s.highest_m),
                quantity::metres(s.mean_m)
            ),
        ));
        let share = s.nodata_cells as f64 / (s.cells + s.nodata_cells) as f64 * 100.0;
        out.push(fact(
            "Nodata",
            if s.nodata_cells == 0 {
                "none".into()
            } else {
                format!(
                    "{} cells ({} %), {} in voids",
                    quantity::whole(s.nodata_cells),
                    quantity::real(share, 2),
                    quantity::whole(s.void_cells)
                )
            },
        ));
    }
    out
}

/// A DEM that is not the one at work.
pub(super) struct CandidateRow {
    pub id: i64,
    pub name: String,
    pub about: String,
}

pub(super) async fn candidate_rows(app: &App, study: i64) -> Result<Vec<CandidateRow>> {
    let parked = app.store.candidates(study).await?;
    let about = |c: &bothros_store::Dem| -> String {
        let frame: Option<bothros_core::Frame> =
            c.terrain.as_ref().and_then(|t| serde_json::from_value(t["frame"].clone()).ok());
        let size = frame.map_or("not prepared yet".into(), |f| {
            format!("{}, {}", quantity::size(f.cell_m()), quantity::count(f.cells() as u64, "cell", "cells"))
        });
        let reached = match (&c.network, &c.review) {
            (Some(_), _) => ", routed",
            (None, Some(_)) => ", reviewed",
            _ => "",
        };
        format!("{size}{reached}")
    };
    Ok(parked.iter().map(|c| CandidateRow { id: c.id, name: c.name.clone(), about: about(c) }).collect())
}

/// A picture behind the map.
pub(super) struct BackdropRow {
    pub id: i64,
    pub name: String,
    pub about: String,
    pub placed: bool,
    /// whether its place is the analyst's to say
    pub by_points: bool,
}

pub(super) fn backdrop_row(backdrop: bothros_store::Backdrop) -> Result<BackdropRow> {
    let place = PicturePlace::of(&backdrop)?;
    let by_points = place.as_ref().is_none_or(|p| !p.points.is_empty());
    let source = backdrop.provenance["source"].as_str().unwrap_or_default();
    let about = format!(
        "{} × {} pixels{}{}",
        backdrop.width,
        backdrop.height,
        if source.is_empty() { String::new() } else { format!(", {source}") },
        match &place {
            None => ", not placed yet".to_owned(),
            Some(p) if p.points.len() == 3 => ", placed by 3 points".to_owned(),
            Some(p) if !p.points.is_empty() => format!(
                ", placed by {} points within {}",
                p.points.len(),
                quantity::length(p.rms.unwrap_or_default())
            ),
            Some(_) => String::new(),
        }
    );
    Ok(BackdropRow { id: backdrop.id, name: backdrop.name, about, placed: place.is_some(), by_points })
}
