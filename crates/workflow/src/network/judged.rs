//! Agreement with mapped streams that were burned: on the surface without burning, and where they were left out.

use bothros_core::calibration::{
    MappedStreams, Scores, Suggested, agreement, by_agreement, halves, lines_where,
};
use bothros_core::conditioning::{Conditioning, condition};
use bothros_core::network::{Beginning, Flow, extract};
use bothros_core::routing::{Method, accumulate_by, flow_directions_to_outlets, single_threaded};
use bothros_core::{Frame, Grid, Monitor, Part, Threshold};
use bothros_store::Store;

use super::map::StreamMap;
use crate::conditioning::choices::conditioning_of;
use crate::study::grids::prepared_dem;
use crate::study::wanted::while_wanted;
use crate::{Error, Facts, Result};

/// The land is divided between the sub-basins of a network whose threshold is this share of the largest contributing area.
const SHARE: u32 = 50;

/// What speaks for a threshold although the mapped streams were burned.
#[derive(Debug, Clone, PartialEq)]
pub struct Judged {
    /// scores on the surface without burning, from the smallest threshold up
    pub unburned: Vec<Scores>,
    /// scores of each half of the map where only the other half was burned, added up; none where all of it lies in one sub-basin
    pub left_out: Option<Vec<Scores>>,
    /// sub-basins that were shared out between the halves
    pub parts: usize,
}

impl Judged {
    /// Where the network and the map agree best on the surface without burning.
    pub fn by_unburned(&self) -> Option<Suggested> {
        by_agreement(&self.unburned)
    }

    /// Where they agree best on what was left out.
    pub fn by_left_out(&self) -> Option<Suggested> {
        by_agreement(self.left_out.as_deref()?)
    }
}

/// Routes flow without burning, and twice more with half of the map burned, and holds the networks at `thresholds` against what was not.
///
/// # Errors
/// [`Error::Refused`] where no streams are burned; those of the computation.
pub(super) async fn judged(
    store: &Store,
    facts: &Facts,
    tolerance_m: f64,
    thresholds: Vec<Threshold>,
) -> Result<Judged> {
    let terrain = facts.terrain.clone().ok_or_else(Error::not_prepared)?;
    let how = conditioning_of(store, facts).await?;
    if how.burn.is_none() {
        return Err(Error::Refused(
            "no mapped streams are burned: their agreement is evidence as it is".into(),
        ));
    }
    let meta = prepared_dem(store, facts.study, &terrain).await?;
    let dem = store.read_raster::<f32>(&meta).await?;
    let map = StreamMap::of(store, facts, &terrain.frame).await?;
    let method = facts.settings.conditioning.routing;
    let beginning = facts.settings.beginning.clone();
    while_wanted(move |wanted| {
        let on = Ground { dem: &dem, frame: &terrain.frame, method, beginning };
        on.judge(how, &map, tolerance_m, &thresholds, wanted)
    })
    .await
}

struct Ground<'a> {
    dem: &'a Grid<f32>,
    frame: &'a Frame,
    method: Method,
    beginning: Beginning,
}

/// Flow over one surface.
struct Routed {
    ground: Grid<f32>,
    directions: Grid<u8>,
    /// what tells its streams
    streams: Grid<u32>,
}

impl Ground<'_> {
    fn route(&self, how: &Conditioning, monitor: &dyn Monitor) -> Result<Routed> {
        let part = |from, to| Part::new(monitor, from, to);
        let done = condition(self.dem, self.frame, how, &part(0.0, 0.5))?;
        let surface = done.routing_surface();
        let directions = flow_directions_to_outlets(surface, &done.open, &part(0.5, 0.8))?;
        let mut accumulation = accumulate_by(self.method, surface, &directions, &part(0.8, 0.95))?;
        if self.method.divides() {
            accumulation = single_threaded(&directions, &accumulation, &part(0.95, 0.98))?;
        }
        let (ground, frame) = (&done.ground, self.frame);
        let flow = Flow { directions: &directions, accumulation: &accumulation, ground, frame };
        let begun = self.beginning.on(&flow, &part(0.98, 1.0))?;
        Ok(Routed { ground: done.ground, directions, streams: begun.unwrap_or(accumulation) })
    }

    fn judge(
        &self,
        how: Conditioning,
        map: &StreamMap,
        tolerance_m: f64,
        thresholds: &[Threshold],
        monitor: &dyn Monitor,
    ) -> Result<Judged> {
        let part = |from, to| Part::new(monitor, from, to);
        let frame = self.frame;
        let score = |flow: &Routed, map: &MappedStreams<'_>, part: &Part<'_>| {
            agreement(&flow.directions, &flow.streams, frame, map, thresholds, part)
        };
        let Conditioning { burn: Some((lines, depth)), .. } = how.clone() else {
            return Err(Error::Refused("no mapped streams are burned".into()));
        };
        let without = self.route(&Conditioning { burn: None, ..how.clone() }, &part(0.0, 0.25))?;
        let unburned = score(&without, &map.within(tolerance_m), &part(0.25, 0.35))?;
        let largest = without.streams.values().iter().filter(|&&a| a != u32::MAX).max();
        let coarse = Threshold::cells((largest.map_or(1, |a| a + 1) / SHARE).max(2));
        let Routed { ground, directions, streams } = without;
        let network = extract(&directions, &streams, &ground, frame, coarse, &part(0.35, 0.38))?;
        drop((ground, streams));
        let Some(found) = halves(&directions, &network, frame, &map.lines, &part(0.38, 0.4))? else {
            return Ok(Judged { unburned, left_out: None, parts: 1 });
        };
        drop(directions);
        let mut added: Option<Vec<Scores>> = None;
        for (at, judge_first) in [(0.4, true), (0.7, false)] {
            let of = |is: &dyn Fn(usize) -> bool| {
                Grid::from_vec(frame.rows, frame.cols, (0..frame.cells()).map(is).collect())
            };
            let first = found.first.values();
            let burned = lines_where(&lines, frame, &of(&|cell| first[cell] != judge_first));
            let flow = self
                .route(&Conditioning { burn: Some((burned, depth)), ..how.clone() }, &part(at, at + 0.2))?;
            let looked_at = map.covers.as_ref().map(Grid::values);
            let covers = of(&|cell| first[cell] == judge_first && looked_at.is_none_or(|all| all[cell]));
            let judged_on = MappedStreams { covers: Some(&covers), ..map.within(tolerance_m) };
            let scores = score(&flow, &judged_on, &part(at + 0.2, at + 0.3))?;
            added = Some(match added {
                None => scores,
                Some(before) => before.into_iter().zip(scores).map(|(a, b)| together(a, b)).collect(),
            });
        }
        Ok(Judged { unburned, left_out: added, parts: found.parts })
    }
}

/// Scores on two pieces of land as one.
fn together(a: Scores, b: Scores) -> Scores {
    Scores {
        threshold: a.threshold,
        modelled_m: a.modelled_m + b.modelled_m,
        matched_m: a.matched_m + b.matched_m,
        mapped_m: a.mapped_m + b.mapped_m,
        found_m: a.found_m + b.found_m,
        headwaters: a.headwaters,
        away_m: None,
        length_m: a.length_m,
    }
}
