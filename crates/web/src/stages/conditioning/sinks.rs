//! The sinks of a DEM on the desk: the largest, and what they hold.

use bothros_core::Frame;
use bothros_core::conditioning::SinkReport;

use super::desk::SHOWN;
use crate::ui::quantity;

pub struct SinkRow {
    pub number: usize,
    pub depth: String,
    pub area: String,
    pub volume: String,
    /// depth of runoff from all that drains there that would fill it
    pub runoff: String,
    pub x: f64,
    pub y: f64,
}

/// The largest sinks; all that are listed are in the table.
pub fn sink_rows(report: &SinkReport, runoff_mm: &[f64], frame: &Frame) -> Vec<SinkRow> {
    let row = |(at, s): (usize, &bothros_core::conditioning::Sink)| {
        let (x, y) = frame.centre(s.bottom);
        SinkRow {
            number: at + 1,
            depth: quantity::metres(s.depth_m),
            area: quantity::area(s.area.as_m2()),
            volume: quantity::volume(s.volume_m3),
            runoff: runoff_mm.get(at).map_or("–".into(), |&mm| quantity::rain(mm)),
            x,
            y,
        }
    };
    report.largest.iter().take(SHOWN).enumerate().map(row).collect()
}

/// The number of sinks that hold most of the volume, and their share.
pub fn what_matters(report: &SinkReport) -> Option<String> {
    let Some((needed, held)) = report.holding_most else {
        // A report of an earlier version has only the largest.
        return (report.volume_m3 > 0.0).then(|| {
            let (sinks, volume) =
                (quantity::count(report.sinks, "sink", "sinks"), quantity::volume(report.volume_m3));
            format!("{sinks} hold {volume}.")
        });
    };
    Some(format!(
        "{} of {} sinks hold {:.0} % of the volume.",
        quantity::whole(needed),
        quantity::whole(report.sinks),
        held * 100.0
    ))
}
