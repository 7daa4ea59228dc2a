//! How sure streams and catchments are: realisations of the DEM with its vertical error, as a job whose results are kept while it goes on.

use std::sync::Arc;
use std::time::{Duration, Instant};

use bothros_core::calibration::MappedStreams;
use bothros_core::conditioning::Conditioning;
use bothros_core::memory::{self, Step};
use bothros_core::network::Beginning;
use bothros_core::routing::Method;
use bothros_core::terrain::{error_correlation, vertical_error};
use bothros_core::uncertainty::{DemError, Doubt, Place, Realisations, Realised, Spread, Tally, doubt};
use bothros_core::{Frame, Grid, Silent, Threshold};
use bothros_store::{
    JobHandle, JobKind, Kept, LogLine, NewRaster, PourPoint, RasterMeta, RasterRole, Record, Store,
    StudyPart, kept,
};
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json, json};

use super::CatchmentFacts;
use crate::conditioning::choices::{conditioning_key, conditioning_of};
use crate::network::map::{StreamMap, tolerance};
use crate::study::grids::{StreamRules, prepared_dem};
use crate::{Error, Facts, Grids, Result, Stage, Streams, TerrainFacts, blocking, boxed};

/// What is asked for.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct RealiseChoice {
    /// standard deviation of the vertical error, metres; estimated from the DEM where there is none
    pub vertical_error_m: Option<f64>,
    /// correlation length of the error, metres; estimated from the DEM where there is none
    pub correlation_m: Option<f64>,
    /// how many realisations
    pub realisations: u32,
    /// the seed that they belong to
    pub seed: u64,
}

impl Default for RealiseChoice {
    fn default() -> Self {
        Self { vertical_error_m: None, correlation_m: None, realisations: 100, seed: 1 }
    }
}

/// The fewest and the most realisations.
pub const REALISATIONS: (u32, u32) = (10, 1000);

/// A pour point whose catchment was found in every realisation.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct DoubtfulCatchment {
    /// number of the pour point
    pub point: i64,
    /// its name at that time
    pub name: String,
    /// contributing area on the DEM itself, km²
    pub area_km2: f64,
    /// the land of which it is open whether it belongs to it
    pub doubt: Doubt,
}

/// What realisations of the DEM showed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct UncertaintyFacts {
    /// what was asked for
    pub asked: RealiseChoice,
    /// the error that was used
    pub error: DemError,
    /// key of all that the results rest on
    pub key: String,
    /// threshold of the network
    pub threshold: Threshold,
    /// whether mapped streams were burned into every realisation
    pub burned: bool,
    /// whether streams were changed by hand, which realisations do not know
    pub edited: bool,
    /// pour points that were left out: at most so many have a raster
    pub left_out: usize,
    /// the pour points, in the order of their rasters
    pub catchments: Vec<DoubtfulCatchment>,
    /// share of the study's stream cells that are stream in at least half of the realisations
    pub streams_kept: f64,
    /// area of a cell, km²
    pub cell_km2: f64,
    /// figures of each realisation
    pub figures: Vec<Realised>,
    /// time taken, seconds
    pub took_s: f64,
}

impl UncertaintyFacts {
    /// How many realisations were made.
    pub fn realisations(&self) -> u32 {
        self.figures.len() as u32
    }
    /// How the contributing area of a pour point scatters, km²; none where it never had a catchment.
    pub fn area_km2(&self, at: usize) -> Option<Spread> {
        let cells = self.figures.iter().filter_map(|f| f.cells.get(at).copied().flatten());
        Spread::of(cells.map(|c| c as f64 * self.cell_km2).collect())
    }
    /// How the length of the network scatters, metres.
    pub fn length_m(&self) -> Option<Spread> {
        Spread::of(self.figures.iter().map(|f| f.length_m).collect())
    }
    /// How agreement with the map scatters; none without a map.
    pub fn agreement(&self) -> Option<Spread> {
        Spread::of(self.figures.iter().filter_map(|f| f.agreement).collect())
    }
    /// How the threshold that agrees best with the map scatters, km²; none without a map.
    pub fn best_km2(&self) -> Option<Spread> {
        let cells = self.figures.iter().filter_map(|f| f.best).map(|t| f64::from(t.as_cells()));
        Spread::of(cells.map(|c| c * self.cell_km2).collect())
    }
}

/// Key of all that realisations rest on; while it is the same, so are they.
///
/// # Errors
/// [`Error::Refused`] before flow is routed.
#[boxed]
pub async fn uncertainty_key(store: &Store, facts: &Facts) -> Result<String> {
    let terrain = facts.terrain.as_ref().ok_or_else(Error::not_routed)?;
    let threshold = facts.network.as_ref().ok_or_else(Error::not_routed)?.threshold;
    let dem = prepared_dem(store, facts.study, terrain).await?.id;
    let points = store.pour_points(facts.study).await?;
    let points: Vec<_> = points.iter().map(|p| (p.id, p.x, p.y, p.snap_m, &p.snap_to)).collect();
    let conditioned = conditioning_key(store, facts).await?;
    let begins = StreamRules::of(&facts.settings).beginning_key()?;
    let known = (dem, conditioned, threshold, points);
    Ok(serde_json::to_string(&known)? + &begins)
}

/// Starts the job.
///
/// # Errors
/// [`Error::Refused`] before flow is routed; [`Error::Core`] for an error or a correlation that do not fit the DEM; busy.
#[boxed]
pub async fn start_realisations(store: &Store, study: i64, asked: RealiseChoice) -> Result<()> {
    let change = store.change_idle(study).await?;
    let facts = Facts::of(change.study())?;
    let terrain = facts.terrain.as_ref().filter(|_| facts.network.is_some()).ok_or_else(Error::not_routed)?;
    if let Some(sd_m) = asked.vertical_error_m {
        checked(DemError { sd_m, correlation_m: asked.correlation_m.unwrap_or(0.0) }, terrain)?;
    }
    change.commit(Record::job(JobKind::Realise, Kept::of(&asked)?)).await?;
    Ok(())
}

fn checked(error: DemError, terrain: &TerrainFacts) -> Result<DemError> {
    let relief_m = f64::from(terrain.summary.highest_m) - f64::from(terrain.summary.lowest_m);
    error.check(relief_m, &terrain.frame)?;
    Ok(error)
}

/// The error as it was typed; what was not is estimated from where the ground is smoothest.
fn error_of(asked: RealiseChoice, dem: &Grid<f32>, cell_m: f64) -> Result<DemError> {
    let refused = |what: &str| Error::Refused(what.to_owned());
    let (correlation_m, alike) = match asked.correlation_m {
        Some(typed) => (typed, None),
        None => {
            let found = error_correlation(dem).ok_or_else(|| {
                refused(
                    "the correlation length of the error cannot be told from this DEM: its smoothest ground is alike over more than six cells, or there is \
                     too little of it. Type it; 0 where errors of neighbouring cells have nothing in common",
                )
            })?;
            // Below the width of a cell neighbours have nothing in common.
            let cells = if found.correlation_cells < 1.0 { 0.0 } else { found.correlation_cells };
            (cells * cell_m, (cells > 0.0).then_some(found.sd_m))
        }
    };
    let sd_m = match (asked.vertical_error_m, alike) {
        (Some(typed), _) => typed,
        // What neighbours share is not seen from cell to cell.
        (None, Some(sd_m)) => sd_m,
        (None, None) => vertical_error(dem)
            .filter(|m| *m > 0.0)
            .ok_or_else(|| refused("the vertical error cannot be estimated from this DEM: type it"))?,
    };
    Ok(DemError { sd_m, correlation_m })
}

/// All that realisations are made of.
struct Inputs {
    dem: Grid<f32>,
    frame: Frame,
    error: DemError,
    seed: u64,
    how: Conditioning,
    method: Method,
    beginning: Beginning,
    threshold: Threshold,
    places: Vec<Place>,
    map: Option<(StreamMap, f64, Vec<Threshold>)>,
    /// stream cells of the DEM itself
    streams: Grid<bool>,
}

impl Inputs {
    /// Does something with what realisations are made of.
    fn with<T>(&self, work: impl FnOnce(&Realisations<'_>) -> T) -> T {
        let map: Option<(MappedStreams<'_>, &[Threshold])> =
            self.map.as_ref().map(|(map, tolerance_m, tried)| (map.within(*tolerance_m), &tried[..]));
        work(&Realisations {
            dem: &self.dem,
            frame: &self.frame,
            error: self.error,
            seed: self.seed,
            how: &self.how,
            method: self.method,
            beginning: &self.beginning,
            threshold: self.threshold,
            places: &self.places,
            map: map.as_ref().map(|(map, tried)| (map, *tried)),
        })
    }
}

/// The pour points that are looked at: those with the largest catchments, and how many are left out.
fn largest(points: Vec<PourPoint>) -> Result<(Vec<(PourPoint, CatchmentFacts)>, usize)> {
    let mut known = Vec::new();
    for point in points {
        if let Some(found) = kept::read_some::<CatchmentFacts>(&point.catchment)? {
            known.push((point, found));
        }
    }
    let all = known.len();
    known.sort_by(|a, b| b.1.cells.cmp(&a.1.cells).then(a.0.id.cmp(&b.0.id)));
    known.truncate(RasterRole::MOST_CATCHMENTS);
    known.sort_by_key(|(point, _)| point.id);
    let left_out = all - known.len();
    Ok((known, left_out))
}

/// A third of the time at most goes into showing how things stand.
const SHOWN_EVERY: u32 = 3;
/// The first results are shown after so long.
const SHOWN_AFTER: Duration = Duration::from_secs(2);
/// Thresholds that are held against the map in each realisation: so close that the study's own is no better placed than others.
const TRIED: usize = 96;
/// How far they reach from the study's own, as a factor.
const TRIED_UP_TO: f64 = 8.0;

/// The thresholds around the study's own that are held against the map.
fn tried(own: Threshold, largest_cells: u32) -> Vec<Threshold> {
    let most = (f64::from(largest_cells) / 3.0).max(f64::from(own.as_cells()));
    let at =
        |n: usize| TRIED_UP_TO.powf(2.0 * n as f64 / (TRIED - 1) as f64 - 1.0) * f64::from(own.as_cells());
    let mut all: Vec<u32> = (0..TRIED).map(|n| at(n).min(most).round().max(1.0) as u32).collect();
    all.dedup();
    all.into_iter().map(Threshold::cells).collect()
}

pub(crate) async fn run(store: &Store, study: i64, asked: &Json, handle: &JobHandle) -> Result<String> {
    let begun = Instant::now();
    let asked: RealiseChoice = kept::read(asked.clone())?;
    let facts = Facts::of(&store.study(study).await?)?;
    let terrain = facts.terrain.clone().ok_or_else(Error::not_routed)?;
    let (routing, network) =
        (facts.routing.as_ref().ok_or_else(Error::not_routed)?, facts.network.ok_or_else(Error::not_routed)?);
    let key = uncertainty_key(store, &facts).await?;
    let (points, left_out) = largest(store.pour_points(study).await?)?;
    let cells = terrain.frame.cells() as u64;
    // DEM, counts and the streams of the DEM itself; shares while they are kept.
    let beside = cells * (4 + 1 + 2 + 4 + 2 * points.len() as u64);
    memory::check("making realisations of this DEM", beside + cells * Step::Realise.bytes_a_cell())?;
    let at_once = Step::Realise.at_once(cells, beside, cores());

    handle.say("reading elevations");
    let meta = prepared_dem(store, study, &terrain).await?;
    let dem = store.read_raster::<f32>(&meta).await?;
    let rasters = store.rasters(study).await?;
    let of = |role| rasters.get(&role).ok_or_else(Error::not_routed);
    let (directions, areas, filled) = tokio::try_join!(
        store.read_raster::<u8>(of(RasterRole::Direction)?),
        store.read_raster::<u32>(of(RasterRole::Accumulation)?),
        store.read_raster::<f32>(of(RasterRole::Filled)?),
    )?;
    let burned = facts.settings.conditioning.burn.is_some();
    let map = StreamMap::of(store, &facts, &terrain.frame).await?;
    let tolerance_m = tolerance(store, &facts).await?.m;
    // Agreement with streams that were burned would be no news.
    let map = (!map.lines.is_empty() && !burned)
        .then(|| (map, tolerance_m, tried(network.threshold, routing.largest_cells)));
    let mut how = conditioning_of(store, &facts).await?;
    how.volumes_only = true;
    let mut places = Vec::new();
    for (point, _) in &points {
        let snap_to = serde_json::from_value(Json::String(point.snap_to.clone()))?;
        places.push(Place { at: (point.x, point.y), snap_m: point.snap_m, snap_to });
    }
    let (threshold, method) = (network.threshold, facts.settings.conditioning.routing);
    let (rules, routed) = (StreamRules::of(&facts.settings), routing.method);
    let within = terrain.clone();
    let inputs = blocking(move || {
        let error = checked(error_of(asked, &dem, within.frame.cell_m())?, &within)?;
        let grids = Arc::new(Grids::new(within.frame, directions, areas, filled, routed)?);
        let streams = Streams::on(grids, &StreamRules { edits: Vec::new(), ..rules.clone() }, &Silent)?;
        let (rows, cols, told) = (within.frame.rows, within.frame.cols, streams.unedited().values());
        let streams = Grid::from_vec(rows, cols, told.iter().map(|&a| threshold.is_stream(a)).collect());
        Ok(Inputs {
            dem,
            frame: within.frame,
            error,
            seed: asked.seed,
            how,
            method,
            beginning: rules.beginning,
            threshold,
            places,
            map,
            streams,
        })
    });
    let inputs = Arc::new(inputs.await?);
    let mut found = UncertaintyFacts {
        asked,
        error: inputs.error,
        key,
        threshold,
        burned,
        edited: !facts.settings.edits.is_empty(),
        left_out,
        catchments: points
            .iter()
            .map(|(point, of)| DoubtfulCatchment {
                point: point.id,
                name: point.name.clone(),
                area_km2: of.area_km2,
                doubt: Doubt::default(),
            })
            .collect(),
        streams_kept: 0.0,
        cell_km2: terrain.frame.cell_area().as_km2(),
        figures: Vec::new(),
        took_s: 0.0,
    };

    let mut tally = inputs.with(Tally::new);
    let wanted = asked.realisations as usize;
    let (mut shown, mut last, mut showing) = (0, Instant::now(), Duration::ZERO);
    while tally.figures.len() < wanted {
        let done = tally.figures.len();
        handle.say(&match shown {
            0 => format!("{done} of {wanted} realisations"),
            _ => format!("{done} of {wanted} realisations; {shown} are shown"),
        });
        let next = at_once.min(wanted - done);
        let part = handle.part(done as f64 / wanted as f64, (done + next) as f64 / wanted as f64);
        let with = Arc::clone(&inputs);
        let worked = blocking(move || {
            let went = with.with(|of| tally.go_on(of, next, next, &part));
            Ok((tally, went))
        });
        let went;
        (tally, went) = worked.await?;
        if let Err(stopped) = went {
            // What was counted until then is kept.
            if stopped == bothros_core::Error::Cancelled && tally.figures.len() >= REALISATIONS.0 as usize {
                break;
            }
            return Err(stopped.into());
        }
        if last.elapsed() > SHOWN_AFTER.max(showing * SHOWN_EVERY) && tally.figures.len() < wanted {
            let from = Instant::now();
            found.took_s = begun.elapsed().as_secs_f64();
            tally = keep(store, (study, &meta), &mut found, tally, &inputs, None).await?;
            (shown, last, showing) = (tally.figures.len(), Instant::now(), from.elapsed());
        }
    }
    handle.say("keeping the probabilities");
    let made = tally.figures.len();
    let made_of = if made < wanted { format!("{made} of {wanted}") } else { made.to_string() };
    let text = format!(
        "Made {made_of} realisations of the DEM with a vertical error of {:.2} m and a correlation length of {:.0} m",
        found.error.sd_m, found.error.correlation_m
    );
    found.took_s = begun.elapsed().as_secs_f64();
    let line = LogLine::new(Stage::Catchments.title(), text.clone())
        .with(json!({ "asked": asked, "error": found.error }))
        .taking(begun.elapsed());
    keep(store, (study, &meta), &mut found, tally, &inputs, Some(line)).await?;
    Ok(text)
}

fn cores() -> usize {
    std::thread::available_parallelism().map_or(1, std::num::NonZero::get)
}

/// Keeps what was counted so far in the place of what was kept before.
async fn keep(
    store: &Store,
    (study, dem): (i64, &RasterMeta),
    found: &mut UncertaintyFacts,
    tally: Tally,
    inputs: &Arc<Inputs>,
    line: Option<LogLine>,
) -> Result<Tally> {
    let (with, tally) = (Arc::clone(inputs), Arc::new(tally));
    let frame = inputs.frame;
    let writer = store.write(study).await?;
    let of = Arc::clone(&tally);
    let (streams, kept_share) = blocking(move || {
        let streams = of.shares(&of.streams, &with.dem);
        let own = with.streams.values().iter().zip(streams.values()).filter(|(is, _)| **is);
        let (all, kept) = own.fold((0u64, 0u64), |(n, k), (_, p)| (n + 1, k + u64::from(*p >= 0.5)));
        Ok((streams, if all > 0 { kept as f64 / all as f64 } else { 0.0 }))
    })
    .await?;
    found.streams_kept = kept_share;
    let always = |_: f64| true;
    writer.put(NewRaster::at(RasterRole::StreamProbability, &frame), &streams, &always).await?;
    drop(streams);
    for (at, catchment) in found.catchments.iter_mut().enumerate() {
        let (with, of) = (Arc::clone(inputs), Arc::clone(&tally));
        let (shares, open) = blocking(move || {
            let shares = of.shares(&of.catchments[at], &with.dem);
            let open = doubt(&shares, &with.frame);
            Ok((shares, open))
        })
        .await?;
        catchment.doubt = open;
        let role = RasterRole::CatchmentProbability(at as u8);
        writer.put(NewRaster::at(role, &frame), &shares, &always).await?;
    }
    let unused: Vec<_> = RasterRole::all()
        .filter(|role| matches!(role, RasterRole::CatchmentProbability(at) if usize::from(*at) >= found.catchments.len()))
        .collect();
    writer.remove(&unused).await?;
    found.figures.clone_from(&tally.figures);
    let change = writer.into_change().await?;
    if change.raster(RasterRole::Dem).await?.is_none_or(|now| now.id != dem.id) {
        return Err(Error::Refused("the DEM was changed meanwhile: start again".into()));
    }
    change.set(vec![(StudyPart::Uncertainty, Some(Kept::of(found)?))]).await?;
    change.commit(line.map(Record::log).unwrap_or_default()).await?;
    Arc::try_unwrap(tally).map_err(|_| Error::Refused("the counts are still in use".into()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thresholds_lie_close_around_the_study_s_own() {
        let all: Vec<f64> =
            tried(Threshold::cells(8000), 2_000_000).iter().map(|t| f64::from(t.as_cells())).collect();
        assert_eq!((all[0], all[all.len() - 1]), (1000.0, 64_000.0));
        assert!(all.windows(2).all(|w| w[1] > w[0] && w[1] / w[0] < 1.06));
        // No farther than a third of the largest area, and never none.
        let few = tried(Threshold::cells(30), 90);
        assert_eq!(few.last(), Some(&Threshold::cells(30)));
        assert_eq!(tried(Threshold::cells(1), 2), [Threshold::cells(1)]);
    }
}
