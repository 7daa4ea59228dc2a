//! Features of the land: wetland, reservoir, swallow holes, embankments, and survey noise.

use bothros_core::network::Network;
use bothros_core::routing::{flow_accumulation, flow_directions};
use bothros_core::{Cell, Frame, Grid, Result, Silent, conditioning};

use crate::noise::Noise;
use crate::scenario::Crossing;

/// A line in coordinates.
pub type Line = Vec<[f64; 2]>;

/// Land that is being changed.
pub struct Land {
    pub z: Grid<f32>,
    frame: Frame,
    noise: Noise,
}

impl Land {
    pub fn new(z: Grid<f32>, frame: Frame, noise: Noise) -> Result<Self> {
        Ok(Self { z, frame, noise })
    }

    fn index(&self, x: f64, y: f64) -> Option<usize> {
        self.frame.cell_at(x, y).map(|c| self.z.index(c))
    }

    /// Cells of the largest river from its outlet upstream, by number.
    fn main_river(&self) -> Result<Vec<usize>> {
        let directions = flow_directions(&conditioning::fill(&self.z, &Silent)?, &Silent)?;
        let accumulation = flow_accumulation(&directions, &Silent)?;
        let value = |i: usize| accumulation.values()[i];
        let outlet = (0..self.z.len()).max_by_key(|&i| value(i)).unwrap_or(0);
        let mut river = vec![outlet];
        let mut at = outlet;
        while let Some(next) = bothros_core::routing::upstream(&directions, at).max_by_key(|&i| value(i)) {
            if value(next) < 20_000 {
                break;
            }
            river.push(next);
            at = next;
        }
        Ok(river)
    }

    /// A wide flat wetland along the lower river.
    pub fn wetland(&mut self) -> Result<()> {
        let river = self.main_river()?;
        let middle = river[river.len() / 4];
        let level = self.z.values()[river[river.len() / 4 - 110.min(river.len() / 4)]];
        let centre = self.z.cell(middle);
        for row in centre.row.saturating_sub(90)..(centre.row + 90).min(self.frame.rows - 2) {
            for col in centre.col.saturating_sub(120)..(centre.col + 120).min(self.frame.cols - 2) {
                let (dr, dc) =
                    ((row as f64 - centre.row as f64) / 90.0, (col as f64 - centre.col as f64) / 120.0);
                let wobble = 0.12 * self.noise.smooth(row as f64 / 30.0, col as f64 / 30.0);
                let index = self.z.index(Cell { row, col });
                let above = self.z.values()[index] - level;
                let ease = |t: f64| {
                    let t = t.clamp(0.0, 1.0);
                    t * t * (3.0 - 2.0 * t)
                };
                // Level in the middle; its rim rises to the slopes around without a scarp.
                let away = ease((dr * dr + dc * dc - 0.6) / (0.4 + wobble));
                let kept = away.max(ease((f64::from(above) - 3.0) / 12.0));
                if above > 0.0 {
                    self.z.values_mut()[index] = level + above * (0.015 + 0.985 * kept) as f32;
                }
            }
        }
        Ok(())
    }

    /// A reservoir behind a dam across the upper river; returns the dam's line and the water's cells.
    pub fn reservoir(&mut self) -> Result<(Line, Grid<bool>)> {
        let river = self.main_river()?;
        let at = river.len() * 6 / 10;
        let foot = self.z.cell(river[at]);
        let level = self.z.values()[river[at]] + 9.0;
        // The dam stands across the valley, square to the river's course.
        let (a, b) = (self.z.cell(river[at - 20]), self.z.cell(river[at + 20]));
        let (dr, dc) = (b.row as f64 - a.row as f64, b.col as f64 - a.col as f64);
        let length = (dr * dr + dc * dc).sqrt().max(1.0);
        let (nr, nc) = (-dc / length, dr / length);
        let along = |t: f64| (foot.row as f64 + nr * t, foot.col as f64 + nc * t);
        let ground = |t: f64| {
            let (r, c) = along(t);
            self.z.values()[self.z.index(Cell { row: r as usize, col: c as usize })]
        };
        let inside = |t: f64| {
            let (r, c) = along(t);
            r > 4.0 && c > 4.0 && r < self.frame.rows as f64 - 5.0 && c < self.frame.cols as f64 - 5.0
        };
        let reach = |sign: f64| {
            let mut t = 0.0;
            while t < 140.0 && inside(sign * (t + 2.0)) && ground(sign * t) < level + 2.0 {
                t += 0.5;
            }
            sign * t
        };
        let (left, right) = (reach(-1.0), reach(1.0));
        let mut crest = Vec::new();
        let mut line = Vec::new();
        let mut t = left;
        while t <= right {
            let (r, c) = along(t);
            crest.push((r, c));
            let (x, y) = self.frame.centre(Cell { row: r as usize, col: c as usize });
            if line.len() < 2 || ((t - left) as usize).is_multiple_of(8) {
                line.push([x, y]);
            }
            t += 0.5;
        }
        for &(r, c) in &crest {
            for row in (r - 1.6) as usize..=(r + 1.6) as usize {
                for col in (c - 1.6) as usize..=(c + 1.6) as usize {
                    let index = self.z.index(Cell { row, col });
                    self.z.values_mut()[index] = self.z.values()[index].max(level + 2.0);
                }
            }
        }
        // The spillway: at the water's level, through the crest beside the middle.
        let (sr, sc) = along((left + right) / 2.0 * 0.2);
        for step in -4..=4 {
            let (r, c) = (sr - dr / length * step as f64, sc - dc / length * step as f64);
            let index = self.z.index(Cell { row: r as usize, col: c as usize });
            self.z.values_mut()[index] = self.z.values()[index].min(level);
        }
        // Water fills what lies below its level upstream of the crest.
        let mut water = Grid::filled(self.frame.rows, self.frame.cols, false);
        let start = river[at + 6];
        let mut open = vec![start];
        while let Some(index) = open.pop() {
            if water.values()[index] || self.z.values()[index] >= level {
                continue;
            }
            water.values_mut()[index] = true;
            let Cell { row, col } = self.z.cell(index);
            for (r, c) in
                [(row.wrapping_sub(1), col), (row + 1, col), (row, col.wrapping_sub(1)), (row, col + 1)]
            {
                if r < self.frame.rows && c < self.frame.cols {
                    open.push(self.z.index(Cell { row: r, col: c }));
                }
            }
        }
        for index in 0..self.z.len() {
            if water.values()[index] {
                self.z.values_mut()[index] = level;
            }
        }
        Ok((line, water))
    }

    /// Three swallow holes on interfluves, where the ground is most level.
    pub fn hollows(&mut self, accumulation: &Grid<u32>) -> Vec<(f64, f64)> {
        let mut out: Vec<(f64, f64)> = Vec::new();
        for most_relief in [8.0, 12.0, 16.0, 24.0, 40.0] {
            for attempt in 0..10_000 {
                let row = 200 + (self.noise.at(attempt, 71) * 1100.0) as usize;
                let col = 300 + (self.noise.at(attempt, 72) * 1400.0) as usize;
                let (x, y) = self.frame.centre(Cell { row, col });
                let near = |c: &(f64, f64)| (c.0 - x).abs().max((c.1 - y).abs()) < 900.0;
                // Away from channels: nothing within the hole gathers much.
                let window = accumulation.window(row - 15, col - 15, 31, 31);
                if out.len() == 3 || out.iter().any(near) || window.values().iter().any(|&a| a > 1500) {
                    continue;
                }
                let around = self.z.window(row - 14, col - 14, 29, 29);
                let lowest = around.values().iter().copied().fold(f32::INFINITY, f32::min);
                let highest = around.values().iter().copied().fold(f32::NEG_INFINITY, f32::max);
                if highest - lowest <= most_relief {
                    // Below all that is around, so that nothing drains it.
                    self.hollow_out(row, col, lowest - 5.0);
                    out.push((x, y));
                }
            }
        }
        out
    }

    /// Lowers the ground to a funnel of 13 cells' radius.
    fn hollow_out(&mut self, row: usize, col: usize, floor: f32) {
        for r in row - 13..=row + 13 {
            for c in col - 13..=col + 13 {
                let away = ((r as f64 - row as f64).powi(2) + (c as f64 - col as f64).powi(2)).sqrt();
                let index = self.z.index(Cell { row: r, col: c });
                if away <= 13.0 {
                    let cone = floor + (away * 0.75) as f32;
                    self.z.values_mut()[index] = self.z.values()[index].min(cone);
                }
            }
        }
    }

    /// Raises two embankments and returns them with the places where they cross channels.
    pub fn embankments(&mut self, channels: &Network) -> (Vec<(&'static str, Line)>, Vec<Crossing>) {
        let mut stream = Grid::filled(self.frame.rows, self.frame.cols, false);
        for index in channels.reaches.iter().flat_map(|r| &r.cells) {
            stream.values_mut()[*index as usize] = true;
        }
        let railway = |shift: f64| -> Line {
            let x = |s: f64| 334_900.0 + shift + 260.0 * libm::sin(s * 3.0) + 500.0 * s;
            (0..=200).map(|i| i as f64 / 200.0).map(|s| [x(s), 4_764_300.0 - s * 4_500.0]).collect()
        };
        let road = |shift: f64| -> Line {
            let y = |s: f64| 4_762_950.0 + shift + 220.0 * libm::sin(s * 4.0 + 1.0);
            (0..=200).map(|i| i as f64 / 200.0).map(|s| [336_100.0 + s * 3_600.0, y(s)]).collect()
        };
        // Each is built as far as its fourth stream and a little beyond.
        let course = |make: &dyn Fn(f64) -> Line, from: f64| -> Line {
            for shift in 0..60 {
                let line = self.walk(&make(from + 20.0 * shift as f64));
                let at = self.crossings_of(&line.iter().map(|&(x, y)| [x, y]).collect(), &stream);
                let place = |p: &(f64, f64)| line.iter().position(|q| q == p).unwrap_or(line.len());
                let end = at.get(3).map_or(line.len(), place) + 80;
                if end < at.get(4).map_or(line.len(), place) {
                    return line[..end].iter().step_by(10).map(|&(x, y)| [x, y]).collect();
                }
            }
            make(from)
        };
        let (a, b) = (course(&railway, -300.0), course(&road, -600.0));
        let mut crossings = Vec::new();
        let mut out = Vec::new();
        for (name, line) in [("Marlpit railway", a), ("Long Causeway", b)] {
            for (x, y) in self.crossings_of(&line, &stream) {
                crossings.push(Crossing { embankment: name, x, y, surveyed: true });
            }
            self.raise(&line);
            out.push((name, line));
        }
        let count = crossings.len();
        for (i, crossing) in crossings.iter_mut().enumerate() {
            // Five of eight were found by the survey.
            crossing.surveyed = (i * 5) % count.max(1) < 5;
        }
        (out, crossings)
    }

    /// Walks along a line in steps of half a cell.
    fn walk(&self, line: &Line) -> Vec<(f64, f64)> {
        let mut out = Vec::new();
        for pair in line.windows(2) {
            let (dx, dy) = (pair[1][0] - pair[0][0], pair[1][1] - pair[0][1]);
            let steps = ((dx * dx + dy * dy).sqrt() / (self.frame.cell_size / 2.0)).ceil().max(1.0) as usize;
            out.extend((0..steps).map(|i| {
                let t = i as f64 / steps as f64;
                (pair[0][0] + dx * t, pair[0][1] + dy * t)
            }));
        }
        out
    }

    fn crossings_of(&self, line: &Line, stream: &Grid<bool>) -> Vec<(f64, f64)> {
        let mut out: Vec<(f64, f64)> = Vec::new();
        for (x, y) in self.walk(line) {
            let Some(cell) = self.frame.cell_at(x, y) else { continue };
            let window = stream.window(cell.row.saturating_sub(1), cell.col.saturating_sub(1), 3, 3);
            let apart = |p: &(f64, f64)| (p.0 - x).abs().max((p.1 - y).abs()) > 60.0;
            if window.values().iter().any(|&s| s) && out.iter().all(apart) {
                out.push((x, y));
            }
        }
        out
    }

    /// Raises the ground along a line to a smooth grade that stands 3.5 m above the lowest of it
    /// within 60 m, 12 m wide.
    fn raise(&mut self, line: &Line) {
        let path = self.walk(line);
        let ground: Vec<f32> =
            path.iter().map(|&(x, y)| self.index(x, y).map_or(0.0, |i| self.z.values()[i])).collect();
        let half = 60;
        for (i, &(x, y)) in path.iter().enumerate() {
            let (from, to) = (i.saturating_sub(half), (i + half).min(ground.len() - 1));
            let mean = ground[from..=to].iter().sum::<f32>() / (to - from + 1) as f32;
            let low = ground[from..=to].iter().copied().fold(f32::INFINITY, f32::min);
            let grade = (low + 3.5).max(mean.min(low + 6.0));
            let Some(cell) = self.frame.cell_at(x, y) else { continue };
            for row in cell.row.saturating_sub(1)..=(cell.row + 1).min(self.frame.rows - 1) {
                for col in cell.col.saturating_sub(1)..=(cell.col + 1).min(self.frame.cols - 1) {
                    let index = self.z.index(Cell { row, col });
                    self.z.values_mut()[index] = self.z.values()[index].max(grade);
                }
            }
        }
    }

    /// Errors of a survey: noise, shallow pits, and a void under a wood.
    pub fn survey(&mut self) {
        let noise = self.noise;
        let cols = self.frame.cols;
        for (index, z) in self.z.values_mut().iter_mut().enumerate() {
            *z += (0.03 * noise.normal((index / cols) as i64, (index % cols) as i64)) as f32;
        }
        for pit in 0..420 {
            let row = 5 + (noise.at(pit, 501) * (self.frame.rows - 10) as f64) as usize;
            let col = 5 + (noise.at(pit, 502) * (cols - 10) as f64) as usize;
            let size = 1 + (noise.at(pit, 503) * 3.0) as usize;
            let depth = 0.2 + 0.6 * noise.at(pit, 504);
            for r in row - size..=row + size {
                for c in col - size..=col + size {
                    let index = self.z.index(Cell { row: r, col: c });
                    self.z.values_mut()[index] -= depth as f32;
                }
            }
        }
        for row in 300..340 {
            for col in 1450..1510 {
                let (dr, dc) = ((row as f64 - 320.0) / 18.0, (col as f64 - 1480.0) / 27.0);
                if dr * dr + dc * dc < 1.0 {
                    let index = self.z.index(Cell { row, col });
                    self.z.values_mut()[index] = f32::NAN;
                }
            }
        }
        // As files keep it: to the centimetre.
        for z in self.z.values_mut() {
            *z = (*z * 100.0).round() / 100.0;
        }
    }
}
