//! The lines between tiles, and how high water stands on them.
//!
//! Tiles share their rims, and no water passes from one tile to another but over a shared cell.
//! So a graph of the rims' cells, with the passes that each tile found between them, tells for
//! every such cell the lowest level over which it reaches the ocean.

use std::ops::Range;

use rayon::prelude::*;

use super::tile::{OCEAN, Place, Tile};
use crate::joined::root;
use crate::monitor::{check, gather};
use crate::{Cell, Monitor, Result};

/// How a grid is cut into tiles of `size` cells, which share their rims.
#[derive(Debug, Clone, Copy)]
pub(super) struct Tiling {
    rows: usize,
    cols: usize,
    size: usize,
    /// rows above those that are cut
    top: usize,
}

impl Tiling {
    pub(super) fn new(rows: usize, cols: usize, size: usize) -> Self {
        Self { rows, cols, size, top: 0 }
    }

    /// The same below `top` rows of a grid that belong to others; places of tiles and cells are those in the whole grid.
    pub(super) fn below(self, top: usize) -> Self {
        Self { top, ..self }
    }

    fn along(&self, cells: usize) -> usize {
        cells.saturating_sub(1).div_ceil(self.size).max(1)
    }
    pub(super) fn tile_rows(&self) -> usize {
        self.along(self.rows)
    }
    pub(super) fn tile_cols(&self) -> usize {
        self.along(self.cols)
    }
    pub(super) fn tiles(&self) -> usize {
        self.tile_rows() * self.tile_cols()
    }

    /// The place of tile `number`, in row order.
    pub(super) fn place(&self, number: usize) -> Place {
        let (row, col) = (number / self.tile_cols(), number % self.tile_cols());
        Place {
            top: self.top + row * self.size,
            bottom: self.top + ((row + 1) * self.size).min(self.rows - 1),
            left: col * self.size,
            right: ((col + 1) * self.size).min(self.cols - 1),
        }
    }

    /// The rows and columns of the cells that are a tile's own: those of its top and left rim, and at
    /// the grid's end those of its other rims too.
    pub(super) fn own(&self, place: Place) -> (Range<usize>, Range<usize>) {
        let end = |last: usize, cells: usize| if last + 1 == cells { cells } else { last };
        (place.top..end(place.bottom, self.top + self.rows), place.left..end(place.right, self.cols))
    }

    /// The tile that a cell belongs to.
    pub(super) fn of_cell(&self, cell: Cell) -> usize {
        let at = |at: usize, tiles: usize| (at / self.size).min(tiles - 1);
        at(cell.row - self.top, self.tile_rows()) * self.tile_cols() + at(cell.col, self.tile_cols())
    }

    /// The values of the cells of each tile, row by row, so that tiles can be written side by side.
    pub(super) fn split<'a, T>(&self, values: &'a mut [T]) -> Vec<Vec<&'a mut [T]>> {
        let mut tiles: Vec<Vec<&mut [T]>> = Vec::new();
        tiles.resize_with(self.tiles(), || Vec::with_capacity(self.size + 1));
        for (row, mut values) in values.chunks_mut(self.cols).enumerate() {
            let first = (row / self.size).min(self.tile_rows() - 1) * self.tile_cols();
            for (col, tile) in tiles[first..first + self.tile_cols()].iter_mut().enumerate() {
                let own = self.own(self.place(first + col)).1;
                let (mine, rest) = values.split_at_mut(own.len());
                tile.push(mine);
                values = rest;
            }
        }
        tiles
    }

    /// A number for a cell on a rim, from 1; 0 is the ocean.
    pub(super) fn node(&self, row: usize, col: usize) -> usize {
        let line = |at: usize, cells: usize| {
            if at.is_multiple_of(self.size) {
                Some(at / self.size)
            } else {
                (at + 1 == cells).then(|| cells.div_ceil(self.size))
            }
        };
        let row = row - self.top;
        match line(row, self.rows) {
            Some(h) => 1 + h * self.cols + col,
            None => {
                let v = line(col, self.cols).unwrap_or(0);
                1 + (self.rows.div_ceil(self.size) + 1) * self.cols + v * self.rows + row
            }
        }
    }

    pub(super) fn nodes(&self) -> usize {
        1 + (self.rows.div_ceil(self.size) + 1) * self.cols + (self.cols.div_ceil(self.size) + 1) * self.rows
    }
}

/// The level of each node: the lowest over which it reaches the ocean, metres.
pub(super) struct Levels {
    tiling: Tiling,
    level: Vec<f32>,
}

impl Levels {
    /// For each basin of a tile, the level that its cells are raised to where they are lower.
    pub(super) fn of_tile(&self, tile: &Tile) -> Vec<f32> {
        let of_seed: Vec<f32> = tile
            .seeds
            .iter()
            .enumerate()
            .map(|(label, &(row, col))| {
                if label == OCEAN as usize {
                    f32::NEG_INFINITY
                } else {
                    self.level[self.tiling.node(row as usize, col as usize)]
                }
            })
            .collect();
        tile.drains.iter().map(|&(seed, level)| level.max(of_seed[seed as usize])).collect()
    }
}

pub(super) const NOBODY: u32 = u32::MAX;

/// Two nodes, and the level of the pass between them.
pub(super) type Edge = (u32, u32, f32);

/// Sorts edges by level, in parts one after the other, so that Cancel is heard between them.
pub(super) fn lowest_first(edges: Vec<Edge>, monitor: &dyn Monitor) -> Result<Vec<Vec<Edge>>> {
    const PARTS: usize = 64;
    let every = (edges.len() / (PARTS * 16)).max(1);
    let mut bounds: Vec<f32> = edges.iter().step_by(every).map(|e| e.2).collect();
    bounds.sort_unstable_by(f32::total_cmp);
    let every = (bounds.len() / PARTS).max(1);
    let bounds: Vec<f32> = bounds.into_iter().step_by(every).skip(1).collect();
    let mut parts: Vec<Vec<Edge>> = Vec::new();
    parts.resize_with(bounds.len() + 1, || Vec::with_capacity(edges.len() / PARTS));
    for some in edges.chunks(1 << 17) {
        check(monitor)?;
        for edge in some {
            parts[bounds.partition_point(|b| b.total_cmp(&edge.2).is_lt())].push(*edge);
        }
    }
    parts.par_iter_mut().try_for_each(|part| {
        check(monitor)?;
        part.sort_unstable_by(|a, b| a.2.total_cmp(&b.2));
        Ok(())
    })?;
    Ok(parts)
}

/// The passes that tiles found, as edges between nodes.
pub(super) fn edges_of(tiling: Tiling, tiles: &[Tile], monitor: &dyn Monitor) -> Result<Vec<Edge>> {
    let count = tiles.iter().map(|tile| tile.passes.len()).sum();
    gather(tiles, count, monitor, |_, tile| {
        tile.passes.iter().map(move |pass| {
            let node = |label: u16| match label {
                OCEAN => 0,
                _ => {
                    let (row, col) = tile.seeds[label as usize];
                    tiling.node(row as usize, col as usize) as u32
                }
            };
            (node(pass.a), node(pass.b), pass.level)
        })
    })
}

/// Solves the graph of all rims, with edges beside those of the tiles.
pub(super) fn solve_with(
    tiling: Tiling,
    tiles: &[Tile],
    more: Vec<Edge>,
    monitor: &dyn Monitor,
) -> Result<Levels> {
    let mut edges = edges_of(tiling, tiles, monitor)?;
    edges.extend(more);
    Ok(Levels { tiling, level: levels_over(edges, tiling.nodes(), monitor)? })
}

/// How high water stands on each node of a graph: edges from the lowest up join what they connect (Kruskal 1956), and whatever
/// is joined to the ocean, node 0, by an edge stands at that edge's level. The ocean and what never reaches it stand at minus infinity.
pub(super) fn levels_over(edges: Vec<Edge>, nodes: usize, monitor: &dyn Monitor) -> Result<Vec<f32>> {
    // Equal levels may come in any order: the result is the same.
    let edges = lowest_first(edges, monitor)?;

    let mut level = vec![f32::NEG_INFINITY; nodes];
    let mut parent: Vec<u32> = (0..level.len() as u32).collect();
    // The nodes of a group that is not joined to the ocean yet, as a chain from its root.
    let mut next = vec![NOBODY; level.len()];
    let mut last: Vec<u32> = parent.clone();
    let mut size = vec![1u32; level.len()];
    for (number, &(a, b, pass)) in edges.iter().flatten().enumerate() {
        if number.is_multiple_of(1 << 16) {
            check(monitor)?;
        }
        let (a, b) = (root(&mut parent, a), root(&mut parent, b));
        if a == b {
            continue;
        }
        let ocean = root(&mut parent, 0);
        if a == ocean || b == ocean {
            let other = if a == ocean { b } else { a };
            let mut at = other;
            let mut raised = 0usize;
            while at != NOBODY {
                level[at as usize] = pass;
                at = next[at as usize];
                raised += 1;
                if raised.is_multiple_of(1 << 16) {
                    check(monitor)?;
                }
            }
            parent[other as usize] = ocean;
        } else {
            let (big, small) = if size[a as usize] >= size[b as usize] { (a, b) } else { (b, a) };
            parent[small as usize] = big;
            size[big as usize] += size[small as usize];
            next[last[big as usize] as usize] = small;
            last[big as usize] = last[small as usize];
        }
    }
    Ok(level)
}
