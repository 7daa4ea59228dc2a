//! Charts: scales, ticks, axes, series, marks, bands and a legend, drawn to SVG; and the table of the numbers behind each.
//!
//! Pages, map sheets and reports share it, so that nobody else works out where a point lies. What is drawn is given in a
//! quantity's own unit; axes show it in the unit that fits. The SVG stands by itself in the light theme; a page may
//! colour its classes otherwise.
//!
//! ```
//! use bothros_charts::{Axis, Chart, Series, Tone};
//! use bothros_products::{Quantity, Units};
//!
//! let fall = Series::line("ground", Tone::Ink, vec![(0.0, Some(12.0)), (250.0, Some(9.5))]);
//! let chart = Chart::new("fall", "Ground along the stream")
//!     .x(Axis::of("distance", Quantity::Length, Units::Metric))
//!     .y(Axis::of("elevation", Quantity::Elevation, Units::Metric))
//!     .series(fall);
//! let drawn = chart.draw().unwrap();
//! assert!(drawn.svg.contains("distance, m"));
//! assert_eq!(drawn.table.rows.len(), 2);
//! ```

mod axis;
mod draw;
mod table;

pub use axis::{Axis, Scale};
pub use draw::Drawn;
pub use table::Numbers;

/// A colour with a meaning; pages give it the colour of their theme.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tone {
    /// streams, what matters most
    Water,
    /// what is too much
    Amber,
    /// what is missed
    Alarm,
    /// what is as it should be
    Moss,
    /// attention, what was cut
    Clay,
    /// what was filled
    Indigo,
    /// words and ground
    Ink,
    /// what stands back
    Muted,
}

impl Tone {
    /// Returns the name of its class.
    pub fn class(self) -> &'static str {
        match self {
            Self::Water => "water",
            Self::Amber => "amber",
            Self::Alarm => "alarm",
            Self::Moss => "moss",
            Self::Clay => "clay",
            Self::Indigo => "indigo",
            Self::Ink => "ink",
            Self::Muted => "muted",
        }
    }

    /// Returns its colour in the light theme.
    pub fn light(self) -> &'static str {
        match self {
            Self::Water => "#0F5C63",
            Self::Amber => "#C77B1B",
            Self::Alarm => "#A3263B",
            Self::Moss => "#5B7F3B",
            Self::Clay => "#B4532A",
            Self::Indigo => "#4A559C",
            Self::Ink => "#22302E",
            Self::Muted => "#5D6B68",
        }
    }
}

/// How the points of a series are drawn.
#[derive(Debug, Clone, PartialEq)]
pub enum Shape {
    /// a line from point to point, broken where there is no value
    Line,
    /// the same, dashed
    Dashed,
    /// the same, dotted
    Dotted,
    /// a dot for each
    Points,
    /// a line with a dot for each
    LineAndPoints,
    /// a bar for each, from the left of its x to so much further
    Bars {
        /// width of a bar, in the x axis's own unit
        width: f64,
    },
    /// the area between it and other values at the same places
    Between(Vec<Option<f64>>),
}

/// Points that belong together.
#[derive(Debug, Clone, PartialEq)]
pub struct Series {
    /// in the legend and the table
    pub name: String,
    /// its colour
    pub tone: Tone,
    /// how it is drawn
    pub shape: Shape,
    /// places and values, in the axes' own units; no value where there is none
    pub points: Vec<(f64, Option<f64>)>,
    /// whether its numbers stand in the table and are read out
    pub told: bool,
}

impl Series {
    /// Points drawn in a shape.
    pub fn new(name: impl Into<String>, tone: Tone, shape: Shape, points: Vec<(f64, Option<f64>)>) -> Self {
        Self { name: name.into(), tone, shape, points, told: true }
    }

    /// A line.
    pub fn line(name: impl Into<String>, tone: Tone, points: Vec<(f64, Option<f64>)>) -> Self {
        Self::new(name, tone, Shape::Line, points)
    }

    /// The same, but left out of the table and the read-out: what others tell already.
    pub fn untold(mut self) -> Self {
        self.told = false;
        self
    }
}

/// Something that stands at one place of an axis, over the whole of the other.
#[derive(Debug, Clone, PartialEq)]
pub struct Mark {
    /// tells it from others, for those who move it
    pub key: &'static str,
    /// in the legend; empty for none
    pub name: String,
    /// its colour
    pub tone: Tone,
    /// where
    pub place: Place,
}

/// Where a mark stands, in the axis's own unit.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Place {
    /// a line upwards
    AtX(f64),
    /// a line across
    AtY(f64),
    /// a band upwards from one place to another
    FromX(f64, f64),
    /// a band across from one place to another
    FromY(f64, f64),
}

/// Numbers that stand behind the points of a chart: told and read out, and not drawn.
#[derive(Debug, Clone, PartialEq)]
pub struct Behind {
    /// head of the column, with its unit
    pub head: String,
    /// places on the axis to the right in its own unit, numbers as they are told, and their values
    pub numbers: Vec<(f64, String, f64)>,
}

/// A chart before it is drawn.
#[derive(Debug, Clone, PartialEq)]
pub struct Chart {
    name: &'static str,
    title: String,
    /// width and height of the plot and its axes, without the legend
    size: (f64, f64),
    x: Axis,
    y: Axis,
    ends: Option<(String, String)>,
    series: Vec<Series>,
    marks: Vec<Mark>,
    behind: Vec<Behind>,
}

impl Chart {
    /// An empty chart; `name` becomes its class and the name of its files, `title` says what it shows.
    pub fn new(name: &'static str, title: impl Into<String>) -> Self {
        Self {
            name,
            title: title.into(),
            size: (350.0, 190.0),
            x: Axis::plain(""),
            y: Axis::plain(""),
            ends: None,
            series: Vec::new(),
            marks: Vec::new(),
            behind: Vec::new(),
        }
    }

    /// With another size of the plot and its axes.
    pub fn size(mut self, width: f64, height: f64) -> Self {
        self.size = (width, height);
        self
    }

    /// With this axis to the right.
    pub fn x(mut self, axis: Axis) -> Self {
        self.x = axis;
        self
    }

    /// With this axis upwards.
    pub fn y(mut self, axis: Axis) -> Self {
        self.y = axis;
        self
    }

    /// With words at the two ends of the axis to the right.
    pub fn ends(mut self, first: impl Into<String>, last: impl Into<String>) -> Self {
        self.ends = Some((first.into(), last.into()));
        self
    }

    /// With one more series, drawn over those before.
    pub fn series(mut self, series: Series) -> Self {
        self.series.push(series);
        self
    }

    /// With one more mark; bands lie under all series, lines over them.
    pub fn mark(mut self, key: &'static str, name: impl Into<String>, tone: Tone, place: Place) -> Self {
        self.marks.push(Mark { key, name: name.into(), tone, place });
        self
    }

    /// With one more column of numbers behind the points.
    pub fn behind(mut self, head: impl Into<String>, numbers: Vec<(f64, String, f64)>) -> Self {
        self.behind.push(Behind { head: head.into(), numbers });
        self
    }
}
