//! Work that a process shares with others: joining it, doing what is to be done, finishing it.

use std::collections::{BTreeMap, HashSet};
use std::ops::Range;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bothros_core::conditioning::{BandBreaches, BreachLimits, least_rows_to_breach, report_of_bands};
use bothros_core::routing::{DIVIDED_ROWS, Divided, Division};
use bothros_core::{Frame, Grid, Monitor, Quiet, cut_into_bands};
use serde::{Deserialize, Serialize};

use crate::Error;
use crate::claims::Member;
use crate::error::Result;
use crate::ground::{Breaching, Computed, Ground, Ways};
use crate::phases::{Exchange, Phase, Round};
use crate::pieces::{BESIDE, numbered};
use crate::rows;
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
    pub(crate) ways: Ways,
    /// within which limits sinks are breached first, where they are
    pub(crate) breaches: Option<(Frame, BreachLimits)>,
    /// how many grids lie beside the surface
    beside: usize,
    told: serde_json::Value,
}

impl Land {
    /// Under which name the surface lies that flow is routed on.
    pub(crate) fn routed(&self) -> &'static str {
        if self.ways.fills { "filled" } else { self.unfilled() }
    }

    /// Under which name it lies before it is filled.
    pub(crate) fn unfilled(&self) -> &'static str {
        if self.breaches.is_some() { "breached" } else { SURFACE }
    }

    /// Phases in which every band is worked on.
    fn phases(&self) -> usize {
        let more = [self.breaches.is_some(), self.ways.fills].into_iter().filter(|more| *more).count();
        3 + 2 * more + usize::from(self.ways.division.is_some())
    }
}

/// Work that this process shares with others.
pub struct Joint {
    pub(crate) shelf: Arc<Shelf>,
    pub(crate) member: Member,
    pub(crate) terms: Terms,
    pub(crate) rounds: BTreeMap<(Exchange, u32), Round>,
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
/// The surface as it was laid out.
pub(crate) const SURFACE: &str = "dem";

fn beside(number: usize) -> String {
    format!("beside-{number}")
}

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
        prepare: impl FnMut(&dyn Monitor) -> std::result::Result<Ground, E>,
        begin: &dyn Fn(&str),
        monitor: &dyn Monitor,
    ) -> std::result::Result<Outcome, E> {
        let worked = self.work_to_the_end(prepare, begin, monitor);
        // Who was slow may look for what another took away that has finished meanwhile.
        match (&worked, self.shelf.find(FINISHED)) {
            (Err(_), Ok(Some(told))) if !monitor.is_cancelled() => Ok(done_elsewhere(&told)),
            _ => worked,
        }
    }

    fn work_to_the_end<E: From<Error>>(
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
                return Ok(done_elsewhere(&told));
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
                            return Ok(Outcome::Mine(Box::new(self.computed(land, &Quiet(monitor))?)));
                        }
                        say("waiting while another process finishes");
                        wait(false);
                        continue;
                    };
                    let all = (land.bands.len() * land.phases()) as f64;
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

    /// Cuts what was prepared into bands for all.
    fn lay_out(&self, ground: &Ground) -> Result<()> {
        let Ground { surface, ways, breaching, beside: more, told } = ground;
        let (rows, cols) = (surface.rows(), surface.cols());
        let reach = breaching.as_ref().and_then(Breaching::reach).unwrap_or(0);
        let least = least_rows_to_breach(reach).max(BESIDE);
        // Bands are as equal as can be, so that none is lower than half of the highest.
        let most = (self.terms.cells_at_once / cols.max(1)).min(rows.div_ceil(LEAST_BANDS)).max(2 * least);
        let bands = match ways.division {
            None => cut_into_bands(rows, most),
            Some(_) => in_stretches(rows, most, least),
        };
        let land = Land {
            rows,
            cols,
            bands,
            ways: ways.clone(),
            breaches: breaching.as_ref().map(|b| (b.frame, b.limits)),
            beside: more.len(),
            told: told.clone(),
        };
        let text = serde_json::to_vec(&land).map_err(|_| self.shelf.damaged(LAND))?;
        self.shelf.put(LAND, text)?;
        let band_of = |grid: &Grid<f32>, rows: &Range<usize>| {
            Grid::from_vec(rows.len(), cols, grid.values()[rows.start * cols..rows.end * cols].to_vec())
        };
        for (band, rows) in land.bands.iter().enumerate() {
            if let Some(breaching) = breaching {
                self.tell(&numbered("sinks", band), &breaching.sinks_of(rows.clone(), cols))?;
            }
            self.put_band_beside(SURFACE, band, &band_of(surface, rows), BESIDE.max(reach + 1))?;
        }
        // Others have something to do by now.
        for (number, grid) in more.iter().enumerate() {
            surface.same_shape(grid)?;
            for (band, rows) in land.bands.iter().enumerate() {
                rows::put(&self.shelf, &numbered(&beside(number), band), &band_of(grid, rows))?;
            }
        }
        self.shelf.put(&format!("done/{LAID_OUT}"), Vec::new())
    }

    /// Those of some bands whose elevations are there, with those of the rows beside them.
    fn there(&self, land: &Land, bands: Vec<usize>) -> Result<Vec<usize>> {
        let there: HashSet<String> = self.shelf.list(&format!("{SURFACE}-ends"))?.into_iter().collect();
        let is_there = |band: usize| band >= land.bands.len() || there.contains(&format!("{band:05}"));
        let all = |band: &usize| (band.saturating_sub(1)..band + 2).all(is_there);
        Ok(bands.into_iter().filter(all).collect())
    }

    /// Puts all bands together.
    fn computed(&self, land: Land, monitor: &dyn Monitor) -> Result<Computed> {
        let surface = self.whole(SURFACE, &land)?;
        let breached = match land.breaches {
            Some(_) => {
                let told = self.told_by_all::<BandBreaches>("breaches", &land)?;
                Some((self.whole(land.unfilled(), &land)?, report_of_bands(told, land.cols)))
            }
            None => None,
        };
        let filled = land.ways.fills.then(|| self.whole("filled", &land)).transpose()?;
        let directions = self.whole("codes", &land)?;
        let accumulation = self.whole("accumulation", &land)?;
        let (mut divided, mut angles) = (None, None);
        if let Some(division) = land.ways.division {
            let unfilled = breached.as_ref().map_or(&surface, |(ground, _)| ground);
            let routed = filled.as_ref().unwrap_or(unfilled);
            let (sums, found) =
                self.divided(division, &land)?.accumulate(division, routed, &directions, monitor)?;
            (divided, angles) = (Some(sums), found);
        }
        let more = (0..land.beside).map(|number| self.whole(&beside(number), &land));
        let beside = more.collect::<Result<_>>()?;
        Ok(Computed {
            surface,
            beside,
            ways: land.ways,
            told: land.told,
            breached,
            filled,
            directions,
            accumulation,
            divided,
            angles,
        })
    }

    /// What all bands began of divided flow.
    fn divided(&self, division: Division, land: &Land) -> Result<Divided> {
        let by_angles = division == Division::DInfinity;
        Ok(Divided {
            angles: by_angles.then(|| self.whole("angles", land)).transpose()?,
            sums: self.whole("sums", land)?,
            waiting: self.whole("waiting", land)?,
            leaving: self.told_by_all::<Vec<u32>>("leaving", land)?.concat(),
        })
    }
}

/// Cuts `rows` rows into bands of `most` rows at most and `least` at least, but of whole stretches of those that flow is divided in.
fn in_stretches(rows: usize, most: usize, least: usize) -> Vec<Range<usize>> {
    let each = (most / DIVIDED_ROWS).max(least.div_ceil(DIVIDED_ROWS)).max(1) * DIVIDED_ROWS;
    let mut bands: Vec<Range<usize>> =
        (0..rows).step_by(each).map(|from| from..(from + each).min(rows)).collect();
    if let [.., before, last] = &mut bands[..]
        && last.len() < least
    {
        before.end = last.end;
        bands.pop();
    }
    bands
}

fn done_elsewhere(told: &[u8]) -> Outcome {
    Outcome::Done(String::from_utf8_lossy(told).into_owned())
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
