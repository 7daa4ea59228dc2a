//! The evidence for one threshold or another: agreement with mapped streams, constant drop, density.

use std::sync::Arc;

use bothros_core::calibration::{
    Bend, Comparison, ConstantDrop, DropTest, Form, HeadAreas, Scores, SlopeClass, Suggested, agreement,
    bend, by_agreement, by_density, drop_tests, forms, persistent_drop, slope_by_area, thresholds_up_to,
};
use bothros_core::conditioning::StepKind;
use bothros_core::network::{Begins, Network, extract};
use bothros_core::routing::DIRECTION_NODATA;
use bothros_core::{Grid, Monitor, Part, Threshold};
use bothros_store::{LayerRole, LogLine, Record, Store};
use moka::policy::EvictionPolicy;
use serde_json::json;

use crate::network::begins::{Heads, heads};
use crate::network::judged::{Judged, judged};
use crate::network::map::{LEAST_CELLS, StreamMap};
use crate::network::shortfalls;
use crate::study::grids::StreamRules;
use crate::study::settings::change_settings;
use crate::study::wanted::while_wanted;
use crate::{Error, Facts, GridCache, Grids, Result, Settings, Stage, Streams, boxed};

/// Thresholds at which drops are tested.
const TESTED: usize = 60;
/// Networks of more headwaters are not drawn for the test of drops: they would be no channels.
const MOST_HEADWATERS: u64 = 60_000;
/// Networks of fewer headwaters are not tested: there is nothing to compare.
const FEWEST_HEADWATERS: u64 = 4;
/// Places at which a threshold can be dragged to, from a single cell to the largest contributing area.
pub const PLACES: u32 = 1000;

/// What was found over the range of thresholds.
#[derive(Debug, Clone, PartialEq)]
pub struct Evidence {
    /// tolerance of the agreement, metres
    pub tolerance_m: f64,
    /// scores from the smallest threshold up to a third of the largest contributing area, at every threshold in
    /// between that can be dragged to; without mapped streams their shares are 0
    pub scores: Vec<Scores>,
    /// tests of drops, from the smallest threshold up
    pub drops: Vec<(Threshold, Option<DropTest>)>,
    /// scores at every threshold that can be dragged to or at which drops were tested, and at the study's own, from the
    /// smallest up, each with the highest order where that is known
    pub figures: Vec<(Scores, Option<u8>)>,
    /// mean slope by contributing area
    pub slopes: Vec<SlopeClass>,
    /// where that relation bends
    pub bend: Option<Bend>,
    /// number of mapped lines
    pub mapped_lines: usize,
    /// area that densities of the whole network refer to, km²
    pub footprint_km2: f64,
    /// area that the map looks at, km²: that of the footprint where its coverage is not told
    pub covered_km2: f64,
    /// whether the mapped streams were burned into the surface that flow was routed over: then agreement with them is none of the network's
    pub burned: bool,
    /// what decides where streams begin
    pub begins: Begins,
    /// what surveyed heads say
    pub heads: Option<Heads>,
}

impl Evidence {
    /// Where modelled and mapped streams agree best, and where nearly as well.
    pub fn by_agreement(&self) -> Option<Suggested> {
        by_agreement(&self.scores)
    }

    /// Whether there is a threshold from which on the drops of streams stay constant.
    pub fn constant_drop(&self) -> ConstantDrop {
        persistent_drop(&self.drops)
    }

    /// Where the drops of streams become constant, and stay so.
    pub fn by_drop(&self) -> Option<Threshold> {
        self.constant_drop().threshold()
    }

    /// Where slope turns from rising or staying to falling with contributing area: where valleys begin. Of a threshold that is more than contributing area it says nothing.
    pub fn by_turn(&self) -> Option<Bend> {
        self.bend.filter(|b| b.is_turn() && self.begins == Begins::Area)
    }

    /// The middle of what surveyed heads ask for. Where streams begin at these heads, they are no evidence.
    pub fn by_heads(&self) -> Option<HeadAreas> {
        self.heads?.areas.filter(|_| self.begins != Begins::Surveyed)
    }

    /// Where modelled streams are as dense as mapped ones.
    pub fn by_density(&self) -> Option<Threshold> {
        by_density(&self.scores)
    }
}

/// Key of evidence: the accumulation it rests on, the tolerance, the map.
type Key = (i64, u64, String);

/// Evidence and comparisons that were asked for last. Clones share what they hold.
#[derive(Clone)]
pub struct Calibration {
    found: moka::future::Cache<Key, Arc<Evidence>>,
    judged: moka::future::Cache<Key, Arc<Judged>>,
    compared: moka::future::Cache<(Key, u32), Arc<Comparison>>,
    /// scores and highest order at thresholds that were typed
    typed: moka::future::Cache<(Key, u32), (Scores, Option<u8>)>,
}

impl Default for Calibration {
    fn default() -> Self {
        // By pieces of line: a network of 10 000 reaches some ten times.
        let weight = |_: &(Key, u32), c: &Arc<Comparison>| (c.matched.len() + c.shortfalls.len() + 10) as u32;
        Self {
            found: moka::future::Cache::builder()
                .eviction_policy(EvictionPolicy::lru())
                .max_capacity(50)
                .build(),
            judged: moka::future::Cache::builder()
                .eviction_policy(EvictionPolicy::lru())
                .max_capacity(50)
                .build(),
            compared: moka::future::Cache::builder()
                .eviction_policy(EvictionPolicy::lru())
                .weigher(weight)
                .max_capacity(300_000)
                .build(),
            typed: moka::future::Cache::builder()
                .eviction_policy(EvictionPolicy::lru())
                .max_capacity(1000)
                .build(),
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
    /// [`Error::Refused`] before flow is routed, and for a tolerance out of range.
    #[boxed]
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
        self.found.try_get_with(key, Box::pin(gather)).await.map_err(shared)
    }

    /// Agreement on what was not burned, at the thresholds that can be dragged to. Where nobody waits for it any more, the work stops.
    ///
    /// # Errors
    /// [`Error::Refused`] before flow is routed, and where no streams are burned.
    #[boxed]
    pub async fn judged(
        &self,
        store: &Store,
        grids: &GridCache,
        study: i64,
        tolerance_m: f64,
    ) -> Result<Arc<Judged>> {
        let facts = Facts::of(&store.study(study).await?)?;
        let key = key(store, grids, &facts, tolerance_m).await?;
        let largest = facts.routing.as_ref().ok_or_else(Error::not_routed)?.largest_cells;
        let highest = thresholds(largest).last().copied();
        let tried: Vec<Threshold> = places(largest).into_iter().filter(|t| Some(*t) <= highest).collect();
        let judge = async { Ok::<_, Error>(Arc::new(judged(store, &facts, tolerance_m, tried).await?)) };
        self.judged.try_get_with(key, Box::pin(judge)).await.map_err(shared)
    }

    /// As [`Calibration::judged`], where that was asked for before.
    ///
    /// # Errors
    /// Those of the database.
    #[boxed]
    pub async fn judged_before(
        &self,
        store: &Store,
        grids: &GridCache,
        facts: &Facts,
        tolerance_m: f64,
    ) -> Result<Option<Arc<Judged>>> {
        Ok(self.judged.get(&key(store, grids, facts, tolerance_m).await?).await)
    }

    /// The figures of the network at one threshold: those of [`Evidence::figures`] where it is among them.
    ///
    /// # Errors
    /// Those of [`Calibration::evidence`].
    #[boxed]
    pub async fn figures_at(
        &self,
        store: &Store,
        grids: &GridCache,
        study: i64,
        threshold: Threshold,
        tolerance_m: f64,
    ) -> Result<(Scores, Option<u8>)> {
        let known = self.evidence(store, grids, study, tolerance_m).await?;
        if let Ok(at) = known.figures.binary_search_by_key(&threshold, |(s, _)| s.threshold) {
            return Ok(known.figures[at]);
        }
        let facts = Facts::of(&store.study(study).await?)?;
        let key = (key(store, grids, &facts, tolerance_m).await?, threshold.as_cells());
        let score = async {
            let (routed, streams) = (grids.get(store, &facts).await?, grids.streams(store, &facts).await?);
            let map = StreamMap::of(store, &facts, &routed.frame).await?;
            let order = grids.network(store, &facts, threshold).await?.highest_order();
            let scores = while_wanted(move |wanted| {
                let (codes, areas) = (&routed.directions, streams.accumulation());
                Ok(agreement(codes, areas, &routed.frame, &map.within(tolerance_m), &[threshold], wanted)?)
            });
            let scores = scores.await?.into_iter().next();
            Ok::<_, Error>((scores.ok_or_else(Error::not_routed)?, Some(order)))
        };
        self.typed.try_get_with(key, Box::pin(score)).await.map_err(shared)
    }

    /// How the network at a threshold compares with the mapped streams.
    ///
    /// # Errors
    /// Those of [`Calibration::evidence`].
    #[boxed]
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
        self.compared.try_get_with(key, Box::pin(compare)).await.map_err(shared)
    }
}

async fn key(store: &Store, grids: &GridCache, facts: &Facts, tolerance_m: f64) -> Result<Key> {
    let mut mapped = String::new();
    let of_map = [LayerRole::MappedStreams, LayerRole::MapCoverage, LayerRole::ChannelHeads];
    for layer in store.layers(facts.study).await?.into_iter().filter(|l| of_map.contains(&l.role)) {
        mapped += &format!("{}.{},", layer.id, layer.version);
    }
    // What stands and what was decided about barriers is among the reasons.
    for barrier in store.barriers(facts.study).await? {
        mapped += &format!("b{}{},", barrier.id, barrier.decision.as_deref().unwrap_or(""));
    }
    mapped += &StreamRules::of(&facts.settings).key()?;
    mapped += &format!("{:?}", facts.settings.heads_within_m);
    Ok((grids.number(store, facts).await?, tolerance_m.to_bits(), mapped))
}

/// Sets the tolerance of a study, or leaves it to its map; it can be undone.
///
/// # Errors
/// [`Error::Refused`] for a tolerance out of range.
#[boxed]
pub async fn set_tolerance(store: &Store, study: i64, tolerance_m: Option<f64>) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let cell_m = facts.terrain.as_ref().map_or(1.0, |t| t.frame.cell_m());
    if let Some(typed) = tolerance_m {
        check_tolerance(typed, cell_m)?;
    }
    let set = |settings: &mut Settings| {
        settings.tolerance_m = tolerance_m;
        Ok(())
    };
    let change = store.change(study).await?;
    let changed = change_settings(&change, set).await?;
    let text = match tolerance_m {
        Some(m) => format!("Tolerance against mapped streams {m} m"),
        None => "Tolerance against mapped streams from their map".into(),
    };
    let line = LogLine::new(Stage::Network.title(), text.clone()).with(json!({ "tolerance_m": tolerance_m }));
    change.commit(Record::log(line).undone_by(text, changed.undo)).await?;
    Ok(())
}

/// Fails where a tolerance is of no use.
pub(crate) fn check_tolerance(tolerance_m: f64, cell_m: f64) -> Result<()> {
    // Beyond that nothing is near any more, and each cell would be asked about thousands; below, cells cannot tell.
    let (least, most) = (LEAST_CELLS * cell_m, 50.0 * cell_m);
    if tolerance_m >= least * (1.0 - 1e-9) && tolerance_m <= most {
        return Ok(());
    }
    Err(Error::Refused(format!(
        "the tolerance must be between {least:.1} m, a cell and a half, and {most:.0} m, 50 cells"
    )))
}

async fn evidence(store: &Store, cache: &GridCache, facts: &Facts, tolerance_m: f64) -> Result<Evidence> {
    let grids = cache.get(store, facts).await?;
    let (Some(terrain), Some(routing)) = (&facts.terrain, &facts.routing) else {
        return Err(Error::not_routed());
    };
    let frame = terrain.frame;
    check_tolerance(tolerance_m, frame.cell_m())?;
    let map = StreamMap::of(store, facts, &frame).await?;
    map.check()?;
    let mapped_lines = map.lines.len();
    let was_burned = |routing: &crate::RoutingFacts| {
        routing.conditioned.as_ref().is_some_and(|c| c.steps.iter().any(|s| s.kind == StepKind::Burn))
    };
    let burned = was_burned(routing);
    let streams = cache.streams(store, facts).await?;
    let (begins, heads) = (facts.settings.beginning.begins, heads(store, cache, facts).await?);
    let largest = routing.largest_cells;
    let chosen = facts.network.map(|n| n.threshold);
    let footprint_km2 = frame.area_of(terrain.summary.cells).as_km2();
    while_wanted(move |wanted| {
        let part = |from, to| Part::new(wanted, from, to);
        let (codes, plain, edited) = (&grids.directions, streams.unedited(), streams.accumulation());
        let (tested, places) = (thresholds(largest), places(largest));
        // Each costs next to nothing beside the others: the study's own, whatever it is, is among them.
        let mut all: Vec<Threshold> = tested.iter().chain(&places).copied().chain(chosen).collect();
        all.sort_unstable();
        all.dedup();
        let figures = agreement(codes, edited, &frame, &map.within(tolerance_m), &all, &part(0.0, 0.5))?;
        let covered_km2 = match &map.covers {
            Some(covers) => {
                let both = covers.values().iter().zip(codes.values());
                frame
                    .area_of(both.filter(|&(&looks, &code)| looks && code != DIRECTION_NODATA).count() as u64)
                    .as_km2()
            }
            None => footprint_km2,
        };
        let at = |some: &[Threshold]| -> Vec<Scores> {
            figures.iter().filter(|s| some.binary_search(&s.threshold).is_ok()).copied().collect()
        };
        let tested_scores = at(&tested);
        let highest = tested.last().copied();
        let slopes = slope_by_area(codes, &grids.accumulation, &grids.filled, &frame, &part(0.5, 0.7))?;
        // What was changed by hand says nothing of where channels begin by themselves.
        let own = drawn(&grids, plain, &tested_scores, &part(0.7, 0.8))?;
        let drops = own.drop_tests(&grids, plain, &tested_scores, &part(0.8, 0.85))?;
        let own = match std::ptr::eq(plain, edited) {
            true => own,
            false => drawn(&grids, edited, &tested_scores, &part(0.85, 0.9))?,
        };
        let orders = own.forms(edited, &figures, &part(0.9, 1.0))?;
        let order = |of: &Scores| {
            let at = orders.binary_search_by_key(&of.threshold, |f| f.threshold).ok()?;
            Some(orders[at].highest_order)
        };
        let bend = bend(&slopes);
        let mut scores = at(&places);
        scores.retain(|s| Some(s.threshold) <= highest);
        Ok(Evidence {
            tolerance_m,
            drops,
            figures: figures.into_iter().map(|s| (s, order(&s))).collect(),
            scores,
            slopes,
            bend,
            mapped_lines,
            footprint_km2,
            covered_km2,
            burned,
            begins,
            heads,
        })
    })
    .await
}

/// The network from which those at all higher thresholds follow.
struct Drawn(Option<Network>);

/// Draws the network at the smallest of the thresholds, from the smallest up, that give no more headwaters than
/// are useful.
fn drawn(grids: &Grids, accumulation: &Grid<u32>, scores: &[Scores], monitor: &dyn Monitor) -> Result<Drawn> {
    let Some(lowest) = scores.iter().find(|s| s.headwaters <= MOST_HEADWATERS) else {
        return Ok(Drawn(None));
    };
    let (codes, ground) = (&grids.directions, &grids.filled);
    Ok(Drawn(Some(extract(codes, accumulation, ground, &grids.frame, lowest.threshold, monitor)?)))
}

impl Drawn {
    /// The thresholds at which some network is left that says something.
    fn of_use(network: &Network, scores: &[Scores], fewest: u64) -> Vec<Threshold> {
        let of_use = |s: &&Scores| s.headwaters >= fewest && Some(s.threshold) >= network.threshold;
        scores.iter().filter(of_use).map(|s| s.threshold).collect()
    }

    fn drop_tests(
        &self,
        grids: &Grids,
        accumulation: &Grid<u32>,
        scores: &[Scores],
        monitor: &dyn Monitor,
    ) -> Result<Vec<(Threshold, Option<DropTest>)>> {
        let Some(network) = &self.0 else { return Ok(Vec::new()) };
        let few = Self::of_use(network, scores, FEWEST_HEADWATERS);
        let tests = drop_tests(network, accumulation, &grids.filled, &few, monitor)?;
        Ok(few.into_iter().zip(tests).collect())
    }

    fn forms(&self, accumulation: &Grid<u32>, scores: &[Scores], monitor: &dyn Monitor) -> Result<Vec<Form>> {
        let Some(network) = &self.0 else { return Ok(Vec::new()) };
        Ok(forms(network, accumulation, &Self::of_use(network, scores, 0), monitor)?)
    }
}

/// The first threshold that is offered: from which on drops stay constant, without edits by hand; else at which streams are as dense as those of the
/// map; else 1 % of the largest contributing area.
///
/// # Errors
/// [`bothros_core::Error::Cancelled`].
pub(crate) fn first_threshold(
    streams: &Streams,
    largest_cells: u32,
    map: &StreamMap,
    monitor: &dyn Monitor,
) -> Result<Threshold> {
    let (tested, places) = (thresholds(largest_cells), places(largest_cells));
    let mut all: Vec<Threshold> = tested.iter().chain(&places).copied().collect();
    all.sort_unstable();
    all.dedup();
    let grids = &**streams.grids();
    let (codes, areas) = (&grids.directions, streams.unedited());
    // Lengths do not depend on the tolerance.
    let map = map.within(LEAST_CELLS * grids.frame.cell_m());
    let counted = agreement(codes, areas, &grids.frame, &map, &all, &Part::new(monitor, 0.0, 0.5))?;
    let at = |some: &[Threshold]| -> Vec<Scores> {
        counted.iter().filter(|s| some.binary_search(&s.threshold).is_ok()).copied().collect()
    };
    let tested_scores = at(&tested);
    let own = drawn(grids, areas, &tested_scores, &Part::new(monitor, 0.5, 0.8))?;
    let tests = own.drop_tests(grids, areas, &tested_scores, &Part::new(monitor, 0.8, 1.0))?;
    let by_map = || {
        let mut scores = at(&places);
        scores.retain(|s| Some(s.threshold) <= tested.last().copied());
        by_density(&scores)
    };
    let share = || Threshold::cells((largest_cells / 100).max(1));
    Ok(persistent_drop(&tests).threshold().or_else(by_map).unwrap_or_else(share))
}

/// The thresholds that can be dragged to, from the smallest that is tested up.
fn places(largest_cells: u32) -> Vec<Threshold> {
    let lowest = thresholds(largest_cells).first().copied().unwrap_or(Threshold::cells(1));
    let at = |place: u32| (largest_cells as f64).powf(place as f64 / PLACES as f64).round().max(1.0) as u32;
    let mut all: Vec<Threshold> = (0..=PLACES).map(|place| Threshold::cells(at(place))).collect();
    all.dedup();
    all.retain(|threshold| *threshold >= lowest);
    all
}

/// The thresholds at which drops are tested.
fn thresholds(largest_cells: u32) -> Vec<Threshold> {
    thresholds_up_to(largest_cells, TESTED)
}
