//! The phases of filling and routing, in their order, and what is settled between them.

use std::collections::HashSet;

use bothros_core::conditioning::{BandSpills, settle_spills};
use bothros_core::routing::{BandFlow, FlatSteps, settle_flow};
use bothros_core::{Monitor, Rim};
use serde::{Deserialize, Serialize};

use crate::error::Result;
use crate::joint::{Joint, Land};
use crate::pieces::{numbered, steps};

/// A phase; each waits for the one before.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Phase {
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
    pub(crate) fn name(self) -> String {
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
    pub(crate) fn told(self) -> &'static str {
        match self {
            Self::Spills | Self::SettleSpills => "finding how high sinks fill, with others",
            Self::Fill => "filling sinks, with others",
            Self::Steps(_) | Self::SettleSteps(_) => "finding flow directions, with others",
            Self::Flow | Self::SettleFlow | Self::Accumulate => "accumulating flow, with others",
        }
    }

    /// Whether one process does it for all bands.
    pub(crate) fn is_settling(self) -> bool {
        matches!(self, Self::SettleSpills | Self::SettleSteps(_) | Self::SettleFlow)
    }
}

pub(crate) fn task(phase: Phase, band: usize) -> String {
    format!("{}-{band:05}", phase.name())
}

/// What a round of steps over flats led to.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Round {
    /// for each band the round in which it was done last
    last: Vec<u32>,
    /// the bands whose neighbours found other steps than they were told
    next: Vec<usize>,
}

impl Joint {
    /// What is to be done next: a phase, and those of its bands that are not done.
    pub(crate) fn next(
        &mut self,
        land: &Land,
        done: &HashSet<String>,
    ) -> Result<Option<(Phase, Vec<usize>)>> {
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

    pub(crate) fn round(&mut self, round: u32) -> Result<&Round> {
        if !self.rounds.contains_key(&round) {
            let read = self.told(&format!("rounds/{round:04}"))?;
            self.rounds.insert(round, read);
        }
        Ok(&self.rounds[&round])
    }

    /// The round after the one that settled the steps.
    pub(crate) fn last_round(&self) -> u32 {
        self.rounds.keys().max().map_or(0, |round| round + 1)
    }

    /// In which round each band was done last, before a round.
    pub(crate) fn last_done(&mut self, land: &Land, round: u32) -> Result<Vec<Option<u32>>> {
        Ok(match round.checked_sub(1) {
            None => vec![None; land.bands.len()],
            Some(before) => self.round(before)?.last.iter().copied().map(Some).collect(),
        })
    }

    /// The steps told beside a band by what was done in some rounds.
    pub(crate) fn steps_beside(
        &self,
        land: &Land,
        last: &[Option<u32>],
        band: usize,
    ) -> Result<Rim<FlatSteps>> {
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

    pub(crate) fn settle_spills(&self, land: &Land, monitor: &dyn Monitor) -> Result<()> {
        let told: Vec<BandSpills> = self.told_by_all("spills", land)?;
        for (band, levels) in settle_spills(&told, monitor)?.iter().enumerate() {
            self.tell(&numbered("levels", band), levels)?;
        }
        Ok(())
    }

    /// Finds the bands that were told other steps than their neighbours know now.
    pub(crate) fn settle_steps(&mut self, land: &Land, round: u32) -> Result<()> {
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

    pub(crate) fn settle_flow(&self, land: &Land, monitor: &dyn Monitor) -> Result<()> {
        let told: Vec<BandFlow> = self.told_by_all("flow", land)?;
        for (band, inflow) in settle_flow(&told, monitor)?.iter().enumerate() {
            self.tell(&numbered("inflow", band), inflow)?;
        }
        Ok(())
    }
}
