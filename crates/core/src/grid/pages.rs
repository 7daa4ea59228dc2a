//! Values for few cells of a large grid, in pages that are taken as they are needed.

/// Cells of a page, side by side in a row.
const PAGE: usize = 32;
const NONE: u32 = u32::MAX;

/// A value for each of many cells, most of them the same. Looking one up costs two loads; clearing costs as
/// much as was written to, so that one can serve many small searches.
pub(crate) struct Pages<T> {
    /// where each page begins among the values
    index: Vec<u32>,
    /// the pages in use
    used: Vec<u32>,
    values: Vec<T>,
    empty: T,
}

impl<T: Copy> Pages<T> {
    /// Returns pages for this many cells, all `empty`.
    pub(crate) fn new(cells: usize, empty: T) -> Self {
        Self { index: vec![NONE; cells.div_ceil(PAGE)], used: Vec::new(), values: Vec::new(), empty }
    }

    /// Makes all values empty again.
    pub(crate) fn clear(&mut self) {
        for page in self.used.drain(..) {
            self.index[page as usize] = NONE;
        }
        self.values.clear();
    }

    /// The value of a cell, by its number.
    #[inline]
    pub(crate) fn get(&self, cell: u32) -> T {
        match self.index[cell as usize / PAGE] {
            NONE => self.empty,
            begin => self.values[begin as usize + cell as usize % PAGE],
        }
    }

    /// The value of a cell, to be changed.
    #[inline]
    pub(crate) fn get_mut(&mut self, cell: u32) -> &mut T {
        let page = cell as usize / PAGE;
        if self.index[page] == NONE {
            self.index[page] = self.values.len() as u32;
            self.used.push(page as u32);
            self.values.resize(self.values.len() + PAGE, self.empty);
        }
        &mut self.values[self.index[page] as usize + cell as usize % PAGE]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn behaves_as_a_map(writes in prop::collection::vec((0u32..200, 1u8..), 0..60), half in 0usize..60) {
            let mut pages = Pages::new(200, 0u8);
            let mut map = std::collections::HashMap::new();
            for (number, &(cell, value)) in writes.iter().enumerate() {
                if number == half {
                    pages.clear();
                    map.clear();
                }
                *pages.get_mut(cell) = value;
                map.insert(cell, value);
            }
            for cell in 0..200 {
                prop_assert_eq!(pages.get(cell), map.get(&cell).copied().unwrap_or(0));
            }
        }
    }
}
