//! Where the frames of a sheet look.

use bothros_formats::Transform;
use bothros_sheets::{Fit, Frame, Part, Rect, Sheet, View};

use crate::{Error, Facts, Result};

/// Share of a frame that is left free at each side around what it is fitted to.
const MARGIN: f64 = 0.02;

/// West, south, east and north of rings.
pub(super) fn bounds(rings: &[Vec<[f64; 2]>]) -> Option<[f64; 4]> {
    let all = || rings.iter().flatten();
    all().next()?;
    let span = |axis: usize| {
        all().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), p| (l.min(p[axis]), h.max(p[axis])))
    };
    let ((west, east), (south, north)) = (span(0), span(1));
    Some([west, south, east, north])
}

/// A frame with the study that it shows.
pub(super) struct Looking<'a> {
    pub part: &'a Part,
    pub frame: &'a Frame,
    pub facts: std::sync::Arc<Facts>,
    /// rings of the catchment that it is fitted to
    pub catchment: Option<Vec<Vec<[f64; 2]>>>,
}

impl Looking<'_> {
    fn view(&self) -> Result<View> {
        let terrain = self.facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
        let (at, unit_m) = (self.part.at, terrain.crs.unit_m);
        let [west, south, east, north] = terrain.frame.extent();
        let fitted = |of: [f64; 4]| -> Result<View> {
            let view = View::fitted(at, of, unit_m, MARGIN)?;
            Ok(if self.frame.locates.is_some() { view } else { view.rounded() })
        };
        Ok(match self.frame.fit {
            Fit::Study => fitted([west, south, east, north])?,
            Fit::Box { of } => View::fitted(at, of, unit_m, 0.0)?,
            Fit::Place { x, y, denominator } => View { frame: at, x, y, denominator, unit_m },
            Fit::Catchment { .. } => match self.catchment.as_deref().and_then(bounds) {
                Some(of) => fitted(of)?,
                // It is gone, or has no outline: the study is shown, and the sheet says so.
                None => fitted([west, south, east, north])?,
            },
        })
    }
}

/// The views of frames, in their order. Where they keep together, all have the scale and the place of the first.
pub(super) fn views(sheet: &Sheet, all: &[Looking]) -> Result<Vec<View>> {
    let mut out: Vec<View> = Vec::new();
    let mut first: Option<usize> = None;
    for (n, looking) in all.iter().enumerate() {
        let own = looking.view()?;
        if looking.frame.locates.is_some() {
            out.push(own);
            continue;
        }
        match first.filter(|_| sheet.together) {
            Some(leads) => {
                let leader = out[leads];
                let (from, to) = (&all[leads].facts, &looking.facts);
                let [x, y] = moved(from, to, [leader.x, leader.y])?;
                out.push(View { x, y, denominator: leader.denominator, ..own });
            }
            None => {
                first = first.or(Some(n));
                out.push(own);
            }
        }
    }
    // Those that keep together must all hold what the first was fitted to: the smallest frame sets the scale.
    if let Some(leads) = first.filter(|_| sheet.together)
        && !matches!(all[leads].frame.fit, Fit::Place { .. })
    {
        let least = |of: fn(&Rect) -> f64| {
            let others = all.iter().filter(|l| l.frame.locates.is_none());
            others.map(|l| of(&l.part.at)).fold(f64::INFINITY, f64::min)
        };
        let at = all[leads].part.at;
        let times = (at.width / least(|r| r.width)).max(at.height / least(|r| r.height));
        if times > 1.0 + 1e-9 {
            let denominator =
                View { denominator: out[leads].denominator * times, ..out[leads] }.rounded().denominator;
            for (view, looking) in out.iter_mut().zip(all) {
                if looking.frame.locates.is_none() {
                    view.denominator = denominator;
                }
            }
        }
    }
    out.iter().try_for_each(View::check)?;
    Ok(out)
}

/// A place in the CRS of another study.
fn moved(from: &Facts, to: &Facts, [x, y]: [f64; 2]) -> Result<[f64; 2]> {
    let (Some(from), Some(to)) = (&from.terrain, &to.terrain) else { return Ok([x, y]) };
    if from.crs.same_as(&to.crs)? {
        return Ok([x, y]);
    }
    Ok(Transform::new(&from.crs, &to.crs)?.point(x, y)?.into())
}
