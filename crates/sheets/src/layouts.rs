//! Layouts to begin with.

use crate::{
    BarUnit, Fit, Frame, GridChoice, GridStyle, Key, LabelPlace, Labels, Page, Part, Rect, Result, Sheet,
    Shown, Text, What,
};

/// A layout to begin with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Layout {
    /// one map with its key beside or below it
    One,
    /// two maps, beside or above each other, that keep one scale and one place
    Two,
    /// four maps that keep one scale and one place
    Four,
    /// a map alone, as a figure in a text
    Figure,
}

impl Layout {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::One, Self::Two, Self::Four, Self::Figure];

    /// Its name in addresses.
    pub fn key(self) -> &'static str {
        match self {
            Self::One => "one",
            Self::Two => "two",
            Self::Four => "four",
            Self::Figure => "figure",
        }
    }

    /// Its name for people.
    pub fn title(self) -> &'static str {
        match self {
            Self::One => "One map with a key",
            Self::Two => "Two maps that keep together",
            Self::Four => "Four maps",
            Self::Figure => "A figure: the map alone",
        }
    }

    /// The layout of a name in addresses.
    pub fn from_key(key: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|layout| layout.key() == key)
    }
}

/// Margin of the page, and between its parts, mm.
const MARGIN: f64 = 10.0;
const GAP: f64 = 4.0;
/// Height of the title, of what stands at the foot.
const TITLE: f64 = 12.0;
const FOOT: f64 = 9.0;
/// Width of the column beside the maps of a page that lies across; height of the strip below those of one upright.
const COLUMN: f64 = 58.0;
/// Width of the north arrow with its words, mm.
const NORTH: f64 = 26.0;
/// No part is smaller, mm.
const LEAST: f64 = 5.0;

/// Columns and rows of two maps of land that is `aspect` times as wide as high: beside or above each other, so that they are
/// the larger.
fn two(room: Rect, aspect: f64) -> (usize, usize) {
    let width = |columns: f64, rows: f64| (room.width / columns).min(room.height / rows * aspect);
    if width(2.0, 1.0) >= width(1.0, 2.0) { (2, 1) } else { (1, 2) }
}

/// A sheet of a layout, whose maps show `layers` of land that is `aspect` times as wide as high.
///
/// # Errors
/// Where the page has no room for it.
pub fn begin(layout: Layout, page: Page, layers: &[String], unit: BarUnit, aspect: f64) -> Result<Sheet> {
    let (width, height) = page.mm()?;
    let mut parts: Vec<Part> = Vec::new();
    let mut add = |at: Rect, what: What| {
        let id = parts.len() as u32 + 1;
        parts.push(Part { id, at, hidden: false, what });
        id
    };
    let text = |text: &str, size_pt: f64, bold| Text { text: text.into(), size_pt, bold, middle: false };
    let map = |fit: Fit| {
        What::Frame(Box::new(Frame {
            shown: Shown { layers: layers.to_vec(), ..Shown::default() },
            fit,
            locates: None,
            alone: None,
            ink: 0.8,
            grid: GridChoice::default(),
            labels: Labels::default(),
            rim: true,
        }))
    };
    // Small pages have narrower margins.
    let margin = MARGIN.min(width.min(height) * 0.06);
    let inner = Rect { x: margin, y: margin, width: width - 2.0 * margin, height: height - 2.0 * margin };
    if layout == Layout::Figure {
        let frame = add(inner, map(Fit::Study));
        let (x, y) = (inner.x + 4.0, inner.y + inner.height - 12.0);
        let bar = Rect { x, y, width: (inner.width * 0.35).min(60.0), height: 8.0 };
        add(bar, What::Bar { frame, unit });
        return Sheet { page, parts, together: false, guides: Default::default() }.tidied();
    }
    let across = width >= height;
    // The maps, and what stands beside or below them.
    let below_title = inner.y + TITLE + GAP;
    let room = (inner.height - TITLE - GAP - FOOT - GAP).max(6.0 * LEAST);
    let (maps, beside) = match across {
        true => {
            let column = COLUMN.min(inner.width * 0.3);
            let maps = Rect { y: below_title, width: inner.width - column - GAP, height: room, ..inner };
            let x = maps.x + maps.width + GAP;
            (maps, Rect { x, y: below_title, width: column, height: room })
        }
        false => {
            let strip = COLUMN.min(inner.height * 0.25);
            let maps = Rect { y: below_title, height: room - strip - GAP, ..inner };
            (maps, Rect { y: maps.y + maps.height + GAP, height: strip, ..inner })
        }
    };
    let title = Rect { height: TITLE, ..inner };
    add(title, What::Title(text("{study}", 20.0, true)));
    let (columns, rows): (usize, usize) = match (layout, across) {
        (Layout::Two, _) => two(maps, aspect),
        (Layout::Four, _) => (2, 2),
        _ => (1, 1),
    };
    let cell_w = (maps.width - GAP * (columns - 1) as f64) / columns as f64;
    let cell_h = (maps.height - GAP * (rows - 1) as f64) / rows as f64;
    let mut first = 0;
    for n in 0..columns * rows {
        let at = Rect {
            x: maps.x + (cell_w + GAP) * (n % columns) as f64,
            y: maps.y + (cell_h + GAP) * (n / columns) as f64,
            width: cell_w,
            height: cell_h,
        };
        let id = add(at, map(Fit::Study));
        if n == 0 {
            first = id;
        }
    }
    let of_first = Rect { x: maps.x, y: maps.y, width: cell_w, height: cell_h };
    let bar = Rect {
        x: of_first.x + 4.0,
        y: of_first.y + of_first.height - 14.0,
        width: (cell_w * 0.45).min(70.0),
        height: 8.0,
    };
    add(bar, What::Bar { frame: first, unit });
    let north = 16.0;
    let (small, key, arrow) = match across {
        true => {
            let small = (beside.width * 0.8).min(beside.height * 0.35);
            (
                Rect { y: beside.y + beside.height - small, width: beside.width, height: small, ..beside },
                Rect { height: (beside.height - small - north - 2.0 * GAP).max(LEAST), ..beside },
                Rect {
                    y: beside.y + beside.height - small - GAP - north,
                    width: NORTH.min(beside.width),
                    height: north,
                    ..beside
                },
            )
        }
        false => {
            let small = beside.height.min(beside.width * 0.35);
            let x = beside.x + beside.width - small;
            (
                Rect { x, width: small, ..beside },
                Rect { width: (beside.width - small - NORTH - 2.0 * GAP).max(LEAST), ..beside },
                Rect { x: (x - GAP - NORTH).max(beside.x), width: NORTH, height: north, ..beside },
            )
        }
    };
    let key_of =
        Key { heading: String::new(), size_pt: 8.5, unit, looks: Default::default(), order: Vec::new() };
    add(key, What::Key(key_of));
    add(arrow, What::North { frame: first });
    let mut locator = map(Fit::Study);
    if let What::Frame(frame) = &mut locator {
        let ground = ["relief", "streams"].map(String::from);
        frame.shown.layers = layers.iter().filter(|l| ground.contains(l)).cloned().collect();
        frame.locates = Some(first);
        frame.ink = 0.35;
        frame.labels.on = false;
        frame.grid = GridChoice { style: GridStyle::None, interval: [None; 2], labels: LabelPlace::None };
    }
    add(small, locator);
    let foot = Rect { y: inner.y + inner.height - FOOT, height: FOOT, ..inner };
    add(foot, What::Source(text("{sources} {crs}. {scale}. {date}.", 7.5, false)));
    let together = columns * rows > 1;
    Sheet { page, parts, together, guides: Default::default() }.tidied()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::PageSize;

    #[test]
    fn two_maps_lie_so_that_they_are_the_larger() {
        let room = Rect { x: 0.0, y: 0.0, width: 215.0, height: 161.0 };
        assert_eq!(two(room, 2.5), (1, 2), "a long valley from west to east");
        assert_eq!(two(room, 8.0 / 6.0), (2, 1));
    }

    #[test]
    fn every_layout_fits_every_page_and_no_part_lies_on_another_but_on_its_map() {
        let free = PageSize::Free { width_mm: 90.0, height_mm: 60.0 };
        for size in [PageSize::A4, PageSize::A3, PageSize::Letter, PageSize::Tabloid, free] {
            for across in [false, true] {
                for layout in Layout::ALL {
                    let page = Page { size, across };
                    let sheet =
                        begin(layout, page, &["relief".into(), "streams".into()], BarUnit::Metric, 1.3)
                            .unwrap();
                    let maps = sheet.frames().filter(|(_, f)| f.locates.is_none()).count();
                    assert_eq!(
                        maps,
                        match layout {
                            Layout::One | Layout::Figure => 1,
                            Layout::Two => 2,
                            Layout::Four => 4,
                        }
                    );
                    let (w, h) = page.mm().unwrap();
                    for (n, part) in sheet.parts.iter().enumerate() {
                        assert!(
                            part.at.x >= 0.0 && part.at.x + part.at.width <= w + 1e-9,
                            "{layout:?} {part:?}"
                        );
                        assert!(
                            part.at.y >= 0.0 && part.at.y + part.at.height <= h + 1e-9,
                            "{layout:?} {part:?}"
                        );
                        for other in &sheet.parts[..n] {
                            let bar = matches!(part.what, What::Bar { .. });
                            assert!(
                                bar || !part.at.meets(&other.at) || size == free,
                                "{layout:?}: {part:?} {other:?}"
                            );
                        }
                    }
                    assert!(sheet.parts.iter().filter(|p| matches!(p.what, What::Bar { .. })).count() == 1);
                }
            }
        }
    }
}
