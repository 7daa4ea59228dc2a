//! Where the network falls short of the mapped streams, and what the analyst says of it.

use bothros_core::Threshold;
use bothros_core::calibration::{Compared, Comparison, Side, compare};
use bothros_store::{LogLine, Record, Store};
use serde::{Deserialize, Serialize};

use crate::conditioning::review::{BarrierFacts, Decision};
use crate::network::evidence::check_tolerance;
use crate::network::map::StreamMap;
use crate::study::settings::change_settings;
use crate::study::wanted::while_wanted;
use crate::{Error, Facts, GridCache, Result, Settings, Stage, boxed};

/// What is to become of a shortfall.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Verdict {
    /// it may stay
    Accepted,
    /// it is to be mended at the Conditioning stage
    ToMend,
}

/// The analyst's remark on a shortfall, which is identified by its place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ShortfallMark {
    /// which side it is on
    pub side: Side,
    /// its middle, CRS units
    pub at: [f64; 2],
    /// what is to become of it
    pub verdict: Verdict,
    /// why, in words
    pub remark: String,
}

/// Largest distance between a mark and the shortfall it belongs to, metres.
const SAME_M: f64 = 25.0;

impl ShortfallMark {
    /// Whether it was said of a stretch along this line.
    pub fn is_of(&self, side: Side, line: &[[f64; 2]], unit_m: f64) -> bool {
        let near = |p: &[f64; 2]| (p[0] - self.at[0]).hypot(p[1] - self.at[1]) * unit_m <= SAME_M;
        self.side == side && line.iter().any(near)
    }
}

/// Compares the network at a threshold with the mapped streams.
pub(crate) async fn compared(
    store: &Store,
    cache: &GridCache,
    facts: &Facts,
    threshold: Threshold,
    tolerance_m: f64,
) -> Result<Comparison> {
    let grids = cache.get(store, facts).await?;
    check_tolerance(tolerance_m, grids.frame.cell_m())?;
    let network = cache.network(store, facts, threshold).await?;
    let map = StreamMap::of(store, facts, &grids.frame).await?;
    let mut barriers = Vec::new();
    for row in store.barriers(facts.study).await? {
        let found = BarrierFacts::of(&row)?;
        if found.found && found.decision != Some(Decision::Breach) {
            barriers.push(found.barrier.crest);
        }
    }
    while_wanted(move |wanted| {
        let g = &*grids;
        let with = Compared {
            directions: &g.directions,
            accumulation: &g.accumulation,
            ground: &g.filled,
            frame: &g.frame,
            map: map.within(tolerance_m),
            barriers: &barriers,
        };
        Ok(compare(&with, &network, threshold, wanted)?)
    })
    .await
}

/// Sets or clears the decision about a shortfall; it can be undone.
///
/// # Errors
/// [`Error::Refused`] where a remark is too long.
#[boxed]
pub async fn mark_shortfall(
    store: &Store,
    study: i64,
    side: Side,
    line: &[[f64; 2]],
    said: Option<(Verdict, String)>,
) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let unit_m = facts.terrain.as_ref().map_or(1.0, |t| t.frame.unit_m);
    let at = *line.get(line.len() / 2).ok_or_else(|| Error::Refused("the stretch has no place".into()))?;
    if said.as_ref().is_some_and(|(_, remark)| remark.chars().count() > 500) {
        return Err(Error::Refused("a remark may have 500 characters".into()));
    }
    if !at.iter().all(|v| v.is_finite()) {
        return Err(Error::Refused("coordinates must be numbers".into()));
    }
    let what = match side {
        Side::Extra => "Extra stream",
        Side::Missed => "Missed stream",
    };
    let text = match &said {
        Some((Verdict::Accepted, remark)) => {
            format!("{what} at {:.0}, {:.0} accepted: {remark}", at[0], at[1])
        }
        Some((Verdict::ToMend, _)) => format!("{what} at {:.0}, {:.0} sent to Conditioning", at[0], at[1]),
        None => format!("{what} at {:.0}, {:.0} is open again", at[0], at[1]),
    };
    let mark = said.map(|(verdict, remark)| ShortfallMark { side, at, verdict, remark });
    let change = store.change(study).await?;
    let set = |settings: &mut Settings| {
        settings.shortfalls.retain(|m| !m.is_of(side, line, unit_m));
        settings.shortfalls.extend(mark);
        Ok(())
    };
    let changed = change_settings(&change, set).await?;
    let line = LogLine::new(Stage::Network.title(), text.trim_end_matches(": "));
    change.commit(Record::log(line).undone_by(text, changed.undo)).await?;
    Ok(())
}
