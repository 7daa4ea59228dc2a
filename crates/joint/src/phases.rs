//! The phases of breaching, filling and routing, in their order, and what is settled between them.

use std::collections::HashSet;

use bothros_core::conditioning::{BandSpills, LoweredBeside, settle_spills};
use bothros_core::routing::{BandFlow, FlatSteps, settle_flow};
use bothros_core::{Monitor, Rim};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::error::Result;
use crate::joint::{Joint, Land};
use crate::pieces::{numbered, told_in};

/// A phase; each waits for the one before.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Phase {
    /// sinks breached, in rounds: what one band cuts another may find
    Breach(u32),
    SettleBreach(u32),
    /// bands as they are once all is cut
    Cut,
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
    /// flow divided, as far as a band can by itself
    Divide,
}

impl Phase {
    pub(crate) fn name(self) -> String {
        match self {
            Self::Breach(round) => format!("breach-{round:04}"),
            Self::SettleBreach(round) => format!("settle-breach-{round:04}"),
            Self::Cut => "cut".into(),
            Self::Spills => "spills".into(),
            Self::SettleSpills => "settle-spills".into(),
            Self::Fill => "fill".into(),
            Self::Steps(round) => format!("steps-{round:04}"),
            Self::SettleSteps(round) => format!("settle-steps-{round:04}"),
            Self::Flow => "flow".into(),
            Self::SettleFlow => "settle-flow".into(),
            Self::Accumulate => "accumulate".into(),
            Self::Divide => "divide".into(),
        }
    }

    /// What it is called where progress is shown.
    pub(crate) fn told(self) -> &'static str {
        match self {
            Self::Breach(_) | Self::SettleBreach(_) | Self::Cut => "breaching sinks, with others",
            Self::Spills | Self::SettleSpills => "finding how high sinks fill, with others",
            Self::Fill => "filling sinks, with others",
            Self::Steps(_) | Self::SettleSteps(_) => "finding flow directions, with others",
            Self::Flow | Self::SettleFlow | Self::Accumulate => "accumulating flow, with others",
            Self::Divide => "dividing flow, with others",
        }
    }

    /// The first there is: bands come to it from what was laid out.
    pub(crate) fn first(land: &Land) -> Self {
        if land.breaches.is_some() { Self::Breach(0) } else { Self::after_breaching(land) }
    }

    fn after_breaching(land: &Land) -> Self {
        if land.ways.fills { Self::Spills } else { Self::Steps(0) }
    }

    /// Whether one process does it for all bands.
    pub(crate) fn is_settling(self) -> bool {
        matches!(self, Self::SettleBreach(_) | Self::SettleSpills | Self::SettleSteps(_) | Self::SettleFlow)
    }
}

pub(crate) fn task(phase: Phase, band: usize) -> String {
    format!("{}-{band:05}", phase.name())
}

/// What bands tell each other in rounds, until none is told anything new.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Exchange {
    /// what was cut near a rim
    Cuts,
    /// steps over flats at a rim
    Steps,
}

impl Exchange {
    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Cuts => "cuts",
            Self::Steps => "steps",
        }
    }
}

/// What a round led to.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Round {
    /// for each band the round in which it was done last
    last: Vec<u32>,
    /// the bands whose neighbours tell something else than they were told
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
        let mut phase = Phase::first(land);
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
                Phase::Breach(round) => Phase::SettleBreach(round),
                Phase::SettleBreach(round) => match self.again(Exchange::Cuts, round)? {
                    None => Phase::Cut,
                    Some(some) => {
                        bands = some;
                        Phase::Breach(round + 1)
                    }
                },
                Phase::Cut => Phase::after_breaching(land),
                Phase::Spills => Phase::SettleSpills,
                Phase::SettleSpills => Phase::Fill,
                Phase::Fill => Phase::Steps(0),
                Phase::Steps(round) => Phase::SettleSteps(round),
                Phase::SettleSteps(round) => match self.again(Exchange::Steps, round)? {
                    None => Phase::Flow,
                    Some(some) => {
                        bands = some;
                        Phase::Steps(round + 1)
                    }
                },
                Phase::Flow => Phase::SettleFlow,
                Phase::SettleFlow => Phase::Accumulate,
                Phase::Accumulate if land.ways.division.is_some() => Phase::Divide,
                Phase::Accumulate | Phase::Divide => return Ok(None),
            };
        }
    }

    /// The bands of another round, where one is needed.
    fn again(&mut self, of: Exchange, round: u32) -> Result<Option<Vec<usize>>> {
        let next = &self.round(of, round)?.next;
        Ok((!next.is_empty()).then(|| next.clone()))
    }

    pub(crate) fn round(&mut self, of: Exchange, round: u32) -> Result<&Round> {
        let key = (of, round);
        if !self.rounds.contains_key(&key) {
            let read = self.told(&round_of(of, round))?;
            self.rounds.insert(key, read);
        }
        Ok(&self.rounds[&key])
    }

    /// The round after the one that settled what is told.
    pub(crate) fn last_round(&self, of: Exchange) -> u32 {
        let rounds = self.rounds.keys().filter(|(what, _)| *what == of);
        rounds.map(|(_, round)| round + 1).max().unwrap_or(0)
    }

    /// In which round each band was done last, before a round.
    pub(crate) fn last_done(&mut self, land: &Land, of: Exchange, round: u32) -> Result<Vec<Option<u32>>> {
        Ok(match round.checked_sub(1) {
            None => vec![None; land.bands.len()],
            Some(before) => self.round(of, before)?.last.iter().copied().map(Some).collect(),
        })
    }

    /// What the bands above and below a band told in the rounds in which they were done last; none where there is no band, or it was not
    /// done.
    fn told_beside<T: DeserializeOwned>(
        &self,
        land: &Land,
        of: Exchange,
        last: &[Option<u32>],
        band: usize,
    ) -> Result<(Option<T>, Option<T>)> {
        let told = |other: Option<usize>| -> Result<Option<T>> {
            let Some(other) = other.filter(|other| *other < land.bands.len()) else { return Ok(None) };
            last[other].map(|round| self.told(&told_in(of, round, other))).transpose()
        };
        Ok((told(band.checked_sub(1))?, told(Some(band + 1))?))
    }

    /// The steps told beside a band by what was done in some rounds.
    pub(crate) fn steps_beside(
        &self,
        land: &Land,
        last: &[Option<u32>],
        band: usize,
    ) -> Result<Rim<FlatSteps>> {
        let none = vec![FlatSteps::default(); land.cols];
        let (above, below) = self.told_beside::<Rim<FlatSteps>>(land, Exchange::Steps, last, band)?;
        Ok(Rim {
            first: above.map_or(none.clone(), |rim| rim.last),
            last: below.map_or(none, |rim| rim.first),
        })
    }

    /// What was cut beside a band by what was done in some rounds.
    pub(crate) fn cuts_beside(
        &self,
        land: &Land,
        last: &[Option<u32>],
        band: usize,
    ) -> Result<LoweredBeside> {
        let (above, below) = self.told_beside::<LoweredBeside>(land, Exchange::Cuts, last, band)?;
        Ok(LoweredBeside {
            above: above.map(|told| told.below).unwrap_or_default(),
            below: below.map(|told| told.above).unwrap_or_default(),
        })
    }

    pub(crate) fn settle_spills(&self, land: &Land, monitor: &dyn Monitor) -> Result<()> {
        let told: Vec<BandSpills> = self.told_by_all("spills", land)?;
        for (band, levels) in settle_spills(&told, monitor)?.iter().enumerate() {
            self.tell(&numbered("levels", band), levels)?;
        }
        Ok(())
    }

    /// Finds the bands that were told something else than their neighbours know now, told by `beside`.
    fn settle_round<T: PartialEq>(
        &mut self,
        land: &Land,
        (of, round): (Exchange, u32),
        beside: impl Fn(&Self, &[Option<u32>], usize) -> Result<T>,
    ) -> Result<()> {
        let before = self.last_done(land, of, round)?;
        let done_now: Vec<usize> = match round.checked_sub(1) {
            None => (0..land.bands.len()).collect(),
            Some(earlier) => self.round(of, earlier)?.next.clone(),
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
            if changed && beside(self, &before, band)? != beside(self, &last, band)? {
                next.push(band);
            }
        }
        let last = last.into_iter().map(|round| round.unwrap_or(0)).collect();
        self.tell(&round_of(of, round), &Round { last, next })
    }

    pub(crate) fn settle_cuts(&mut self, land: &Land, round: u32) -> Result<()> {
        self.settle_round(land, (Exchange::Cuts, round), |joint, last, band| {
            joint.cuts_beside(land, last, band)
        })
    }

    pub(crate) fn settle_steps(&mut self, land: &Land, round: u32) -> Result<()> {
        self.settle_round(land, (Exchange::Steps, round), |joint, last, band| {
            joint.steps_beside(land, last, band)
        })
    }

    pub(crate) fn settle_flow(&self, land: &Land, monitor: &dyn Monitor) -> Result<()> {
        let told: Vec<BandFlow> = self.told_by_all("flow", land)?;
        for (band, inflow) in settle_flow(&told, monitor)?.iter().enumerate() {
            self.tell(&numbered("inflow", band), inflow)?;
        }
        Ok(())
    }
}

fn round_of(what: Exchange, round: u32) -> String {
    format!("rounds/{}-{round:04}", what.name())
}
