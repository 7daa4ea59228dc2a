//! Map sheets and reports: what a page holds and where, laid out on paper and written as PDF, SVG and PNG. Nothing here knows of
//! studies: what a frame shows is handed in as pictures and features.
//!
//! Lengths on paper are millimetres from the upper left corner of the page, x to the right, y down. Places on the
//! ground are units of the frame's CRS, x to the east, y to the north.
//!
//! A [`Sheet`] is what is kept; [`lay`] turns it and the [`Content`] of its frames into a [`Drawing`], a list of marks on
//! paper; [`svg`], [`pdf`] and [`png`] write that.

mod bar;
mod content;
mod error;
mod fonts;
mod geo;
mod grid;
mod labels;
mod lay;
mod layouts;
mod mark;
mod page;
mod pdf;
mod picture;
pub mod report;
mod sheet;
mod svg;
mod view;

pub use bar::{Bar, BarUnit};
pub use content::{Content, Entry, Feature, GeoReference, Geometry, Label, Layer, Sample, Stroke, Words};
pub use error::{Error, Result};
pub use fonts::{missing_letters, width_mm};
pub use geo::georeferenced;
pub use grid::{Grid, GridLine, Side, interval};
pub use labels::{Placed, Placing, Spot, ToPlace, place};
pub use lay::{Laid, all_entries, lay};
pub use layouts::{Layout, begin};
pub use mark::{Anchor, Colour, Drawing, Heading, Line, Mark, Picture, Role, Target, Weight};
pub use page::{Page, PageSize, Rect};
pub use pdf::{About, Pages, pdf};
pub use picture::png;
pub use sheet::{
    Fit, Frame, GridChoice, GridStyle, Key, KeyLook, LabelPlace, Labels, Part, Sheet, Shown, Text, What,
};
pub use svg::svg;
pub use view::View;
