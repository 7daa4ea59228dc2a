//! What the frames of a sheet show, as it is handed in.

use crate::{Colour, Picture, View};

/// What one frame shows.
#[derive(Debug, Clone, PartialEq)]
pub struct Content {
    /// the part that the frame is
    pub frame: u32,
    /// where it looks
    pub view: View,
    /// layers, the lowest first
    pub layers: Vec<Layer>,
    /// rings beyond which nothing is shown, units of the CRS; none where all is
    pub mask: Option<Vec<Vec<[f64; 2]>>>,
    /// entries for the key
    pub entries: Vec<Entry>,
    /// degrees clockwise from true north to the north of the grid, in the middle; none where it is not known
    pub north: Option<f64>,
    /// the unit of the CRS, in short
    pub unit: &'static str,
    /// where its corners lie on the earth
    pub geo: Option<GeoReference>,
    /// what it shows, for those who do not see it
    pub told: String,
}

/// Where a frame lies on the earth.
#[derive(Debug, Clone, PartialEq)]
pub struct GeoReference {
    /// code of the CRS, where it has one
    pub epsg: Option<u32>,
    /// the CRS as Well-Known Text (OGC 01-009)
    pub wkt: String,
    /// whether coordinates are degrees
    pub geographic: bool,
    /// latitude and longitude of its corners from the lower left, clockwise, in the geographic CRS that its CRS rests on
    pub corners: [[f64; 2]; 4],
}

/// A layer of a frame.
#[derive(Debug, Clone, PartialEq)]
pub enum Layer {
    /// a picture that fills the frame
    Picture {
        /// the dots
        picture: Picture,
        /// opacity, from 0 to 1
        opacity: f64,
    },
    /// lines, areas and points
    Features(Vec<Feature>),
}

/// How a line is drawn, on the screen's scale.
#[derive(Debug, Clone, PartialEq)]
pub struct Stroke {
    /// colour
    pub colour: Colour,
    /// width, pixels of 1/96 inch
    pub width_px: f64,
    /// strokes and gaps, pixels
    pub dash_px: Vec<f64>,
}

/// A shape on the ground, units of the CRS.
#[derive(Debug, Clone, PartialEq)]
pub enum Geometry {
    /// a place, drawn as a mark with so many corners; 0 for a circle
    Point([f64; 2], u8),
    /// lines
    Lines(Vec<Vec<[f64; 2]>>),
    /// polygons: rings of one or several, holes among them
    Area(Vec<Vec<[f64; 2]>>),
}

/// A feature.
#[derive(Debug, Clone, PartialEq)]
pub struct Feature {
    /// its shape
    pub geometry: Geometry,
    /// its line
    pub stroke: Option<Stroke>,
    /// colour and opacity of its inside
    pub fill: Option<(Colour, f64)>,
    /// radius of a point's mark, pixels
    pub radius_px: f64,
    /// its label
    pub label: Option<Label>,
}

/// A label.
#[derive(Debug, Clone, PartialEq)]
pub struct Label {
    /// what it says
    pub text: String,
    /// height of letters, pixels
    pub size_px: f64,
    /// colour
    pub colour: Colour,
    /// which of two is placed first
    pub matters: f64,
}

/// An entry of a key.
#[derive(Debug, Clone, PartialEq)]
pub struct Entry {
    /// tells it from others
    pub name: String,
    /// its words
    pub words: String,
    /// the heading it stands under
    pub group: String,
    /// how what it tells is drawn
    pub sample: Sample,
}

/// How an entry of a key is drawn.
#[derive(Debug, Clone, PartialEq)]
pub enum Sample {
    /// a line, or several that lie over each other
    Lines(Vec<Stroke>),
    /// an area
    Area {
        /// colour and opacity of its inside
        fill: Option<(Colour, f64)>,
        /// its outline
        stroke: Option<Stroke>,
    },
    /// a mark
    Point {
        /// corners; 0 for a circle
        corners: u8,
        /// colour of its inside
        fill: Option<(Colour, f64)>,
        /// its outline
        stroke: Option<Stroke>,
        /// radius, pixels
        radius_px: f64,
    },
    /// a ramp, and what its ends are
    Ramp {
        /// colours from low to high
        colours: Vec<Colour>,
        /// words at the ends and, where there is one, in the middle
        ends: Vec<String>,
    },
    /// several colours that have no order
    Patches(Vec<Colour>),
}

/// What stands for the names in braces in texts.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Words {
    /// names without braces, and what stands for them
    pub all: Vec<(&'static str, String)>,
}

impl Words {
    /// A text with all that is in braces filled in; unknown names stay as they are.
    pub fn fill(&self, text: &str) -> String {
        self.all
            .iter()
            .fold(text.to_owned(), |text, (name, value)| text.replace(&format!("{{{name}}}"), value))
    }
}
