//! Where areas of equal number lie.

use std::collections::BTreeMap;

use crate::Grid;

/// First and last row and column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Window {
    pub top: usize,
    pub bottom: usize,
    pub left: usize,
    pub right: usize,
}

/// The window of each area of equal number, in ascending order of the numbers; 0 is outside all.
pub(super) fn windows(ids: &Grid<u32>) -> Vec<(u32, Window)> {
    let mut windows: BTreeMap<u32, Window> = BTreeMap::new();
    for (row, line) in ids.values().chunks(ids.cols().max(1)).enumerate() {
        let mut col = 0;
        while col < line.len() {
            let id = line[col];
            let run = line[col..].iter().take_while(|&&other| other == id).count();
            if id != 0 {
                let last = col + run - 1;
                let window =
                    windows.entry(id).or_insert(Window { top: row, bottom: row, left: col, right: last });
                window.bottom = row;
                window.left = window.left.min(col);
                window.right = window.right.max(last);
            }
            col += run;
        }
    }
    windows.into_iter().collect()
}
