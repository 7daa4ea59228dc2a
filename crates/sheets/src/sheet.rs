//! A sheet as it is kept: a page and its parts.

use serde::{Deserialize, Serialize};

use crate::{BarUnit, Error, Page, Rect, Result, View};

/// More parts than this fill a page.
const MOST_PARTS: usize = 60;
/// So many map frames stand on a page; small ones that show where a place lies count too.
const MOST_FRAMES: usize = 6;
/// The longest text of a part, characters.
const LONGEST: usize = 4000;
/// Sizes of letters, points.
const SIZES_PT: std::ops::RangeInclusive<f64> = 4.0..=72.0;

/// A page and what stands on it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Sheet {
    /// the page
    pub page: Page,
    /// its parts, the lowest first
    pub parts: Vec<Part>,
    /// whether all map frames keep the scale and the place of the first
    #[serde(default)]
    pub together: bool,
    /// lines that parts are lined up with: x of upright ones, y of those across, mm
    #[serde(default)]
    pub guides: (Vec<f64>, Vec<f64>),
}

/// A part of a page.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Part {
    /// tells it from the others
    pub id: u32,
    /// where it stands, mm
    pub at: Rect,
    /// whether it is left out
    #[serde(default)]
    pub hidden: bool,
    /// what it is
    pub what: What,
}

/// What a part is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "part", rename_all = "snake_case")]
pub enum What {
    /// a map
    Frame(Box<Frame>),
    /// the title
    Title(Text),
    /// any other text
    Text(Text),
    /// where the data come from
    Source(Text),
    /// the key of all frames
    Key(Key),
    /// a scale bar
    Bar {
        /// the frame whose scale it tells
        frame: u32,
        /// in what
        unit: BarUnit,
    },
    /// a north arrow
    North {
        /// the frame whose north it tells
        frame: u32,
    },
    /// a picture of the analyst's
    Logo {
        /// SHA-256 of its file, hexadecimal; none before one was given
        #[serde(default)]
        sha256: Option<String>,
    },
}

/// A text. What stands in braces is filled in: `{study}`, `{catchment}`, `{area}`, `{date}`, `{crs}`, `{scale}`, `{sources}`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Text {
    /// the words; lines are kept
    pub text: String,
    /// height of letters, points
    pub size_pt: f64,
    /// whether it is set in bold
    #[serde(default)]
    pub bold: bool,
    /// whether it stands in the middle
    #[serde(default)]
    pub middle: bool,
}

/// A key.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Key {
    /// its heading; empty for none
    pub heading: String,
    /// height of letters, points
    pub size_pt: f64,
    /// in what heights and lengths are told
    #[serde(default)]
    pub unit: BarUnit,
    /// how each entry is told otherwise than by itself, by its name
    #[serde(default)]
    pub looks: std::collections::BTreeMap<String, KeyLook>,
    /// names of entries in the order in which they stand; those not named follow
    #[serde(default)]
    pub order: Vec<String>,
}

/// How an entry of a key is told.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct KeyLook {
    /// its words; none for its own
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub words: Option<String>,
    /// the group under whose heading it stands; none for its own
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<String>,
    /// whether it is left out
    #[serde(default)]
    pub hidden: bool,
}

/// A map.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Frame {
    /// what it shows
    pub shown: Shown,
    /// where it looks
    pub fit: Fit,
    /// the small frame that shows where that one lies; none for a map of its own
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub locates: Option<u32>,
    /// number of the pour point whose catchment alone is shown
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub alone: Option<i64>,
    /// lines, marks and labels beside their size on the screen at 96 pixels an inch
    #[serde(default = "usual_ink")]
    pub ink: f64,
    /// grid
    #[serde(default)]
    pub grid: GridChoice,
    /// labels
    #[serde(default)]
    pub labels: Labels,
    /// whether a line is drawn around it
    #[serde(default = "yes")]
    pub rim: bool,
}

fn yes() -> bool {
    true
}

/// Print is read from nearer than a screen.
fn usual_ink() -> f64 {
    0.8
}

/// What a frame shows.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Shown {
    /// another study than the sheet's
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub study: Option<i64>,
    /// a DEM that is set aside in the place of the one at work
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub candidate: Option<i64>,
    /// a trial in the place of the network
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trial: Option<i64>,
    /// layers by their names on the map, the lowest first
    pub layers: Vec<String>,
}

/// Where a frame looks.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(tag = "to", rename_all = "snake_case")]
pub enum Fit {
    /// at all of the study
    Study,
    /// at a catchment
    Catchment {
        /// number of its pour point
        point: i64,
    },
    /// at a box, units of the CRS
    Box {
        /// west, south, east, north
        of: [f64; 4],
    },
    /// at a place, at a scale
    Place {
        /// easting in the middle
        x: f64,
        /// northing in the middle
        y: f64,
        /// metres on the ground to a metre on paper
        denominator: f64,
    },
}

/// How a grid is drawn.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum GridStyle {
    /// not at all
    None,
    /// lines
    Lines,
    /// crosses where lines would meet
    #[default]
    Crosses,
    /// short strokes at the rim
    Ticks,
}

/// Where the labels of a grid stand.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum LabelPlace {
    /// nowhere
    None,
    /// in the map
    #[default]
    Inside,
    /// around it
    Outside,
}

/// A grid.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct GridChoice {
    /// how it is drawn
    pub style: GridStyle,
    /// interval of eastings and of northings, units of the CRS; none where it follows from the scale
    #[serde(default)]
    pub interval: [Option<f64>; 2],
    /// where its labels stand
    pub labels: LabelPlace,
}

impl Default for GridChoice {
    fn default() -> Self {
        Self { style: GridStyle::Crosses, interval: [None; 2], labels: LabelPlace::Inside }
    }
}

/// Labels of what is drawn, beside those that styles ask for.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Labels {
    /// whether there are any
    pub on: bool,
    /// their size beside that on the screen
    pub size: f64,
    /// width of the light rim around letters, mm
    pub halo_mm: f64,
    /// what labels of streams say in the place of what the map's style asks for: order, magnitude, area, id, none
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub streams: Option<String>,
}

impl Default for Labels {
    fn default() -> Self {
        Self { on: true, size: 1.0, halo_mm: 0.5, streams: None }
    }
}

impl Part {
    /// The map that it is, if it is one.
    pub fn frame(&self) -> Option<&Frame> {
        match &self.what {
            What::Frame(frame) => Some(frame),
            _ => None,
        }
    }
}

impl Sheet {
    /// The maps that are seen, in the order of the parts.
    pub fn frames(&self) -> impl Iterator<Item = (&Part, &Frame)> {
        self.parts.iter().filter(|part| !part.hidden).filter_map(|part| Some((part, part.frame()?)))
    }

    /// A part by its number.
    ///
    /// # Errors
    /// [`Error::NoPart`].
    pub fn part_mut(&mut self, id: u32) -> Result<&mut Part> {
        self.parts.iter_mut().find(|part| part.id == id).ok_or(Error::NoPart(id))
    }

    /// A number that no part has.
    pub fn next_id(&self) -> u32 {
        self.parts.iter().map(|part| part.id).max().unwrap_or(0).saturating_add(1)
    }

    /// Errors where it cannot be laid out: sizes that are none, too many parts, letters nobody can read.
    ///
    /// # Errors
    /// The first fault found.
    pub fn check(&self) -> Result<()> {
        self.page.mm()?;
        if self.parts.len() > MOST_PARTS {
            return Err(Error::TooMany { what: "parts", most: MOST_PARTS });
        }
        if self.parts.iter().filter(|part| part.frame().is_some()).count() > MOST_FRAMES {
            return Err(Error::TooMany { what: "maps", most: MOST_FRAMES });
        }
        for part in &self.parts {
            let Rect { x, y, width, height } = part.at;
            if ![x, y, width, height].iter().all(|mm| mm.is_finite()) || width <= 0.0 || height <= 0.0 {
                return Err(Error::NoRoom { width_mm: width, height_mm: height });
            }
            match &part.what {
                What::Title(text) | What::Text(text) | What::Source(text) => {
                    letters(text.size_pt)?;
                    if text.text.chars().count() > LONGEST {
                        return Err(Error::TooMany { what: "letters in a text", most: LONGEST });
                    }
                }
                What::Key(key) => letters(key.size_pt)?,
                What::Frame(frame) => frame.check(part.at)?,
                What::Bar { .. } | What::North { .. } | What::Logo { .. } => {}
            }
        }
        Ok(())
    }

    /// Takes parts that were dragged off the page back onto it.
    pub fn tidied(mut self) -> Result<Self> {
        let page = self.page.mm()?;
        for part in &mut self.parts {
            part.at = part.at.on(page);
        }
        self.check()?;
        Ok(self)
    }
}

fn letters(size_pt: f64) -> Result<()> {
    match SIZES_PT.contains(&size_pt) {
        true => Ok(()),
        false => Err(Error::Letters { size_pt }),
    }
}

impl Frame {
    fn check(&self, at: Rect) -> Result<()> {
        if !(0.1..=5.0).contains(&self.ink) {
            return Err(Error::Factor { what: "lines and marks", value: self.ink });
        }
        if !(0.2..=5.0).contains(&self.labels.size) || !(0.0..=5.0).contains(&self.labels.halo_mm) {
            return Err(Error::Factor { what: "labels", value: self.labels.size });
        }
        if self.grid.interval.iter().flatten().any(|step| !(step.is_finite() && *step > 0.0)) {
            return Err(Error::Interval);
        }
        let view = View { frame: at, x: 0.0, y: 0.0, denominator: 1000.0, unit_m: 1.0 };
        match self.fit {
            Fit::Place { x, y, denominator } => View { x, y, denominator, ..view }.check()?,
            Fit::Box { of } => drop(View::fitted(at, of, 1.0, 0.0)?),
            Fit::Study | Fit::Catchment { .. } => view.check()?,
        }
        Ok(())
    }
}
