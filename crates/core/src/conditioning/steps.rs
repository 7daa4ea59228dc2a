//! The steps of conditioning in their order, for both surfaces: those before sinks are filled, and the filling.

use std::borrow::Cow;
use std::time::Instant;

use super::{
    BreachLineOutcome, BreachReport, Changes, Conditioned, Conditioning, Remark, Step, StepKind, TreatSinks,
    breach, burn, closed_basin_bottoms, cut_and_fill, fill, fill_no_deeper, fill_to_outlets, fill_voids,
    level_lakes, lower_along, raise_along, rebuild, stream_cells,
};
use crate::monitor::check;
use crate::{Frame, Grid, Monitor, Part, Result};

/// A DEM that has gone through all steps of conditioning but the filling of its sinks.
#[derive(Debug, Clone)]
pub struct Unfilled<'a> {
    /// the ground surface, metres
    pub ground: Cow<'a, Grid<f32>>,
    /// the routing surface, where it differs from the ground surface, metres
    pub routing: Option<Grid<f32>>,
    /// the bottoms that stay open; cell numbers in row order, ascending
    pub open: Vec<u32>,
    /// whether the sinks of the ground surface are to be filled
    pub fills_ground: bool,
    /// whether those of the routing surface are
    pub fills_routing: bool,
    /// whether steps tell volumes only
    pub volumes_only: bool,
    /// what each step did, in order
    pub steps: Vec<Step>,
    /// what should be known
    pub remarks: Vec<Remark>,
}

impl Unfilled<'_> {
    /// The surface that flow is routed on, before its sinks are filled.
    pub fn surface(&self) -> &Grid<f32> {
        self.routing.as_ref().unwrap_or(&self.ground)
    }

    /// Whether the sinks of that surface are to be filled.
    pub fn fills_surface(&self) -> bool {
        if self.routing.is_some() { self.fills_routing } else { self.fills_ground }
    }

    /// Breaches the sinks of both surfaces, where that was asked for. Where a limit of depth says which sinks are filled, those of the ground
    /// surface are filled too, as that decides which stay open.
    ///
    /// # Errors
    /// Those of [`breach`](super::breach()) and [`fill_no_deeper`].
    pub fn breach(&mut self, frame: &Frame, how: &Conditioning, monitor: &dyn Monitor) -> Result<()> {
        let share = if self.routing.is_some() { 0.5 } else { 1.0 };
        let part = |from, to| Part::new(monitor, from, to);
        let breaches = matches!(how.sinks, TreatSinks::Breach | TreatSinks::BreachThenFill);
        if breaches {
            let begun = Instant::now();
            let (ground, report) =
                breach(&self.ground, frame, &self.open, how.breach_limits, &part(0.0, share))?;
            self.breached(ground, report, begun.elapsed().as_secs_f64(), frame)?;
        }
        if self.fills_ground
            && let Some(most_m) = how.max_fill_depth_m
        {
            let open = std::mem::take(&mut self.open);
            let (kept, open) = self.run(On::Ground, StepKind::Fill, frame, |g| {
                let (filled, kept, open) = fill_no_deeper(g, frame, &open, most_m, &part(0.0, share))?;
                Ok((filled, (kept.kept, open)))
            })?;
            (self.open, self.fills_ground) = (open, false);
            if !kept.is_empty() {
                self.remarks.push(Remark::DeepSinksKept { sinks: kept });
            }
        }
        // What is open has been decided, for both surfaces.
        if let Some(surface) = self.routing.take_if(|_| breaches) {
            let (cut, _) = breach(&surface, frame, &self.open, how.breach_limits, &part(share, 1.0))?;
            self.routing = Some(cut);
        }
        monitor.progress(1.0);
        Ok(())
    }

    /// As [`Self::breach`] does to the ground surface, where its sinks were breached by bands, which took some seconds.
    ///
    /// # Errors
    /// [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
    pub fn breached(
        &mut self,
        ground: Grid<f32>,
        report: BreachReport,
        seconds: f64,
        frame: &Frame,
    ) -> Result<()> {
        self.moved(On::Ground, StepKind::Breach, ground, seconds, frame)?;
        // What is filled next is not left.
        if !self.fills_ground && !report.left.is_empty() {
            self.remarks.push(Remark::SinksLeft { bottoms: report.left });
        }
        Ok(())
    }

    /// Fills what is to be filled.
    ///
    /// # Errors
    /// Those of [`fill`](super::fill()).
    pub fn fill(mut self, frame: &Frame, monitor: &dyn Monitor) -> Result<Conditioned> {
        let share = if self.routing.is_some() { 0.5 } else { 1.0 };
        self.fill_ground(frame, &Part::new(monitor, 0.0, share))?;
        if let Some(surface) = self.routing.take_if(|_| self.fills_routing) {
            self.routing = Some(fill_to_outlets(&surface, &self.open, &Part::new(monitor, share, 1.0))?);
        }
        monitor.progress(1.0);
        Ok(self.done())
    }

    /// As [`Self::fill`], where the [surface that flow is routed on](Self::surface) was filled by bands, which took some seconds:
    /// `filled` is that surface.
    ///
    /// # Errors
    /// Those of [`fill`](super::fill()), [`Error::ShapeMismatch`](crate::Error::ShapeMismatch).
    pub fn filled(
        mut self,
        filled: Grid<f32>,
        seconds: f64,
        frame: &Frame,
        monitor: &dyn Monitor,
    ) -> Result<Conditioned> {
        self.surface().same_shape(&filled)?;
        if self.routing.is_some() {
            self.fill_ground(frame, monitor)?;
            self.routing = Some(filled);
        } else if self.fills_ground {
            self.moved(On::Ground, StepKind::Fill, filled, seconds, frame)?;
        }
        monitor.progress(1.0);
        Ok(self.done())
    }

    fn fill_ground(&mut self, frame: &Frame, monitor: &dyn Monitor) -> Result<()> {
        if self.fills_ground {
            let begun = Instant::now();
            let filled = fill_to_outlets(&self.ground, &self.open, monitor)?;
            self.moved(On::Ground, StepKind::Fill, filled, begun.elapsed().as_secs_f64(), frame)?;
        }
        Ok(())
    }

    /// The surface that a step works on; the routing surface is the ground surface until one has worked on it.
    fn before(&self, on: On) -> &Grid<f32> {
        match on {
            On::Ground => &self.ground,
            On::Routing => self.surface(),
        }
    }

    /// Takes what a step made of a surface, and records what it moved.
    fn moved(&mut self, on: On, kind: StepKind, after: Grid<f32>, seconds: f64, frame: &Frame) -> Result<()> {
        let step = step_between(kind, (self.before(on), &after), self.volumes_only, frame)?;
        self.steps.push(Step { seconds: step.seconds + seconds, ..step });
        match on {
            On::Ground => self.ground = Cow::Owned(after),
            On::Routing => self.routing = Some(after),
        }
        Ok(())
    }

    /// Runs a step on a surface.
    fn run<T>(
        &mut self,
        on: On,
        kind: StepKind,
        frame: &Frame,
        step: impl FnOnce(&Grid<f32>) -> Result<(Grid<f32>, T)>,
    ) -> Result<T> {
        let begun = Instant::now();
        let (after, told) = step(self.before(on))?;
        self.moved(on, kind, after, begun.elapsed().as_secs_f64(), frame)?;
        Ok(told)
    }

    fn done(self) -> Conditioned {
        let Self { ground, routing, open, steps, remarks, .. } = self;
        Conditioned { ground: ground.into_owned(), routing, open, steps, remarks }
    }
}

/// The surface that a step works on.
#[derive(Debug, Clone, Copy)]
enum On {
    Ground,
    Routing,
}

/// What a step moved; it took as long as measuring that does.
fn step_between(
    kind: StepKind,
    (before, after): (&Grid<f32>, &Grid<f32>),
    volumes_only: bool,
    frame: &Frame,
) -> Result<Step> {
    let begun = Instant::now();
    let moved = cut_and_fill(before, after, frame)?;
    let changes = match volumes_only {
        true => None,
        false => Some(Changes::between(before, after)?),
    };
    Ok(Step { kind, moved, changes, seconds: begun.elapsed().as_secs_f64() })
}

/// The steps of [`condition`](super::condition()) before sinks are treated.
///
/// # Errors
/// Those of [`condition`](super::condition()).
pub fn before_sinks<'a>(
    dem: &'a Grid<f32>,
    frame: &Frame,
    how: &Conditioning,
    monitor: &dyn Monitor,
) -> Result<Unfilled<'a>> {
    let fills = matches!(how.sinks, TreatSinks::Fill | TreatSinks::BreachThenFill);
    let mut work = Unfilled {
        // Copied only where a step changes it.
        ground: Cow::Borrowed(dem),
        routing: None,
        open: Vec::new(),
        fills_ground: fills,
        fills_routing: fills,
        volumes_only: how.volumes_only,
        steps: Vec::new(),
        remarks: Vec::new(),
    };
    if how.fill_voids {
        let cells =
            work.run(On::Ground, StepKind::Voids, frame, |g| fill_voids(g, &Part::new(monitor, 0.0, 0.3)))?;
        if cells > 0 {
            work.remarks.push(Remark::VoidsFilled { cells });
        }
    }
    if !how.rebuild.is_empty() {
        let each = 0.2 / how.rebuild.len() as f64;
        let told = work.run(On::Ground, StepKind::Rebuild, frame, |g| {
            let (mut g, mut all) = (g.clone(), Vec::new());
            for (area, what) in how.rebuild.iter().enumerate() {
                let from = 0.3 + area as f64 * each;
                let (next, told) = rebuild(&g, frame, what, &Part::new(monitor, from, from + each))?;
                g = next;
                all.push(told);
            }
            Ok((g, all))
        })?;
        for (area, told) in told.into_iter().enumerate() {
            if told.cells == 0 {
                work.remarks.push(Remark::RebuildOutside { area });
            }
            work.remarks.extend(told.uphill.into_iter().map(|line| Remark::RebuildUphill { area, line }));
        }
    }
    if !how.lakes.is_empty() {
        let lakes =
            work.run(On::Ground, StepKind::Lakes, frame, |g| Ok(level_lakes(g, frame, &how.lakes)))?;
        let outside = lakes.iter().enumerate().filter(|(_, l)| l.cells == 0);
        work.remarks.extend(outside.map(|(lake, _)| Remark::LakeOutside { lake }));
    }
    check(monitor)?;
    monitor.progress(0.5);

    if let Some((lines, method)) = &how.burn {
        let streams = stream_cells(&work.ground, frame, lines);
        if streams.is_empty() {
            work.remarks.push(Remark::StreamsOutside);
        } else {
            work.run(On::Routing, StepKind::Burn, frame, |g| {
                Ok((burn(g, frame, &streams, *method, &Part::new(monitor, 0.5, 0.7))?, ()))
            })?;
        }
    }
    if !how.walls.is_empty() {
        let raised =
            work.run(On::Routing, StepKind::Walls, frame, |g| Ok(raise_along(g, frame, &how.walls)))?;
        let outside = raised.iter().enumerate().filter(|(_, r)| **r == 0);
        work.remarks.extend(outside.map(|(wall, _)| Remark::WallOutside { wall }));
    }
    if !how.breach_lines.is_empty() {
        // Along a wall or in a trench the line must lead down just as it does on the ground.
        work.routing = work.routing.map(|surface| lower_along(&surface, frame, &how.breach_lines).0);
        let outcomes = work.run(On::Ground, StepKind::BreachLines, frame, |g| {
            Ok(lower_along(g, frame, &how.breach_lines))
        })?;
        for (line, outcome) in outcomes.into_iter().enumerate() {
            if !matches!(outcome, BreachLineOutcome::Lowered { .. }) {
                work.remarks.push(Remark::BreachLine { line, outcome });
            }
        }
    }
    check(monitor)?;
    monitor.progress(0.8);

    if !how.closed_basins.is_empty() {
        let filled = fill(&work.ground, &Part::new(monitor, 0.8, 1.0))?;
        let found = closed_basin_bottoms(&work.ground, &filled, frame, &how.closed_basins)?;
        for (basin, found) in found.into_iter().enumerate() {
            match found {
                Some(cell) => work.open.push(work.ground.index(cell) as u32),
                None => work.remarks.push(Remark::NoSinkThere { basin }),
            }
        }
        work.open.sort_unstable();
        work.open.dedup();
    }
    monitor.progress(1.0);
    Ok(work)
}
