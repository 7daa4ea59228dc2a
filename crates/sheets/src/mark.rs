//! What is drawn on a page, in the order in which it is drawn.

use std::sync::Arc;

use crate::Rect;

/// Red, green, blue.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Colour(pub [u8; 3]);

impl Colour {
    /// Words and lines.
    pub const INK: Self = Self([0x22, 0x30, 0x2E]);
    /// What stands back.
    pub const MUTED: Self = Self([0x5D, 0x6B, 0x68]);
    /// Light rims around letters, and the page.
    pub const PAPER: Self = Self([0xFF, 0xFF, 0xFF]);
    /// What must be seen.
    pub const ALARM: Self = Self([0xA3, 0x26, 0x3B]);

    /// How light it is, from 0 to 1 (relative luminance of WCAG 2.2).
    fn luminance(self) -> f64 {
        let linear = |c: u8| match f64::from(c) / 255.0 {
            c if c <= 0.04045 => c / 12.92,
            c => ((c + 0.055) / 1.055).powf(2.4),
        };
        let [r, g, b] = self.0.map(linear);
        0.2126 * r + 0.7152 * g + 0.0722 * b
    }

    /// Contrast with another colour, from 1 to 21 (contrast ratio of WCAG 2.2).
    ///
    /// ```
    /// # use bothros_sheets::Colour;
    /// assert!((Colour([0; 3]).contrast(Colour::PAPER) - 21.0).abs() < 1e-9);
    /// // A well-known pair from the documents of WCAG: 4.54, the lightest grey that letters may have.
    /// assert!((Colour([0x76; 3]).contrast(Colour::PAPER) - 4.54).abs() < 0.01);
    /// ```
    pub fn contrast(self, other: Self) -> f64 {
        let (a, b) = (self.luminance(), other.luminance());
        (a.max(b) + 0.05) / (a.min(b) + 0.05)
    }
}

impl std::fmt::Display for Colour {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let [r, g, b] = self.0;
        write!(f, "#{r:02X}{g:02X}{b:02X}")
    }
}

/// How a line is drawn.
#[derive(Debug, Clone, PartialEq)]
pub struct Line {
    /// colour
    pub colour: Colour,
    /// width, mm
    pub width: f64,
    /// strokes and gaps in turn, mm; empty for a solid line
    pub dash: Vec<f64>,
    /// whether its ends are round
    pub round: bool,
}

impl Line {
    /// A solid line.
    pub fn solid(colour: Colour, width: f64) -> Self {
        Self { colour, width, dash: Vec::new(), round: true }
    }
}

/// The weight of letters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Weight {
    /// running text
    Regular,
    /// titles and labels
    Bold,
}

/// Which end of a text stands at its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Anchor {
    /// the left end
    Start,
    /// the middle
    Middle,
    /// the right end
    End,
}

/// A picture: rows from the top, red, green, blue and opacity of each dot.
#[derive(Debug, Clone, PartialEq)]
pub struct Picture {
    /// dots across
    pub width: usize,
    /// dots down
    pub height: usize,
    /// four bytes for each dot
    pub rgba: Arc<Vec<u8>>,
}

/// What marks are to somebody who hears the page.
#[derive(Debug, Clone, PartialEq)]
pub enum Role {
    /// the page's title
    Title,
    /// a paragraph
    Words,
    /// a heading: its level from 1, what it says
    Heading(u8, String),
    /// a picture, and what it shows
    Figure(String),
    /// a table of rows
    Table,
    /// a row of cells
    Row,
    /// the head of a column
    Head,
    /// a cell
    Cell,
    /// words that lead somewhere
    Link {
        /// where they stand
        at: Rect,
        /// where they lead
        to: Target,
        /// the same in words
        told: String,
    },
    /// what is no part of the text: rules, page numbers
    Aside,
}

/// Where a link leads.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Target {
    /// to a place in the same document
    Page {
        /// page, from 0
        page: usize,
        /// from its upper edge, mm
        y: f64,
    },
}

/// A heading on a page.
#[derive(Debug, Clone, PartialEq)]
pub struct Heading {
    /// from 1
    pub level: u8,
    /// what it says
    pub title: String,
    /// from the upper edge of the page, mm
    pub y: f64,
}

/// A mark on the page; places in mm.
#[derive(Debug, Clone, PartialEq)]
pub enum Mark {
    /// a line or an area
    Path {
        /// lines, or rings that are closed where it is filled; holes are rings inside
        lines: Vec<Vec<[f64; 2]>>,
        /// whether each line ends where it began
        closed: bool,
        /// colour and opacity from 0 to 1 of the inside
        fill: Option<(Colour, f64)>,
        /// its line
        line: Option<Line>,
    },
    /// a picture
    Image {
        /// where
        at: Rect,
        /// what
        picture: Picture,
        /// opacity, from 0 to 1
        opacity: f64,
    },
    /// a line of text
    Text {
        /// the place on its base line that it is anchored at
        at: [f64; 2],
        /// which end stands there
        anchor: Anchor,
        /// clockwise, degrees
        turned: f64,
        /// height of letters (em), mm
        size: f64,
        /// weight
        weight: Weight,
        /// colour
        colour: Colour,
        /// width of a light rim around letters, mm; 0 for none
        halo: f64,
        /// what it says
        text: String,
    },
    /// marks that end at the edge of an area
    Clip {
        /// its rings
        area: Vec<Vec<[f64; 2]>>,
        /// what is cut
        marks: Vec<Mark>,
    },
    /// marks that belong together
    Group {
        /// what they are
        role: Role,
        /// the marks
        marks: Vec<Mark>,
    },
}

impl Mark {
    /// A closed area.
    pub fn area(ring: Vec<[f64; 2]>, fill: Option<(Colour, f64)>, line: Option<Line>) -> Self {
        Self::Path { lines: vec![ring], closed: true, fill, line }
    }

    /// A line.
    pub fn line(points: Vec<[f64; 2]>, line: Line) -> Self {
        Self::Path { lines: vec![points], closed: false, fill: None, line: Some(line) }
    }

    /// A rectangle.
    pub fn rect(at: Rect, fill: Option<(Colour, f64)>, line: Option<Line>) -> Self {
        Self::area(at.ring(), fill, line)
    }

    /// A circle.
    pub fn circle([x, y]: [f64; 2], radius: f64, fill: Option<(Colour, f64)>, line: Option<Line>) -> Self {
        const CORNERS: usize = 32;
        let corner = |i: usize| {
            let (sin, cos) = (std::f64::consts::TAU * i as f64 / CORNERS as f64).sin_cos();
            [x + radius * cos, y + radius * sin]
        };
        Self::area((0..CORNERS).map(corner).collect(), fill, line)
    }
}

/// A page that was laid out.
#[derive(Debug, Clone, PartialEq)]
pub struct Drawing {
    /// width and height, mm
    pub page: (f64, f64),
    /// what it is called
    pub title: String,
    /// its marks, the lowest first
    pub marks: Vec<Mark>,
    /// its headings, for the outline; a page without any is found by its title
    pub headings: Vec<Heading>,
}
