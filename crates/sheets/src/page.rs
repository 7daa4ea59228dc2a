//! Pages, and rectangles on them.

use serde::{Deserialize, Serialize};

use crate::{Error, Result};

/// The shortest side of a page, mm.
pub(crate) const LEAST_MM: f64 = 50.0;
/// The longest side of a page, mm: a roll of paper.
pub(crate) const MOST_MM: f64 = 5000.0;

/// Sizes of paper.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum PageSize {
    /// ISO 216
    A4,
    /// ISO 216
    A3,
    /// ANSI/ASME Y14.1, 8.5 x 11 inches
    Letter,
    /// ANSI/ASME Y14.1, 11 x 17 inches
    Tabloid,
    /// any, millimetres
    Free {
        /// across
        width_mm: f64,
        /// upright
        height_mm: f64,
    },
}

/// A page.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Page {
    /// its size
    pub size: PageSize,
    /// whether its longer side lies across; a free size is what it says
    pub across: bool,
}

impl Page {
    /// Width and height, mm.
    ///
    /// # Errors
    /// [`Error::PageSize`] for a free size that no printer takes.
    ///
    /// ```
    /// use bothros_sheets::{Page, PageSize};
    /// assert_eq!(Page { size: PageSize::A3, across: true }.mm()?, (420.0, 297.0));
    /// # Ok::<(), bothros_sheets::Error>(())
    /// ```
    pub fn mm(&self) -> Result<(f64, f64)> {
        const INCH: f64 = 25.4;
        let (width, height) = match self.size {
            PageSize::A4 => (210.0, 297.0),
            PageSize::A3 => (297.0, 420.0),
            PageSize::Letter => (8.5 * INCH, 11.0 * INCH),
            PageSize::Tabloid => (11.0 * INCH, 17.0 * INCH),
            PageSize::Free { width_mm, height_mm } => {
                let fits = |mm: f64| (LEAST_MM..=MOST_MM).contains(&mm);
                return match fits(width_mm) && fits(height_mm) {
                    true => Ok((width_mm, height_mm)),
                    false => Err(Error::PageSize { width_mm, height_mm }),
                };
            }
        };
        Ok(if self.across { (height, width) } else { (width, height) })
    }
}

/// A rectangle on a page, mm.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Rect {
    /// left edge
    pub x: f64,
    /// upper edge
    pub y: f64,
    /// width
    pub width: f64,
    /// height
    pub height: f64,
}

impl Rect {
    /// The same, moved and cut so that it lies on a page of this width and height; its size stays where it fits.
    pub fn on(self, (width, height): (f64, f64)) -> Self {
        let (w, h) = (self.width.clamp(0.0, width), self.height.clamp(0.0, height));
        Self { x: self.x.clamp(0.0, width - w), y: self.y.clamp(0.0, height - h), width: w, height: h }
    }

    /// Its corners from the upper left, clockwise.
    pub fn ring(&self) -> Vec<[f64; 2]> {
        let (right, low) = (self.x + self.width, self.y + self.height);
        vec![[self.x, self.y], [right, self.y], [right, low], [self.x, low]]
    }

    /// Its middle.
    pub fn middle(&self) -> [f64; 2] {
        [self.x + self.width / 2.0, self.y + self.height / 2.0]
    }

    /// Whether two have a place in common; edges that only touch do not count.
    pub fn meets(&self, other: &Self) -> bool {
        self.x < other.x + other.width
            && other.x < self.x + self.width
            && self.y < other.y + other.height
            && other.y < self.y + self.height
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Sizes of ISO 216:2007 and ANSI/ASME Y14.1 (letter and tabloid in inches).
    #[rstest]
    #[case(PageSize::A4, (210.0, 297.0))]
    #[case(PageSize::A3, (297.0, 420.0))]
    #[case(PageSize::Letter, (215.9, 279.4))]
    #[case(PageSize::Tabloid, (279.4, 431.8))]
    fn sizes_are_those_of_the_standards(#[case] size: PageSize, #[case] (w, h): (f64, f64)) {
        let upright = Page { size, across: false }.mm().expect("a size");
        let across = Page { size, across: true }.mm().expect("a size");
        assert!((upright.0 - w).abs() < 1e-9 && (upright.1 - h).abs() < 1e-9);
        assert_eq!(across, (upright.1, upright.0));
    }

    #[test]
    fn a_free_size_is_what_it_says_or_refused() {
        let free =
            |width_mm, height_mm| Page { size: PageSize::Free { width_mm, height_mm }, across: true }.mm();
        assert_eq!(free(100.0, 841.0), Ok((100.0, 841.0)));
        for (w, h) in [(0.0, 100.0), (100.0, f64::NAN), (-5.0, 100.0), (100.0, 1e9)] {
            assert!(free(w, h).is_err(), "{w} x {h}");
        }
    }

    #[test]
    fn what_is_dragged_off_the_page_stays_on_it() {
        let part = Rect { x: 180.0, y: -40.0, width: 60.0, height: 20.0 };
        assert_eq!(part.on((210.0, 297.0)), Rect { x: 150.0, y: 0.0, width: 60.0, height: 20.0 });
        assert_eq!(part.on((50.0, 10.0)), Rect { x: 0.0, y: 0.0, width: 50.0, height: 10.0 });
    }
}
