//! The steps, in their order.

use bothros_core::conditioning::fill_voids;
use bothros_core::terrain::{
    Spike, examine, largest_full_rectangle, mend_spikes, remove_level, soften_steps,
};
use bothros_core::{Frame, Grid, Monitor, Part};
use bothros_formats::{Crs, Placed, Transform, plan_warp, warp_onto};

use crate::choices::kept_cells;
use crate::{Error, Preparing, Read, Result};

/// Spikes that hid behind greater ones come out in the next round.
const ROUNDS: usize = 4;

/// A prepared DEM.
pub struct Prepared {
    /// elevations, metres
    pub values: Grid<f32>,
    /// its CRS
    pub crs: Crs,
    /// its place
    pub frame: Frame,
    /// what preparation did, in words
    pub done: Vec<String>,
    /// spikes as they lay in the files, worst first, as cells of [`Prepared::frame`]: warping smears them
    pub spikes: Vec<Spike>,
}

/// Prepares elevations (metres, `NaN` for nodata) as they were read.
///
/// # Errors
/// Those of [`Preparing::place`]; [`bothros_core::Error::NoData`] where a full rectangle is asked of nothing, and cancellation.
pub fn prepare(
    mut values: Grid<f32>,
    read: &Read,
    how: &Preparing,
    monitor: &dyn Monitor,
) -> Result<Prepared> {
    let place = how.place(read)?;
    let unit_m = read.vertical_unit.metres();
    let mut done = Vec::new();
    let Read { rows, cols, geo_transform, crs, .. } = *read;
    let from = crs.ok_or(Error::NoCrs)?;
    let part = |a: f64, b: f64| Part::new(monitor, a, b);
    // In degrees the ground that a cell covers stands for its size.
    let cell_size = match read.frame() {
        Some(frame) => frame.cell_size,
        None => plan_warp(rows, cols, geo_transform, from, &place.crs)?.native_cell_size,
    };
    let rough = Frame { rows, cols, left: 0.0, top: 0.0, cell_size, unit_m: place.crs.unit_m };
    // Each as it lies in the files: a spike before a void is filled from it or warping smears it, a sea while it is level and before it could pass for a void, a void
    // before warping widens it, and steps of rounding at last, on ground that is whole.
    let mut spikes = Vec::new();
    if how.spikes {
        let mut mended = 0;
        for _ in 0..ROUNDS {
            let spikes = examine(&values, &rough, unit_m, &part(0.0, 0.05))?.worst_spikes;
            if spikes.is_empty() {
                break;
            }
            mended += spikes.len();
            mend_spikes(&mut values, &spikes);
        }
        done.push(format!("{mended} spikes replaced by the median of their neighbours"));
    } else if place.warped {
        let found = examine(&values, &rough, unit_m, &part(0.0, 0.05))?;
        spikes = found.worst_spikes;
    }
    let sea = if how.sea { examine(&values, &rough, unit_m, &part(0.05, 0.1))?.sea } else { None };
    if let Some(sea) = &sea {
        let removed = remove_level(&mut values, sea);
        let area = rough.area_of(removed).as_km2();
        done.push(format!("sea of {area:.3} km² at {:.2} m declared as outside", sea.elevation_m));
    }
    // Looked for before voids are filled with elevations that were never rounded.
    let step = if how.steps { examine(&values, &rough, unit_m, &part(0.1, 0.12))?.step_m } else { None };
    if how.voids {
        let (whole, filled) = fill_voids(&values, &part(0.12, 0.15))?;
        values = whole;
        done.push(match filled {
            0 => "no void was found".into(),
            cells => format!("voids of {cells} cells filled smoothly from their rim"),
        });
    }
    if how.steps {
        match step {
            Some(step) => {
                let moved = soften_steps(&mut values, step, &part(0.15, 0.35))?;
                done.push(format!("{moved} cells moved by up to {} m, half a step of rounding", step / 2.0));
            }
            None => done.push("no step of rounding was found".into()),
        }
    }
    let mut frame = place.frame;
    if place.warped {
        let placed = Placed { values: &values, geo_transform, crs: from };
        values = warp_onto(&placed, &place.crs, &frame, how.resampling, &part(0.35, 0.7))?;
        done.push(format!(
            "reprojected from {} to {} on cells of {} ({})",
            from.label(),
            place.crs.label(),
            frame.cell_size,
            how.resampling.code()
        ));
    }
    if let (Some((row, col, rows, cols)), Some(polygons)) = (place.window, &place.clip) {
        values = values.window(row, col, rows, cols);
        frame = place.clipped();
        for (value, keep) in values.values_mut().iter_mut().zip(kept_cells(polygons, &frame)) {
            if !keep {
                *value = f32::NAN;
            }
        }
        let name = how.clip.as_ref().map_or("", |c| c.name.as_str());
        done.push(format!("clipped to {name}: {cols} x {rows} cells"));
    }
    // One that is level only on the grid that it was brought to, or once the rest is clipped away.
    if how.sea && sea.is_none() {
        match examine(&values, &frame, unit_m, &part(0.7, 0.75))?.sea {
            Some(sea) => {
                let removed = remove_level(&mut values, &sea);
                let area = frame.area_of(removed).as_km2();
                done.push(format!("sea of {area:.3} km² at {:.2} m declared as outside", sea.elevation_m));
            }
            None => done.push("no sea was found".into()),
        }
    }
    if how.full_rectangle {
        let keep = largest_full_rectangle(&values).ok_or(bothros_core::Error::NoData)?;
        values = values.window(keep.row, keep.col, keep.rows, keep.cols);
        frame = frame.window(keep.row, keep.col, keep.rows, keep.cols);
        done.push(format!("cropped to the largest full rectangle, {} x {} cells", keep.cols, keep.rows));
    }
    let spikes = match how.full_rectangle {
        true => Vec::new(),
        false => brought(&spikes, geo_transform, &Transform::new(from, &place.crs)?, &frame),
    };
    Ok(Prepared { values, crs: place.crs, frame, done, spikes })
}

/// Spikes of a grid as cells of the one that it was brought to, without those that lie outside it.
fn brought(spikes: &[Spike], geo: [f64; 6], to: &Transform, frame: &Frame) -> Vec<Spike> {
    let place = |spike: &Spike| {
        let (col, row) = (spike.at.col as f64 + 0.5, spike.at.row as f64 + 0.5);
        let (x, y) = (geo[0] + col * geo[1] + row * geo[2], geo[3] + col * geo[4] + row * geo[5]);
        let (x, y) = to.point(x, y).ok()?;
        Some(Spike { at: frame.cell_at(x, y)?, ..*spike })
    };
    spikes.iter().filter_map(place).collect()
}
