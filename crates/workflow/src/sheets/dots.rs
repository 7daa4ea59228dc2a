//! From the cells of a raster to the dots of a page.

use std::sync::Arc;

use bothros_core::{Frame, Grid};
use bothros_sheets::Picture;
use bothros_store::RasterMeta;
use rayon::prelude::*;

use super::filled::Lens;
use crate::Dot;

/// Dots of a picture in the place of cells: row and column of the first cell on its level, and colours.
pub(super) struct Window {
    pub dots: Grid<Dot>,
    /// left edge of the first column and upper edge of the first row, CRS units
    pub left: f64,
    pub top: f64,
    pub cell: f64,
}

/// Cells of a level that cover a frame with so many cells around it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Covering {
    pub level: usize,
    pub row: isize,
    pub col: isize,
    pub rows: usize,
    pub cols: usize,
    /// size of a cell, CRS units
    pub cell: f64,
    pub left: f64,
    pub top: f64,
}

impl Covering {
    /// Cells of the finest level of a grid.
    pub fn at((row, col): (isize, isize), (rows, cols): (usize, usize), frame: &Frame) -> Self {
        let cell = frame.cell_size;
        let (left, top) = (frame.left + col as f64 * cell, frame.top - row as f64 * cell);
        Self { level: 0, row, col, rows, cols, cell, left, top }
    }

    /// Where these cells lie.
    pub fn frame(&self, unit_m: f64) -> Frame {
        let Self { rows, cols, left, top, cell: cell_size, .. } = *self;
        Frame { rows, cols, left, top, cell_size, unit_m }
    }
}

/// A raster with coarser levels of itself.
#[derive(Debug, Clone, Copy)]
pub(super) struct Levels {
    /// rows and columns of the finest
    pub size: (usize, usize),
    /// left and upper edge, CRS units
    pub left: f64,
    pub top: f64,
    /// cell of the finest, CRS units
    pub cell: f64,
    /// number of levels
    pub count: usize,
}

impl Levels {
    pub fn of(meta: &RasterMeta) -> Self {
        let size = meta.size_of_level(0);
        Self { size, left: meta.left, top: meta.top, cell: meta.cell_x, count: meta.levels }
    }

    /// Those of a grid in memory, down to a few cells.
    pub fn of_frame(frame: &Frame) -> Self {
        let size = (frame.rows, frame.cols);
        let count = size.0.max(size.1).ilog2() as usize + 1;
        Self { size, left: frame.left, top: frame.top, cell: frame.cell_size, count }
    }

    fn size_of(&self, level: usize) -> (usize, usize) {
        let of = |cells: usize| cells.div_ceil(1 << level);
        (of(self.size.0), of(self.size.1))
    }
}

/// A cell smaller than this share of a dot is told by the next coarser level.
const FINE: f64 = 0.7;

/// The window of the level whose cells come near the dots of a picture, cut to the raster; none where they do not meet.
pub(super) fn covering(of: Levels, looked: Lens) -> Option<Covering> {
    let dot = looked.step().0;
    let mut level = 0;
    while level + 1 < of.count && of.cell * ((1u64 << level) as f64) < dot * FINE {
        level += 1;
    }
    let cell = of.cell * (1u64 << level) as f64;
    let (rows, cols) = of.size_of(level);
    let [west, south, east, north] = looked.view.ground();
    let within = |at: f64, most: usize| at.clamp(0.0, most as f64) as usize;
    // One cell more on each side: colours are mixed between neighbours.
    let col = within(((west - of.left) / cell).floor() - 1.0, cols);
    let row = within(((of.top - north) / cell).floor() - 1.0, rows);
    let to_col = within(((east - of.left) / cell).ceil() + 1.0, cols);
    let to_row = within(((of.top - south) / cell).ceil() + 1.0, rows);
    (to_col > col && to_row > row).then(|| Covering {
        level,
        row: row as isize,
        col: col as isize,
        rows: to_row - row,
        cols: to_col - col,
        cell,
        left: of.left + col as f64 * cell,
        top: of.top - row as f64 * cell,
    })
}

/// Cells this many dots wide are drawn as they are; smaller ones are mixed with their neighbours.
const SEEN: f64 = 1.5;

/// Where a dot lies among cells along one axis: its own cell, and for mixing the two whose middles it lies between, with the
/// share of the second. Cells beyond the window count as the nearest in it.
#[derive(Clone, Copy)]
struct Among {
    own: Option<usize>,
    two: [usize; 2],
    share: f32,
}

impl Among {
    fn of(at: f64, count: usize) -> Self {
        let inside = (0.0..count as f64).contains(&at);
        let between = at - 0.5;
        let within = |cell: f64| cell.clamp(0.0, count.saturating_sub(1) as f64) as usize;
        Self {
            own: inside.then_some(at as usize),
            two: [within(between.floor()), within(between.floor() + 1.0)],
            share: (between - between.floor()) as f32,
        }
    }
}

/// A picture of the frame from dots in the place of cells.
pub(super) fn picture(window: &Window, looked: Lens) -> Picture {
    let (width, height) = looked.dots();
    let [west, _, _, north] = looked.view.ground();
    let (across, down) = looked.step();
    let mixed = window.cell < SEEN * across;
    let (rows, cols) = (window.dots.rows(), window.dots.cols());
    let along: Vec<Among> = (0..width)
        .map(|x| Among::of((west + (x as f64 + 0.5) * across - window.left) / window.cell, cols))
        .collect();
    let mut rgba = vec![0u8; width * height * 4];
    rgba.par_chunks_mut(width * 4).enumerate().for_each(|(y, line)| {
        let row = Among::of((window.top - (north - (y as f64 + 0.5) * down)) / window.cell, rows);
        let Some(own) = row.own else { return };
        let cells = |row: usize| &window.dots.values()[row * cols..(row + 1) * cols];
        let (here, two) = (cells(own), row.two.map(cells));
        for (col, out) in along.iter().zip(line.chunks_exact_mut(4)) {
            let Some(own) = col.own else { continue };
            let dot = here[own];
            // The rim of what is known stays where it is.
            out.copy_from_slice(&if mixed && dot[3] > 0 { mix(two, *col, row.share, dot) } else { dot });
        }
    });
    Picture { width, height, rgba: Arc::new(rgba) }
}

/// The colour between four cells; those that are clear count as the one that the dot lies in.
fn mix(rows: [&[Dot]; 2], col: Among, down: f32, here: Dot) -> Dot {
    let one = |row: &[Dot], col: usize| {
        let dot = row[col];
        if dot[3] == 0 { here } else { dot }
    };
    let [[a, b], [c, d]] = rows.map(|row| col.two.map(|col| one(row, col)));
    std::array::from_fn(|i| {
        let [a, b, c, d] = [a, b, c, d].map(|dot| f32::from(dot[i]));
        let (upper, lower) = (a + (b - a) * col.share, c + (d - c) * col.share);
        (upper + (lower - upper) * down + 0.5) as u8
    })
}

/// One picture over another.
pub(super) fn over(below: &mut Picture, above: &Picture, opacity: f64) {
    let share = (opacity.clamp(0.0, 1.0) * 256.0) as u32;
    let rgba = Arc::make_mut(&mut below.rgba);
    rgba.par_chunks_exact_mut(4).zip(above.rgba.par_chunks_exact(4)).for_each(|(b, a)| {
        let alpha = u32::from(a[3]) * share / 256;
        if alpha == 0 {
            return;
        }
        let under = u32::from(b[3]) * (255 - alpha) / 255;
        let all = alpha + under;
        for i in 0..3 {
            b[i] = ((u32::from(a[i]) * alpha + u32::from(b[i]) * under + all / 2) / all) as u8;
        }
        b[3] = all as u8;
    });
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::Cell;
    use bothros_sheets::{Rect, View};

    /// A frame of 40 by 30 dots, each so many metres wide, over a window whose upper left corner is at 0, 30.
    fn looked(dot: f64) -> Lens {
        let inch = 25.4;
        let frame = Rect { x: 0.0, y: 0.0, width: 40.0 * inch / 100.0, height: 30.0 * inch / 100.0 };
        let (width, height) = (40.0 * dot, 30.0 * dot);
        let denominator = width / frame.width * 1000.0;
        let view = View { frame, x: width / 2.0, y: 30.0 - height / 2.0, denominator, unit_m: 1.0 };
        Lens { view, dpi: 100.0 }
    }

    fn window(cell: f64) -> Window {
        let of =
            |c: Cell| if (c.row + c.col).is_multiple_of(2) { [200, 100, 0, 255] } else { [100, 200, 0, 255] };
        let mut dots = Grid::from_fn(15, 20, of);
        let hole = dots.index(Cell { row: 5, col: 5 });
        dots.values_mut()[hole] = [0; 4];
        Window { dots, left: 0.0, top: 30.0, cell }
    }

    #[test]
    fn large_cells_are_drawn_as_they_are_and_small_ones_mixed() {
        // Cells of two dots: each dot has the colour of its cell.
        let drawn = picture(&window(2.0), looked(1.0));
        let dot = |p: &Picture, x: usize, y: usize| p.rgba[(y * p.width + x) * 4..][..4].to_vec();
        assert_eq!((drawn.width, drawn.height), (40, 30));
        for (x, y) in [(0, 0), (1, 1), (2, 0), (39, 29), (13, 2)] {
            let even = (x / 2 + y / 2) % 2 == 0;
            assert_eq!(
                dot(&drawn, x, y),
                if even { [200, 100, 0, 255] } else { [100, 200, 0, 255] },
                "{x}, {y}"
            );
        }
        assert_eq!(dot(&drawn, 10, 10)[3], 0, "a hole is clear");
        // Cells of one dot, seen from between four of them: half and half. What is known keeps its rim.
        let between = View { x: 20.5, ..looked(1.0).view };
        let shifted = Lens { view: View { y: 30.0 - 15.5, ..between }, ..looked(1.0) };
        let drawn = picture(&window(1.0), shifted);
        assert_eq!(dot(&drawn, 2, 2), [150, 150, 0, 255]);
    }

    #[test]
    fn a_picture_lies_over_another_with_its_opacity() {
        let of = |dot: Dot| Picture { width: 1, height: 1, rgba: Arc::new(dot.to_vec()) };
        let mut below = of([100, 100, 100, 255]);
        over(&mut below, &of([200, 0, 100, 255]), 0.5);
        assert!(below.rgba[0].abs_diff(150) <= 1 && below.rgba[1].abs_diff(50) <= 1 && below.rgba[3] == 255);
        let mut clear = of([0, 0, 0, 0]);
        over(&mut clear, &of([200, 10, 30, 255]), 1.0);
        assert_eq!(*clear.rgba, [200, 10, 30, 255]);
        over(&mut clear, &of([9, 9, 9, 0]), 1.0);
        assert_eq!(*clear.rgba, [200, 10, 30, 255]);
    }
}
