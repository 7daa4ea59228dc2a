//! What speaks for one threshold or another: agreement with mapped streams, constant drop, density.

use std::sync::Arc;

use bothros_core::calibration::{
    Bend, Comparison, DropTest, Scores, SlopeClass, Suggested, agreement, bend, by_agreement, by_density,
    constant_drop, slope_by_area, smallest_constant, thresholds_up_to,
};
use bothros_core::{Part, Threshold};
use bothros_store::{Inverse, LayerRole, Store, StudyPart};
use serde_json::json;

use crate::choices::lines;
use crate::wanted::while_wanted;
use crate::{Error, Facts, GridCache, Result, Settings, layer_features, shortfalls};

/// Thresholds that are scored.
const SCORED: usize = 60;
/// Of these, every so manieth is drawn whole, for the test of drops.
const DRAWN_EVERY: usize = 3;
/// Networks of more headwaters are not drawn for the test: they would be no channels.
const MOST_HEADWATERS: u64 = 60_000;

/// What was found over the range of thresholds.
#[derive(Debug, Clone, PartialEq)]
pub struct Evidence {
    /// tolerance of the agreement, metres
    pub tolerance_m: f64,
    /// scores from the smallest threshold up; without mapped streams their shares are 0
    pub scores: Vec<Scores>,
    /// tests of drops, from the smallest threshold up
    pub drops: Vec<(Threshold, Option<DropTest>)>,
    /// mean slope by contributing area
    pub slopes: Vec<SlopeClass>,
    /// where that relation bends
    pub bend: Option<Bend>,
    /// number of mapped lines
    pub mapped_lines: usize,
    /// area that densities refer to, km²
    pub footprint_km2: f64,
}

impl Evidence {
    /// Where modelled and mapped streams agree best, and where nearly as well.
    pub fn by_agreement(&self) -> Option<Suggested> {
        by_agreement(&self.scores)
    }

    /// Where the drops of streams become constant.
    pub fn by_drop(&self) -> Option<Threshold> {
        smallest_constant(&self.drops)
    }

    /// Where modelled streams are as dense as mapped ones.
    pub fn by_density(&self) -> Option<Threshold> {
        by_density(&self.scores)
    }
}

/// The tolerance that was set, or the one that is offered: three cells, 15 m at least. (Common practice, no
/// source.)
pub fn tolerance_m(facts: &Facts) -> f64 {
    if let Some(set) = facts.settings.tolerance_m {
        return set;
    }
    facts.terrain.as_ref().map_or(15.0, |t| (3.0 * t.frame.cell_m()).max(15.0).round())
}

/// What evidence is known by: the accumulation it rests on, the tolerance, the mapped streams.
type Key = (i64, u64, String);

/// Evidence and comparisons that were asked for last. Clones share what they hold.
#[derive(Clone)]
pub struct Calibration {
    found: moka::future::Cache<Key, Arc<Evidence>>,
    compared: moka::future::Cache<(Key, u32), Arc<Comparison>>,
}

impl Default for Calibration {
    fn default() -> Self {
        // By pieces of line: a network of 10 000 reaches some ten times.
        let weight = |_: &(Key, u32), c: &Arc<Comparison>| (c.matched.len() + c.shortfalls.len() + 10) as u32;
        Self {
            found: moka::future::Cache::new(50),
            compared: moka::future::Cache::builder().weigher(weight).max_capacity(300_000).build(),
        }
    }
}

fn shared(error: Arc<Error>) -> Error {
    if error.is_cancelled() {
        return bothros_core::Error::Cancelled.into();
    }
    Error::Refused(error.to_string())
}

impl Calibration {
    /// The evidence over the whole range of thresholds. Where nobody waits for it any more, the work stops.
    ///
    /// # Errors
    /// [`Error::Refused`] before flow is routed, and for a tolerance of no use.
    pub async fn evidence(
        &self,
        store: &Store,
        grids: &GridCache,
        study: i64,
        tolerance_m: f64,
    ) -> Result<Arc<Evidence>> {
        let facts = Facts::of(&store.study(study).await?)?;
        let key = key(store, grids, &facts, tolerance_m).await?;
        let gather = async { Ok::<_, Error>(Arc::new(evidence(store, grids, &facts, tolerance_m).await?)) };
        self.found.try_get_with(key, gather).await.map_err(shared)
    }

    /// How the network at a threshold compares with the mapped streams.
    ///
    /// # Errors
    /// Those of [`Calibration::evidence`].
    pub async fn comparison(
        &self,
        store: &Store,
        grids: &GridCache,
        study: i64,
        threshold: Threshold,
        tolerance_m: f64,
    ) -> Result<Arc<Comparison>> {
        let facts = Facts::of(&store.study(study).await?)?;
        let key = (key(store, grids, &facts, tolerance_m).await?, threshold.as_cells());
        let compare = async {
            Ok::<_, Error>(Arc::new(
                shortfalls::compared(store, grids, &facts, threshold, tolerance_m).await?,
            ))
        };
        self.compared.try_get_with(key, compare).await.map_err(shared)
    }
}

async fn key(store: &Store, grids: &GridCache, facts: &Facts, tolerance_m: f64) -> Result<Key> {
    let mut mapped = String::new();
    for layer in store.layers(facts.study).await?.into_iter().filter(|l| l.role == LayerRole::MappedStreams) {
        mapped += &format!("{}.{},", layer.id, layer.version);
    }
    // What stands and what was decided about barriers is among the reasons.
    for barrier in store.barriers(facts.study).await? {
        mapped += &format!("b{}{},", barrier.id, barrier.decision.as_deref().unwrap_or(""));
    }
    mapped += &serde_json::to_string(&facts.settings.edits)?;
    Ok((grids.number(store, facts).await?, tolerance_m.to_bits(), mapped))
}

/// Sets the tolerance of a study; it can be undone.
///
/// # Errors
/// [`Error::Refused`] for a tolerance of no use.
pub async fn set_tolerance(store: &Store, study: i64, tolerance_m: f64) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let cell_m = facts.terrain.as_ref().map_or(1.0, |t| t.frame.cell_m());
    check_tolerance(tolerance_m, cell_m)?;
    let before = serde_json::to_value(&facts.settings)?;
    let settings = Settings { tolerance_m: Some(tolerance_m), ..facts.settings };
    store.change_study(study, vec![(StudyPart::Settings, Some(serde_json::to_value(settings)?))]).await?;
    let text = format!("Tolerance against mapped streams {tolerance_m} m");
    store.remember(study, &text, &Inverse::SetSettings { settings: before }).await?;
    store.log(study, "Network", &text, json!({ "tolerance_m": tolerance_m }), Default::default()).await?;
    Ok(())
}

/// Fails where a tolerance is of no use.
pub(crate) fn check_tolerance(tolerance_m: f64, cell_m: f64) -> Result<()> {
    // Beyond that nothing is near any more, and each cell would be asked about thousands.
    let most = 50.0 * cell_m;
    if tolerance_m > 0.0 && tolerance_m <= most {
        return Ok(());
    }
    Err(Error::Refused(format!("the tolerance must be between 0 and {most:.0} m, 50 cells")))
}

async fn evidence(store: &Store, cache: &GridCache, facts: &Facts, tolerance_m: f64) -> Result<Evidence> {
    let grids = cache.get(store, facts).await?;
    let (Some(terrain), Some(routing)) = (&facts.terrain, &facts.routing) else {
        return Err(Error::not_routed());
    };
    let frame = terrain.frame;
    check_tolerance(tolerance_m, frame.cell_m())?;
    let mapped = lines(layer_features(store, facts, LayerRole::MappedStreams).await?);
    let thresholds = thresholds(routing.largest_cells);
    let (mapped_lines, sweep, tried) = (mapped.len(), Arc::clone(&grids), thresholds.clone());
    let (scores, slopes) = while_wanted(move |wanted| {
        let g = &*sweep;
        let part = |from, to| Part::new(wanted, from, to);
        let (codes, areas) = (&g.directions, &g.accumulation);
        let scores = agreement(codes, areas, &g.frame, &mapped, tolerance_m, &tried, &part(0.0, 0.8))?;
        Ok((scores, slope_by_area(codes, areas, &g.filled, &g.frame, &part(0.8, 1.0))?))
    })
    .await?;
    // Of some thresholds the network is drawn whole; those with too many headwaters are left out by number.
    let few: Vec<Threshold> =
        scores.iter().filter(|s| s.headwaters <= MOST_HEADWATERS).map(|s| s.threshold).collect();
    let drops = drops(store, cache, facts, &few, false).await?;
    let footprint_km2 = frame.area_of(terrain.summary.cells).as_km2();
    let bend = bend(&slopes);
    Ok(Evidence { tolerance_m, scores, drops, slopes, bend, mapped_lines, footprint_km2 })
}

/// Tests of drops at some of `thresholds`, from the smallest up; only until one is constant where `first` is
/// enough.
pub(crate) async fn drops(
    store: &Store,
    cache: &GridCache,
    facts: &Facts,
    thresholds: &[Threshold],
    first: bool,
) -> Result<Vec<(Threshold, Option<DropTest>)>> {
    // What was changed by hand says nothing of where channels begin by themselves.
    let mut plain = facts.clone();
    plain.settings.edits.clear();
    let mut drops = Vec::new();
    for threshold in thresholds.iter().step_by(DRAWN_EVERY) {
        let network = cache.network(store, &plain, *threshold).await?;
        let headwaters = network.headwaters() as u64;
        if headwaters > MOST_HEADWATERS {
            continue;
        }
        if headwaters < 4 {
            break;
        }
        drops.push((*threshold, constant_drop(&network)));
        if first && smallest_constant(&drops).is_some() {
            break;
        }
    }
    Ok(drops)
}

/// The thresholds that are scored.
pub(crate) fn thresholds(largest_cells: u32) -> Vec<Threshold> {
    thresholds_up_to(largest_cells, SCORED)
}
