//! Work that a process shares with others: joining it, doing what is to be done, finishing it.

use std::collections::{BTreeMap, HashSet};
use std::ops::Range;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bothros_core::{Grid, Monitor, Quiet, cut_into_bands};
use serde::{Deserialize, Serialize};

use crate::Error;
use crate::claims::Member;
use crate::error::Result;
use crate::phases::{Phase, Round};
use crate::pieces::BESIDE;
use crate::shelf::Shelf;
use crate::tasks::Held;

/// Bands at least, where a DEM has the rows, so that several processes have something to do.
const LEAST_BANDS: usize = 24;
/// Between two looks at whether there is something to do: at first, and at most after looking in vain.
const LOOK: Duration = Duration::from_millis(5);
const LOOK_AT_MOST: Duration = Duration::from_millis(400);

/// Cells of a band at most: what a process has in memory at once, some fifteen bytes each.
const CELLS_AT_ONCE: usize = 16_000_000;
/// The part of the memory that bands may take between phases.
const FOR_BANDS: u64 = 3;

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

impl Terms {
    /// Those of some work for a program, with bands of the usual size.
    pub fn new(program: &str, work: &str) -> Self {
        Self { program: program.to_owned(), work: work.to_owned(), cells_at_once: CELLS_AT_ONCE }
    }
}

/// How much of some memory bands may take between phases, bytes.
pub fn room_in(memory: u64) -> u64 {
    memory / FOR_BANDS
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
pub(crate) struct Land {
    pub(crate) rows: usize,
    pub(crate) cols: usize,
    pub(crate) bands: Vec<Range<usize>>,
    pub(crate) told: serde_json::Value,
}

/// Work that this process shares with others.
pub struct Joint {
    pub(crate) shelf: Arc<Shelf>,
    pub(crate) member: Member,
    pub(crate) terms: Terms,
    pub(crate) rounds: BTreeMap<u32, Round>,
    /// bands that are kept in memory for the next phase, and how much memory may go into that, bytes
    pub(crate) held: BTreeMap<usize, Held>,
    pub(crate) room: u64,
    /// bands that were begun here and are not kept
    pub(crate) let_go: HashSet<usize>,
    /// since when there has been nothing to do here in a phase
    pub(crate) idle: Option<(Phase, Instant)>,
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
        Self::on(Arc::new(Shelf::open(place)?), terms, room, differs)
    }

    /// As [`Joint::join`], where the place is known.
    pub(crate) fn on(
        shelf: Arc<Shelf>,
        terms: Terms,
        room: u64,
        differs: impl FnOnce(&str) -> String,
    ) -> Result<Self> {
        let text = |terms: &Terms| serde_json::to_vec(terms).map_err(|_| shelf.damaged(PLAN));
        let begun: Terms = if shelf.create(PLAN, text(&terms)?)? {
            terms
        } else {
            let begun = Self::begun(&shelf)?.ok_or_else(|| shelf.access(PLAN, "it is not there any more"))?;
            let place = shelf.place().to_owned();
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
        let mut wait = pace();
        loop {
            check(monitor)?;
            if let Some(told) = self.shelf.find(FINISHED)? {
                return Ok(Outcome::Done(String::from_utf8_lossy(&told).into_owned()));
            }
            let done = self.done_names()?;
            // Others begin with the bands that are there while one still lays them out.
            if !done.contains(LAID_OUT) && self.member.take("prepare")? {
                say("preparing the DEM");
                self.lay_out(&prepare(&Quiet(monitor))?)?;
                continue;
            }
            let worked = match self.land()? {
                None => false,
                Some(land) => {
                    let Some(next) = self.next(&land, &done)? else {
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
                    say(next.0.told());
                    self.turn(&land, &done, next, &Quiet(monitor))?
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

    /// What all must agree on that share the work in a place; none where nobody has begun.
    pub(crate) fn begun(shelf: &Shelf) -> Result<Option<Terms>> {
        let found = shelf.find(PLAN)?;
        found.map(|text| serde_json::from_slice(&text).map_err(|_| shelf.damaged(PLAN))).transpose()
    }

    /// Names of what is done.
    pub(crate) fn done_names(&self) -> Result<HashSet<String>> {
        Ok(self.shelf.list("done")?.into_iter().collect())
    }

    /// Works on what is next, as far as it is there; whether there was something to do.
    pub(crate) fn turn(
        &mut self,
        land: &Land,
        done: &HashSet<String>,
        (phase, bands): (Phase, Vec<usize>),
        monitor: &dyn Monitor,
    ) -> Result<bool> {
        let bands = match done.contains(LAID_OUT) {
            true => bands,
            false => self.there(land, bands)?,
        };
        self.work_on(land, phase, &bands, monitor)
    }

    pub(crate) fn land(&self) -> Result<Option<Land>> {
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

    /// Puts all bands together.
    fn computed(&self, land: Land) -> Result<Computed> {
        let dem = self.whole("dem", &land)?;
        let filled = self.whole("filled", &land)?;
        let directions = self.whole("codes", &land)?;
        let accumulation = self.whole("accumulation", &land)?;
        Ok(Computed { ground: Ground { dem, told: land.told }, filled, directions, accumulation })
    }
}

/// Waits between two looks, the longer the more often there was nothing to do.
pub(crate) fn pace() -> impl FnMut(bool) {
    let mut look = LOOK;
    move |worked| {
        if !worked {
            std::thread::sleep(look);
        }
        look = if worked { LOOK } else { (look * 2).min(LOOK_AT_MOST) };
    }
}

pub(crate) fn check(monitor: &dyn Monitor) -> Result<()> {
    if monitor.is_cancelled() { Err(bothros_core::Error::Cancelled.into()) } else { Ok(()) }
}
