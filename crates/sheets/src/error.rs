//! What is wrong with a sheet, worded to say what to do.

/// The errors of sheets.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum Error {
    /// A page that no printer takes.
    #[error("a page of {width_mm} x {height_mm} mm cannot be printed: each side is from {least} to {most} mm", least = crate::page::LEAST_MM, most = crate::page::MOST_MM)]
    PageSize {
        /// millimetres
        width_mm: f64,
        /// millimetres
        height_mm: f64,
    },
    /// A scale at which nothing can be seen.
    #[error("a scale of 1:{denominator} shows nothing of a landscape: take one from 1:100 to 1:100 000 000")]
    Scale {
        /// metres on the ground to a metre on paper
        denominator: f64,
    },
    /// A frame without room.
    #[error("the frame is {width_mm:.1} x {height_mm:.1} mm: it needs 5 mm at least each way")]
    FrameTooSmall {
        /// millimetres
        width_mm: f64,
        /// millimetres
        height_mm: f64,
    },
    /// A grid that would fill the frame with lines.
    #[error("a grid of {interval_m} m would draw {lines} lines: take {least_m} m or more")]
    GridTooFine {
        /// what was asked for
        interval_m: f64,
        /// how many lines that would be
        lines: u64,
        /// the finest that is drawn
        least_m: f64,
    },
    /// A part that is not on the sheet.
    #[error("there is no part {0} on this sheet: it may have been removed elsewhere")]
    NoPart(u32),
    /// More than a page holds.
    #[error("a sheet has room for {most} {what} at most")]
    TooMany {
        /// of what
        what: &'static str,
        /// how many there can be
        most: usize,
    },
    /// A part without size.
    #[error("a part of {width_mm} x {height_mm} mm cannot be drawn: both sides must be greater than 0")]
    NoRoom {
        /// millimetres
        width_mm: f64,
        /// millimetres
        height_mm: f64,
    },
    /// Letters that nobody reads.
    #[error("letters of {size_pt} points cannot be read: take 4 to 72")]
    Letters {
        /// points
        size_pt: f64,
    },
    /// Sizes beside those on the screen.
    #[error("{what} at {value} times their size on the screen cannot be read: take 0.1 to 5")]
    Factor {
        /// of what
        what: &'static str,
        /// what was asked for
        value: f64,
    },
    /// An interval that is none.
    #[error("the interval of a grid must be greater than 0")]
    Interval,
    /// A picture that is none.
    #[error("the picture cannot be read: {0}; PNG and JPEG can be")]
    Picture(String),
    /// A resolution no printer has.
    #[error("a resolution of {dpi} dots an inch cannot be written: take 30 to 1200")]
    Resolution {
        /// dots an inch
        dpi: f64,
    },
    /// A page of more dots than memory holds.
    #[error("the page would have {dots} million dots: take a lower resolution or a smaller page")]
    TooLarge {
        /// millions
        dots: u64,
    },
    /// What a writer of files said.
    #[error("the sheet cannot be written: {0}")]
    Written(String),
}

/// The outcome of what can go wrong with a sheet.
pub type Result<T> = std::result::Result<T, Error>;
