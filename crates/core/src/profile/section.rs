//! A cross-section of a mapped stream, before and after it is burned in.

use crate::conditioning::{Burn, Conditioning, Line, TreatSinks, condition};
use crate::{Connection, Frame, Grid, Silent, cells_along};

use super::Profile;
use crate::Result;

/// Where a cross-section of a stream is taken.
#[derive(Debug, Clone, PartialEq)]
pub struct SectionPlace {
    /// the section, from the left bank to the right as seen downstream, CRS units
    pub line: Line,
    /// two corners of the ground that burning is tried on
    pub window: Line,
    /// the point of the stream
    pub at: [f64; 2],
}

/// A cross-section.
#[derive(Debug, Clone, PartialEq)]
pub struct Section {
    /// the ground before and after
    pub profile: Profile,
    /// the point of the stream, CRS units
    pub at: [f64; 2],
    /// depth of the bed below the lower bank after burning, metres; negative where a bank is lower
    pub below_banks_m: Option<f32>,
    /// whether the whole stream would be needed to know what burning does here
    pub local: bool,
}

/// How far to either side a section goes at least, in cells.
const HALF: f64 = 14.0;
/// Ground beyond the section that burning is tried on, in cells.
const MORE: f64 = 60.0;

/// The section across the stream that comes nearest to `near` (CRS units), or across the middle of the
/// longest; `None` without streams.
pub fn section_across(
    lines: &[Line],
    near: Option<[f64; 2]>,
    how: Burn,
    frame: &Frame,
) -> Option<SectionPlace> {
    let away = |a: &[f64; 2], b: &[f64; 2]| (a[0] - b[0]).hypot(a[1] - b[1]);
    let length = |line: &Line| line.windows(2).map(|w| away(&w[0], &w[1])).sum::<f64>();
    // The segment, and the point on it.
    let segments = || lines.iter().flat_map(|line| line.windows(2)).filter(|w| w[0] != w[1]);
    let (from, to, at) = match near {
        Some(near) => {
            let on = |w: &[[f64; 2]]| {
                let (dx, dy) = (w[1][0] - w[0][0], w[1][1] - w[0][1]);
                let along = ((near[0] - w[0][0]) * dx + (near[1] - w[0][1]) * dy) / (dx * dx + dy * dy);
                let along = along.clamp(0.0, 1.0);
                [w[0][0] + along * dx, w[0][1] + along * dy]
            };
            let nearest = segments().min_by(|a, b| away(&on(a), &near).total_cmp(&away(&on(b), &near)))?;
            (nearest[0], nearest[1], on(nearest))
        }
        None => {
            let longest = lines.iter().max_by(|a, b| length(a).total_cmp(&length(b)))?;
            let mut left = length(longest) / 2.0;
            let pair = longest.windows(2).filter(|w| w[0] != w[1]).find(|w| {
                left -= away(&w[0], &w[1]);
                left <= 0.0
            })?;
            (pair[0], pair[1], [(pair[0][0] + pair[1][0]) / 2.0, (pair[0][1] + pair[1][1]) / 2.0])
        }
    };
    let buffer_m = match how {
        Burn::Graded { buffer_m, .. } => buffer_m,
        _ => 0.0,
    };
    let half = (1.6 * buffer_m / frame.unit_m).max(HALF * frame.cell_size);
    let size = away(&from, &to);
    // A quarter turn to the left of the way the line runs.
    let left = [-(to[1] - from[1]) / size * half, (to[0] - from[0]) / size * half];
    let more = half + MORE * frame.cell_size;
    Some(SectionPlace {
        line: vec![[at[0] + left[0], at[1] + left[1]], [at[0] - left[0], at[1] - left[1]]],
        window: vec![[at[0] - more, at[1] - more], [at[0] + more, at[1] + more]],
        at,
    })
}

/// Burns the streams into a piece of the DEM (metres, at `frame`), and looks across.
///
/// # Errors
/// Those of [`condition`].
pub fn burn_across(
    dem: &Grid<f32>,
    frame: &Frame,
    lines: &[Line],
    how: Burn,
    place: &SectionPlace,
) -> Result<Section> {
    let only = Conditioning {
        burn: Some((lines.to_vec(), how)),
        sinks: TreatSinks::Keep,
        volumes_only: true,
        ..Default::default()
    };
    let done = condition(dem, frame, &only, &Silent)?;
    let after = done.routing_surface();
    let cells = cells_along(&place.line, frame, Connection::Eight);
    let mut profile = Profile { distance_m: Vec::new(), before_m: Vec::new(), after_m: Vec::new() };
    let first = cells.first().map(|&c| frame.centre(c)).unwrap_or_default();
    let known = |grid: &Grid<f32>, cell| grid.get(cell).copied().filter(|z: &f32| !z.is_nan());
    for &cell in &cells {
        let (x, y) = frame.centre(cell);
        profile.distance_m.push((x - first.0).hypot(y - first.1) * frame.unit_m);
        profile.before_m.push(known(dem, cell));
        profile.after_m.push(known(after, cell));
    }
    let bed = frame.cell_at(place.at[0], place.at[1]).and_then(|cell| known(after, cell));
    let middle = cells.len() / 2;
    // The bank is the highest ground within a few cells of the bed, as water sees it.
    let bank = |cells: &[Option<f32>]| cells.iter().flatten().copied().fold(f32::NEG_INFINITY, f32::max);
    let near = 3.min(middle);
    let (left, right) = profile.after_m.split_at(middle);
    let lower =
        bank(&left[left.len() - near..]).min(bank(&right[1.min(right.len())..(1 + near).min(right.len())]));
    let below_banks_m = bed.filter(|_| lower.is_finite()).map(|bed| lower - bed);
    let local = matches!(how, Burn::Carve | Burn::Normalised);
    Ok(Section { profile, at: place.at, below_banks_m, local })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_trench_is_seen_across() {
        let frame = Frame { rows: 101, cols: 101, left: 0.0, top: 505.0, cell_size: 5.0, unit_m: 1.0 };
        let dem = Grid::from_fn(101, 101, |c| 50.0 + 0.01 * c.row as f32);
        let stream: Line = vec![[252.5, 500.0], [252.5, 5.0]];
        let how = Burn::Trench { depth_m: 4.0 };
        let place = section_across(std::slice::from_ref(&stream), Some([300.0, 250.0]), how, &frame).unwrap();
        assert!((place.at[0] - 252.5).abs() < 1e-6 && (place.at[1] - 250.0).abs() < 1e-6, "{:?}", place.at);
        let section = burn_across(&dem, &frame, &[stream], how, &place).unwrap();
        let cut: Vec<usize> = (0..section.profile.before_m.len())
            .filter(|&i| section.profile.before_m[i] != section.profile.after_m[i])
            .collect();
        assert_eq!(cut.len(), 1);
        assert!((section.below_banks_m.unwrap() - 4.0).abs() < 0.05);
        // The left bank as seen downstream, to the south, lies in the east.
        assert!(place.line[0][0] > place.line[1][0]);
        assert!(section_across(&[], None, how, &frame).is_none());
    }
}
