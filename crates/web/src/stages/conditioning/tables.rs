//! The tables of the stage: crossings of barriers, sinks.

use askama::Template;
use bothros_core::Frame;
use bothros_core::conditioning::SinkReport;
use bothros_products::{CROSSINGS, SINKS, Table};
use bothros_workflow::{BarrierFacts, Facts};

use super::barrier::decided;
use crate::App;
use crate::http::error::{Result, WebError};
use crate::ui::quantity;
use crate::ui::table::{Entry, Listing};

/// The tables of the stage, in the order of their tabs.
pub const TABLES: &[&Table] = &[&CROSSINGS, &SINKS];

/// A table of the stage with its rows.
///
/// # Errors
/// Where the table needs a step that was not done.
pub async fn listing(app: &App, facts: &Facts, table: &Table) -> Result<Listing> {
    if table.name == CROSSINGS.name {
        let known = app.store.barriers(facts.study).await?;
        let known: Vec<BarrierFacts> =
            known.iter().map(BarrierFacts::of).collect::<bothros_workflow::Result<_>>()?;
        let empty = match facts.review {
            Some(_) => "No significant sink lies behind a narrow raised line.",
            None => "Crossings are not looked for yet: “Find sinks and barriers” on the desk does.",
        };
        return crossings(facts.study, &known, empty);
    }
    let report = facts.review.as_ref().map(|r| &r.sinks).or(facts.routing.as_ref().map(|r| &r.sinks));
    let (Some(report), Some(terrain)) = (report, facts.terrain.as_ref()) else {
        return Ok(Listing::plain(
            &SINKS,
            Vec::new(),
            "Sinks are not looked for yet: “Find sinks and barriers” on the desk does.",
        ));
    };
    let runoff_mm = facts.review.as_ref().map_or(&[][..], |r| &r.runoff_mm);
    Ok(sinks(report, runoff_mm, &terrain.frame))
}

fn sinks(report: &SinkReport, runoff_mm: &[f64], frame: &Frame) -> Listing {
    let entry = |(at, sink): (usize, &bothros_core::conditioning::Sink)| {
        let (x, y) = frame.centre(sink.bottom);
        Entry {
            key: (at + 1).to_string(),
            at: Some([x, y]),
            row: vec![
                (at as u32 + 1).into(),
                f64::from(sink.spill_level_m - sink.depth_m).into(),
                f64::from(sink.depth_m).into(),
                sink.area.as_m2().into(),
                sink.volume_m3.into(),
                runoff_mm.get(at).copied().into(),
            ],
            acts: String::new(),
        }
    };
    let listed = report.largest.len() as u64;
    let note = (listed < report.sinks).then(|| {
        format!("The {} largest by volume of {}.", quantity::whole(listed), quantity::whole(report.sinks))
    });
    Listing {
        note,
        ..Listing::plain(
            &SINKS,
            report.largest.iter().enumerate().map(entry).collect(),
            "There is no sink: the DEM drains as it is.",
        )
    }
}

/// What can be decided about a crossing.
#[derive(Template)]
#[template(path = "stages/conditioning/crossing_acts.html")]
struct Acts {
    study: i64,
    id: i64,
    decision: &'static str,
}

fn crossings(study: i64, known: &[BarrierFacts], empty: &str) -> Result<Listing> {
    let mut entries = Vec::new();
    for (b, number) in known.iter().zip(1u32..) {
        let found = &b.barrier;
        let decision = decided(b.decision);
        let acts = Acts { study, id: b.id, decision };
        entries.push(Entry {
            key: b.id.to_string(),
            at: Some(found.crest),
            row: vec![
                number.into(),
                found.score.into(),
                found.height_m.into(),
                found.width_m.into(),
                found.sink_volume_m3.into(),
                found.contributing.as_km2().into(),
                found.culvert_m.into(),
                found.stream_m.into(),
                Some(decision).filter(|d| !d.is_empty()).map(str::to_owned).into(),
                b.found.into(),
            ],
            acts: acts.render().map_err(|e| WebError::from(std::io::Error::other(e)))?,
        });
    }
    Ok(Listing {
        hidden: if known.iter().all(|b| b.found) { &["found"] } else { &[] },
        acts: Some("Decide"),
        ..Listing::plain(&CROSSINGS, entries, empty)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::conditioning::{fill, list_sinks};
    use bothros_core::{Grid, Silent};
    use bothros_formats::Value;

    #[test]
    fn a_sink_is_told_by_its_bottom_depth_area_and_volume() {
        // A plane that falls to the south with two pits, on cells of 10 m: the larger holds 2 m on one cell.
        let frame = Frame { rows: 9, cols: 9, left: 0.0, top: 90.0, cell_size: 10.0, unit_m: 1.0 };
        let dem = Grid::from_fn(9, 9, |c| match (c.row, c.col) {
            (2, 2) => 100.0 - 3.0 - 0.5,
            (6, 6) => 100.0 - 7.0 - 2.0,
            (row, _) => 100.0 - row as f32,
        });
        let filled = fill(&dem, &Silent).unwrap();
        let report = list_sinks(&dem, &filled, &frame, 10, &Silent).unwrap();
        let listed = sinks(&report, &[4.5], &frame);
        assert_eq!(listed.entries.len(), report.largest.len());
        assert!(listed.note.is_none());
        let first = &listed.entries[0];
        assert_eq!(first.at, Some([65.0, 25.0]));
        assert_eq!(first.row[1], Value::Real(91.0));
        assert_eq!(first.row[3], Value::Real(100.0));
        assert_eq!(first.row[5], Value::Real(4.5));
        let (Value::Real(depth), Value::Real(volume)) = (&first.row[2], &first.row[4]) else {
            panic!("depth and volume are numbers");
        };
        assert!((volume - depth * 100.0).abs() < 1e-9);
        // What was not measured stays empty.
        if let Some(second) = listed.entries.get(1) {
            assert_eq!(second.row[5], Value::Null);
        }
    }
}
