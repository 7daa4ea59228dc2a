//! The phases of filling and routing, band by band, and who is to do what next.

use std::collections::{BTreeMap, HashSet};
use std::ops::Range;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bothros_core::conditioning::{BandSpills, FillingBand, settle_spills};
use bothros_core::routing::{AccumulatingBand, BandFlow, FlatSteps, RoutingBand, settle_flow};
use bothros_core::{Band, Grid, Monitor, Quiet, Rim, cut_into_bands};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::claims::Member;
use crate::error::Result;
use crate::shelf::Shelf;
use crate::{Error, rows};

/// Rows beside a band that flats are resolved with.
const BESIDE: usize = 2;
/// Bands at least, where a DEM has the rows, so that several processes have something to do.
const LEAST_BANDS: usize = 24;
/// Between two looks at whether there is something to do: at first, and at most after looking in vain.
const LOOK: Duration = Duration::from_millis(5);
const LOOK_AT_MOST: Duration = Duration::from_millis(400);
/// So long a process leaves bands to those that have begun them, when it has nothing else to do.
const LEAVES_THEM: Duration = Duration::from_secs(2);
/// Bytes of memory that a cell takes of a band that is kept in memory between phases.
const HELD: u64 = 10;

/// What all that share the work must agree on; the first to come decides.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Terms {
    /// name and version of the program
    pub program: String,
    /// what is computed from what
    pub work: String,
    /// cells of a band at most
    pub cells_at_once: usize,
}

/// The prepared DEM.
#[derive(Debug, Clone)]
pub struct Ground {
    /// elevations, metres, `NaN` for nodata
    pub dem: Grid<f32>,
    /// what else whoever finishes the work must know of it
    pub told: serde_json::Value,
}

/// What was computed by all.
#[derive(Debug, Clone)]
pub struct Computed {
    /// what was filled
    pub ground: Ground,
    /// the filled DEM, metres
    pub filled: Grid<f32>,
    /// D8 codes
    pub directions: Grid<u8>,
    /// cells upstream
    pub accumulation: Grid<u32>,
}

/// How the shared work ended.
#[derive(Debug)]
pub enum Outcome {
    /// all is computed, and this process is to do the rest and tell it by [`Joint::done`]
    Mine(Box<Computed>),
    /// another process has done the rest: what it told
    Done(String),
}

/// The DEM that is worked on.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct Land {
    rows: usize,
    cols: usize,
    bands: Vec<Range<usize>>,
    told: serde_json::Value,
}

/// A phase; each waits for the one before.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Phase {
    Spills,
    SettleSpills,
    Fill,
    /// steps over flats, in rounds: those that reach over several bands take some
    Steps(u32),
    SettleSteps(u32),
    /// directions, and how flow gets through a band
    Flow,
    SettleFlow,
    Accumulate,
}

impl Phase {
    fn name(self) -> String {
        match self {
            Self::Spills => "spills".into(),
            Self::SettleSpills => "settle-spills".into(),
            Self::Fill => "fill".into(),
            Self::Steps(round) => format!("steps-{round:04}"),
            Self::SettleSteps(round) => format!("settle-steps-{round:04}"),
            Self::Flow => "flow".into(),
            Self::SettleFlow => "settle-flow".into(),
            Self::Accumulate => "accumulate".into(),
        }
    }

    /// What it is called where progress is shown.
    fn told(self) -> &'static str {
        match self {
            Self::Spills | Self::SettleSpills => "finding how high sinks fill, with others",
            Self::Fill => "filling sinks, with others",
            Self::Steps(_) | Self::SettleSteps(_) => "finding flow directions, with others",
            Self::Flow | Self::SettleFlow | Self::Accumulate => "accumulating flow, with others",
        }
    }

    /// Whether one process does it for all bands.
    fn is_settling(self) -> bool {
        matches!(self, Self::SettleSpills | Self::SettleSteps(_) | Self::SettleFlow)
    }
}

/// What a process still has of a band that it worked on in the phase before.
enum Held {
    Filling(FillingBand),
    Filled(Grid<f32>),
    Routing(RoutingBand),
    Accumulating(AccumulatingBand),
}

/// What a round of steps over flats led to.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct Round {
    /// for each band the round in which it was done last
    last: Vec<u32>,
    /// the bands whose neighbours found other steps than they were told
    next: Vec<usize>,
}

/// Work that this process shares with others.
pub struct Joint {
    shelf: Arc<Shelf>,
    member: Member,
    terms: Terms,
    rounds: BTreeMap<u32, Round>,
    /// bands that are kept in memory for the next phase, and how much memory may go into that, bytes
    held: BTreeMap<usize, Held>,
    room: u64,
    /// bands that were begun here and are not kept
    let_go: HashSet<usize>,
    /// since when there has been nothing to do here in a phase
    idle: Option<(Phase, Instant)>,
}

const FINISHED: &str = "finished";
const PLAN: &str = "plan";
const LAND: &str = "land";
const LAID_OUT: &str = "laid-out";

impl Joint {
    /// Joins the work in a place, or begins it: a directory, or `s3://bucket/prefix`. Bands are kept in memory from phase to phase as
    /// far as they fit `room` bytes. `differs` tells how the work that was begun there differs from what is to be done here.
    ///
    /// # Errors
    /// [`Error::Place`], [`Error::Access`], [`Error::Version`] and [`Error::Other`] where other work lies there.
    pub fn join(place: &str, terms: Terms, room: u64, differs: impl FnOnce(&str) -> String) -> Result<Self> {
        let shelf = Arc::new(Shelf::open(place)?);
        let text = |terms: &Terms| serde_json::to_vec(terms).map_err(|_| shelf.damaged(PLAN));
        let begun: Terms = if shelf.create(PLAN, text(&terms)?)? {
            terms
        } else {
            let begun: Terms = serde_json::from_slice(&shelf.get(PLAN)?).map_err(|_| shelf.damaged(PLAN))?;
            let place = place.to_owned();
            if begun.program != terms.program {
                return Err(Error::Version { place, begun: begun.program, own: terms.program });
            }
            if begun.work != terms.work {
                return Err(Error::Other { place, why: differs(&begun.work) });
            }
            begun
        };
        let member = Member::join(Arc::clone(&shelf))?;
        Ok(Self {
            shelf,
            member,
            terms: begun,
            rounds: BTreeMap::new(),
            held: BTreeMap::new(),
            room,
            let_go: HashSet::new(),
            idle: None,
        })
    }

    /// Works with the others until all is computed. `prepare` gives the DEM, if this process is to prepare it; `begin` is told what
    /// is being done.
    ///
    /// # Errors
    /// Those of `prepare`, [`Error::Access`] and [`Error::Damaged`], [`Error::Core`] with
    /// [`bothros_core::Error::Cancelled`].
    pub fn work<E: From<Error>>(
        &mut self,
        mut prepare: impl FnMut(&dyn Monitor) -> std::result::Result<Ground, E>,
        begin: &dyn Fn(&str),
        monitor: &dyn Monitor,
    ) -> std::result::Result<Outcome, E> {
        let mut said = "";
        let mut say = |what: &'static str| {
            if said != what {
                begin(what);
                said = what;
            }
        };
        let mut look = LOOK;
        let mut wait = |worked: bool| {
            if !worked {
                std::thread::sleep(look);
            }
            look = if worked { LOOK } else { (look * 2).min(LOOK_AT_MOST) };
        };
        loop {
            check(monitor)?;
            if let Some(told) = self.shelf.find(FINISHED)? {
                return Ok(Outcome::Done(String::from_utf8_lossy(&told).into_owned()));
            }
            let worked = match self.land()? {
                None => match self.member.take("prepare")? {
                    false => false,
                    true => {
                        say("preparing the DEM");
                        let ground = prepare(&Quiet(monitor))?;
                        self.lay_out(&ground)?;
                        true
                    }
                },
                Some(land) => {
                    let done: HashSet<String> = self.shelf.list("done")?.into_iter().collect();
                    // Others begin with the bands that are there while one still lays them out.
                    if !done.contains(LAID_OUT) && self.member.take("prepare")? {
                        say("preparing the DEM");
                        self.lay_out(&prepare(&Quiet(monitor))?)?;
                        continue;
                    }
                    let Some((phase, bands)) = self.next(&land, &done)? else {
                        if self.member.take("finish")? {
                            say("putting together what was computed");
                            return Ok(Outcome::Mine(Box::new(self.computed(land)?)));
                        }
                        say("waiting while another process finishes");
                        wait(false);
                        continue;
                    };
                    let all = land.bands.len() as f64 * 5.0;
                    monitor.progress((done.len() as f64 / all).min(1.0));
                    say(phase.told());
                    let bands = match done.contains(LAID_OUT) {
                        true => bands,
                        false => self.there(&land, bands)?,
                    };
                    self.work_on(&land, phase, &bands, &Quiet(monitor))?
                }
            };
            wait(worked);
        }
    }

    /// Tells the others that the rest is done, and takes away what nobody needs any more.
    ///
    /// # Errors
    /// [`Error::Access`].
    pub fn done(self, told: &str) -> Result<()> {
        self.shelf.put(FINISHED, told.as_bytes().to_vec())?;
        self.shelf.clear(&[FINISHED, PLAN])
    }

    fn land(&self) -> Result<Option<Land>> {
        let found = self.shelf.find(LAND)?;
        let land = found.map(|text| serde_json::from_slice(&text).map_err(|_| self.shelf.damaged(LAND)));
        land.transpose()
    }

    /// Cuts the prepared DEM into bands for all.
    fn lay_out(&self, ground: &Ground) -> Result<()> {
        let (rows, cols) = (ground.dem.rows(), ground.dem.cols());
        let most = (self.terms.cells_at_once / cols.max(1)).min(rows.div_ceil(LEAST_BANDS)).max(BESIDE);
        let land = Land { rows, cols, bands: cut_into_bands(rows, most), told: ground.told.clone() };
        let text = serde_json::to_vec(&land).map_err(|_| self.shelf.damaged(LAND))?;
        self.shelf.put(LAND, text)?;
        for (band, rows) in land.bands.iter().enumerate() {
            let values = ground.dem.values()[rows.start * cols..rows.end * cols].to_vec();
            self.put_band("dem", band, &Grid::from_vec(rows.len(), cols, values))?;
        }
        self.shelf.put(&format!("done/{LAID_OUT}"), Vec::new())
    }

    /// Those of some bands whose elevations are there, with those of the rows beside them.
    fn there(&self, land: &Land, bands: Vec<usize>) -> Result<Vec<usize>> {
        let there: HashSet<String> = self.shelf.list("dem-ends")?.into_iter().collect();
        let is_there = |band: usize| band >= land.bands.len() || there.contains(&format!("{band:05}"));
        let all = |band: &usize| (band.saturating_sub(1)..band + 2).all(is_there);
        Ok(bands.into_iter().filter(all).collect())
    }

    /// What is to be done next: a phase, and those of its bands that are not done.
    fn next(&mut self, land: &Land, done: &HashSet<String>) -> Result<Option<(Phase, Vec<usize>)>> {
        let all: Vec<usize> = (0..land.bands.len()).collect();
        let mut phase = Phase::Spills;
        let mut bands = all.clone();
        loop {
            let left: Vec<usize> = match phase.is_settling() {
                true if done.contains(&phase.name()) => Vec::new(),
                true => vec![0],
                false => bands.iter().copied().filter(|&band| !done.contains(&task(phase, band))).collect(),
            };
            if !left.is_empty() {
                return Ok(Some((phase, left)));
            }
            bands.clone_from(&all);
            phase = match phase {
                Phase::Spills => Phase::SettleSpills,
                Phase::SettleSpills => Phase::Fill,
                Phase::Fill => Phase::Steps(0),
                Phase::Steps(round) => Phase::SettleSteps(round),
                Phase::SettleSteps(round) => {
                    let next = &self.round(round)?.next;
                    if next.is_empty() {
                        Phase::Flow
                    } else {
                        bands.clone_from(next);
                        Phase::Steps(round + 1)
                    }
                }
                Phase::Flow => Phase::SettleFlow,
                Phase::SettleFlow => Phase::Accumulate,
                Phase::Accumulate => return Ok(None),
            };
        }
    }

    fn round(&mut self, round: u32) -> Result<&Round> {
        if !self.rounds.contains_key(&round) {
            let read = self.told(&format!("rounds/{round:04}"))?;
            self.rounds.insert(round, read);
        }
        Ok(&self.rounds[&round])
    }

    /// Does one task of a phase that nobody does; whether there was one.
    fn work_on(&mut self, land: &Land, phase: Phase, bands: &[usize], monitor: &dyn Monitor) -> Result<bool> {
        // Each process begins elsewhere, so that they seldom want the same; what it has in memory goes first.
        let own = self
            .member
            .name()
            .bytes()
            .fold(0usize, |sum, byte| sum.wrapping_mul(31).wrapping_add(byte as usize));
        let mut bands: Vec<usize> = (0..bands.len()).map(|at| bands[(at + own) % bands.len()]).collect();
        bands.sort_by_key(|band| !self.held.contains_key(band));
        let alone = self.member.is_alone()?;
        for band in bands {
            if !alone && !self.may_take(phase, band) {
                continue;
            }
            let task = if phase.is_settling() { phase.name() } else { task(phase, band) };
            if !self.member.take(&task)? {
                continue;
            }
            self.idle = None;
            match phase {
                Phase::SettleSpills => self.settle_spills(land, monitor)?,
                Phase::SettleSteps(round) => self.settle_steps(land, round)?,
                Phase::SettleFlow => self.settle_flow(land, monitor)?,
                Phase::Spills => {
                    let filling = self.filling(land, band, monitor)?;
                    self.tell(&numbered("spills", band), &filling.spills(monitor)?)?;
                    self.hold(land, band, Held::Filling(filling));
                }
                Phase::Fill => {
                    let levels: Rim<f32> = self.told(&numbered("levels", band))?;
                    let filled = self.filling(land, band, monitor)?.fill(&levels, monitor)?;
                    self.put_band("filled", band, &filled)?;
                    self.hold(land, band, Held::Filled(filled));
                }
                Phase::Steps(round) => {
                    let last = self.last_done(land, round)?;
                    let routing = self.routing(land, &last, band, monitor)?;
                    self.tell(&steps(round, band), &routing.rim())?;
                    self.hold(land, band, Held::Routing(routing));
                }
                Phase::Flow => {
                    let last = self.last_done(land, self.last_round())?;
                    let codes = self.routing(land, &last, band, monitor)?.directions(monitor)?;
                    rows::put(&self.shelf, &numbered("codes", band), &codes)?;
                    let accumulating = AccumulatingBand::begin(codes, monitor)?;
                    self.tell(&numbered("flow", band), &accumulating.flow(monitor)?)?;
                    self.hold(land, band, Held::Accumulating(accumulating));
                }
                Phase::Accumulate => {
                    let inflow: Rim<u32> = self.told(&numbered("inflow", band))?;
                    let accumulating = match self.held.remove(&band) {
                        Some(Held::Accumulating(accumulating)) => accumulating,
                        _ => AccumulatingBand::begin(self.rows("codes", land, band)?, monitor)?,
                    };
                    let sums = accumulating.accumulate(&inflow, monitor)?;
                    rows::put(&self.shelf, &numbered("accumulation", band), &sums)?;
                }
            }
            self.shelf.put(&format!("done/{task}"), Vec::new())?;
            return Ok(true);
        }
        if self.idle.is_none_or(|(of, _)| of != phase) {
            self.idle = Some((phase, Instant::now()));
        }
        Ok(false)
    }

    /// Whether a band is to be taken: one that another process has in memory is left to it for a while.
    fn may_take(&self, phase: Phase, band: usize) -> bool {
        match phase {
            Phase::Spills => true,
            phase if phase.is_settling() => true,
            phase => {
                self.held.contains_key(&band)
                    || self.let_go.contains(&band)
                    || self.idle.is_some_and(|(of, since)| of == phase && since.elapsed() > LEAVES_THEM)
            }
        }
    }

    /// Keeps a band in memory for the next phase, if there is room.
    fn hold(&mut self, land: &Land, band: usize, what: Held) {
        let cells = |band: usize| (land.bands[band].len() * land.cols) as u64;
        let held: u64 = self.held.keys().copied().filter(|&other| other != band).map(cells).sum();
        if (held + cells(band)).saturating_mul(HELD) <= self.room {
            self.held.insert(band, what);
        } else {
            self.held.remove(&band);
            self.let_go.insert(band);
        }
    }

    /// A band that is being filled: as it is in memory, or from its elevations.
    fn filling(&mut self, land: &Land, band: usize, monitor: &dyn Monitor) -> Result<FillingBand> {
        match self.held.remove(&band) {
            Some(Held::Filling(filling)) => Ok(filling),
            _ => Ok(FillingBand::begin(self.band("dem", land, band, 1)?, monitor)?),
        }
    }

    /// A band whose directions are sought, with what was told beside it by what was done `last`: as it is in memory, or from the
    /// filled surface.
    fn routing(
        &mut self,
        land: &Land,
        last: &[Option<u32>],
        band: usize,
        monitor: &dyn Monitor,
    ) -> Result<RoutingBand> {
        let told = self.steps_beside(land, last, band)?;
        let mut routing = match self.held.remove(&band) {
            Some(Held::Routing(routing)) => routing,
            Some(Held::Filled(filled)) => {
                RoutingBand::begin(&self.with_rows_beside("filled", land, band, &filled, BESIDE)?, monitor)?
            }
            _ => RoutingBand::begin(&self.band("filled", land, band, BESIDE)?, monitor)?,
        };
        routing.count_on(&told, monitor)?;
        Ok(routing)
    }

    /// The round after the one that settled the steps.
    fn last_round(&self) -> u32 {
        self.rounds.keys().max().map_or(0, |round| round + 1)
    }

    fn settle_spills(&self, land: &Land, monitor: &dyn Monitor) -> Result<()> {
        let told: Vec<BandSpills> = self.told_by_all("spills", land)?;
        for (band, levels) in settle_spills(&told, monitor)?.iter().enumerate() {
            self.tell(&numbered("levels", band), levels)?;
        }
        Ok(())
    }

    fn settle_flow(&self, land: &Land, monitor: &dyn Monitor) -> Result<()> {
        let told: Vec<BandFlow> = self.told_by_all("flow", land)?;
        for (band, inflow) in settle_flow(&told, monitor)?.iter().enumerate() {
            self.tell(&numbered("inflow", band), inflow)?;
        }
        Ok(())
    }

    /// In which round each band was done last, before a round.
    fn last_done(&mut self, land: &Land, round: u32) -> Result<Vec<Option<u32>>> {
        Ok(match round.checked_sub(1) {
            None => vec![None; land.bands.len()],
            Some(before) => self.round(before)?.last.iter().copied().map(Some).collect(),
        })
    }

    /// The steps told beside a band by what was done in some rounds.
    fn steps_beside(&self, land: &Land, last: &[Option<u32>], band: usize) -> Result<Rim<FlatSteps>> {
        let none = vec![FlatSteps::default(); land.cols];
        let of = |other: Option<usize>| -> Result<Option<Rim<FlatSteps>>> {
            let Some(other) = other.filter(|other| *other < land.bands.len()) else { return Ok(None) };
            last[other].map(|round| self.told(&steps(round, other))).transpose()
        };
        Ok(Rim {
            first: of(band.checked_sub(1))?.map_or(none.clone(), |rim| rim.last),
            last: of(Some(band + 1))?.map_or(none, |rim| rim.first),
        })
    }

    /// Finds the bands that were told other steps than their neighbours know now.
    fn settle_steps(&mut self, land: &Land, round: u32) -> Result<()> {
        let before = self.last_done(land, round)?;
        let done_now: Vec<usize> = match round.checked_sub(1) {
            None => (0..land.bands.len()).collect(),
            Some(earlier) => self.round(earlier)?.next.clone(),
        };
        let mut last = before.clone();
        for &band in &done_now {
            last[band] = Some(round);
        }
        let mut next = Vec::new();
        for band in 0..land.bands.len() {
            // What a band was told when it was done last: in this round, or, where nothing has changed since, in an earlier one.
            let neighbours = [band.checked_sub(1), Some(band + 1)];
            let changed = neighbours.into_iter().flatten().any(|other| done_now.contains(&other));
            if changed && self.steps_beside(land, &before, band)? != self.steps_beside(land, &last, band)? {
                next.push(band);
            }
        }
        let last = last.into_iter().map(|round| round.unwrap_or(0)).collect();
        self.tell(&format!("rounds/{round:04}"), &Round { last, next })
    }

    /// Puts all bands together.
    fn computed(&self, land: Land) -> Result<Computed> {
        let dem = self.whole("dem", &land)?;
        let filled = self.whole("filled", &land)?;
        let directions = self.whole("codes", &land)?;
        let accumulation = self.whole("accumulation", &land)?;
        Ok(Computed { ground: Ground { dem, told: land.told }, filled, directions, accumulation })
    }

    fn whole<T: bytemuck::Pod + Send + Sync>(&self, what: &str, land: &Land) -> Result<Grid<T>> {
        let mut values = vec![T::zeroed(); land.rows * land.cols];
        for (band, own) in land.bands.iter().enumerate() {
            let own = &mut values[own.start * land.cols..own.end * land.cols];
            rows::into(&self.shelf, &numbered(what, band), land.cols, own)?;
        }
        Ok(Grid::from_vec(land.rows, land.cols, values))
    }

    fn rows<T: bytemuck::Pod + Send + Sync>(&self, what: &str, land: &Land, band: usize) -> Result<Grid<T>> {
        rows::get(&self.shelf, &numbered(what, band), land.bands[band].len(), land.cols)
    }

    /// Puts a band of elevations, and beside it its first and last rows for its neighbours.
    fn put_band(&self, what: &str, band: usize, values: &Grid<f32>) -> Result<()> {
        rows::put(&self.shelf, &numbered(what, band), values)?;
        let beside = (BESIDE * values.cols()).min(values.len());
        let (first, last) = (&values.values()[..beside], &values.values()[values.len() - beside..]);
        self.tell(&numbered(&format!("{what}-ends"), band), &(first, last))
    }

    /// A band of elevations with some rows beside it.
    fn band(&self, what: &str, land: &Land, band: usize, beside: usize) -> Result<Band<f32>> {
        self.with_rows_beside(what, land, band, &self.rows(what, land, band)?, beside)
    }

    fn with_rows_beside(
        &self,
        what: &str,
        land: &Land,
        band: usize,
        own: &Grid<f32>,
        beside: usize,
    ) -> Result<Band<f32>> {
        type Ends = (Vec<f32>, Vec<f32>);
        let ends = |other: Option<usize>| -> Result<Ends> {
            match other.filter(|other| *other < land.bands.len()) {
                Some(other) => self.told(&numbered(&format!("{what}-ends"), other)),
                None => Ok(Ends::default()),
            }
        };
        let cells = beside * land.cols;
        let (_, above) = ends(band.checked_sub(1))?;
        let (below, _) = ends(Some(band + 1))?;
        let above = &above[above.len().saturating_sub(cells)..];
        let below = &below[..cells.min(below.len())];
        Ok(Band::new(above, own, below)?)
    }

    fn tell(&self, name: &str, what: &impl Serialize) -> Result<()> {
        let text = postcard::to_stdvec(what).map_err(|_| self.shelf.damaged(name))?;
        self.shelf.put(name, text)
    }

    fn told<T: DeserializeOwned>(&self, name: &str) -> Result<T> {
        postcard::from_bytes(&self.shelf.get(name)?).map_err(|_| self.shelf.damaged(name))
    }

    fn told_by_all<T: DeserializeOwned>(&self, what: &str, land: &Land) -> Result<Vec<T>> {
        (0..land.bands.len()).map(|band| self.told(&numbered(what, band))).collect()
    }
}

fn check(monitor: &dyn Monitor) -> Result<()> {
    if monitor.is_cancelled() { Err(bothros_core::Error::Cancelled.into()) } else { Ok(()) }
}

fn numbered(what: &str, band: usize) -> String {
    format!("{what}/{band:05}")
}

fn steps(round: u32, band: usize) -> String {
    format!("steps/{round:04}-{band:05}")
}

fn task(phase: Phase, band: usize) -> String {
    format!("{}-{band:05}", phase.name())
}
