//! A report: sections of words, tables and figures, laid out on pages with contents, numbers and links, or written as one
//! HTML file. What it says is handed in; nothing here knows of studies.

mod chart;
mod html;
mod pages;

pub use html::{html, html_body};
pub use pages::{Book, book};

use crate::Drawing;

/// A report.
#[derive(Debug, Clone, PartialEq)]
pub struct Report {
    /// its title
    pub title: String,
    /// what stands under the title: names and what they are
    pub about: Vec<(String, String)>,
    /// its sections, in order
    pub sections: Vec<Section>,
}

/// A section.
#[derive(Debug, Clone, PartialEq)]
pub struct Section {
    /// tells it from others, in addresses of the HTML file
    pub key: String,
    /// its heading
    pub title: String,
    /// 1, or 2 for a part of the section before
    pub level: u8,
    /// what it holds
    pub blocks: Vec<Block>,
}

/// A part of a section.
#[derive(Debug, Clone, PartialEq)]
pub enum Block {
    /// a paragraph
    Words(String),
    /// the analyst's own words; lines that are empty part paragraphs
    Own(String),
    /// points of a list
    List(Vec<String>),
    /// names and what they are
    Facts(Vec<(String, String)>),
    /// a table
    Table(Tabled),
    /// a figure
    Figure(Figured),
}

/// A table.
#[derive(Debug, Clone, PartialEq)]
pub struct Tabled {
    /// name of its CSV file, without its ending
    pub name: String,
    /// what it shows
    pub caption: String,
    /// heads of its columns, with units
    pub heads: Vec<String>,
    /// whether a column holds numbers, which stand at the right
    pub numbers: Vec<bool>,
    /// cells as they are told
    pub rows: Vec<Vec<String>>,
    /// rows that are shown; the others are in the CSV file alone
    pub most: usize,
}

impl Tabled {
    /// The rows that are shown, and how many others there are.
    fn shown(&self) -> (&[Vec<String>], usize) {
        let shown = self.rows.len().min(self.most);
        (&self.rows[..shown], self.rows.len() - shown)
    }
}

/// A figure.
#[derive(Debug, Clone, PartialEq)]
pub struct Figured {
    /// what it shows
    pub caption: String,
    /// the same for those who do not see it, where the caption is not enough
    pub told: String,
    /// what is seen
    pub drawn: Drawn,
}

/// What is seen of a figure.
#[derive(Debug, Clone, PartialEq)]
pub enum Drawn {
    /// a chart as SVG: paths, rectangles, circles, lines and text
    Chart(String),
    /// a map
    Map(Drawing),
}

/// Numbers of figures and tables, in the order in which they stand.
#[derive(Debug, Default)]
struct Numbers {
    figures: usize,
    tables: usize,
}

impl Numbers {
    fn figure(&mut self) -> String {
        self.figures += 1;
        format!("Figure {}", self.figures)
    }
    fn table(&mut self) -> String {
        self.tables += 1;
        format!("Table {}", self.tables)
    }
}

/// The numbers of sections: 1, 2, 2.1.
fn numbered(sections: &[Section]) -> Vec<String> {
    let (mut first, mut second) = (0, 0);
    let number = |section: &Section| match section.level {
        0 | 1 => {
            (first, second) = (first + 1, 0);
            first.to_string()
        }
        _ => {
            second += 1;
            format!("{}.{second}", first.max(1))
        }
    };
    sections.iter().map(number).collect()
}

#[cfg(test)]
mod tests;
