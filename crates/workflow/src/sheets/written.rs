//! Sheets written to files.

use bothros_sheets::{About, Laid, Sheet, georeferenced, pdf, png, svg};

use super::filled::{SheetSources, laid};
use crate::Result;

/// Resolution of pictures where nothing else is chosen, dots an inch.
pub const DPI: f64 = 300.0;

/// What a sheet is written as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SheetFormat {
    /// vectors, text as text, georeferenced
    Pdf,
    /// the same for editors of drawings
    Svg,
    /// dots
    Png,
}

impl SheetFormat {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Pdf, Self::Svg, Self::Png];

    /// Its name, which is the ending of its files.
    pub fn name(self) -> &'static str {
        match self {
            Self::Pdf => "pdf",
            Self::Svg => "svg",
            Self::Png => "png",
        }
    }

    /// The format of a name.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|format| format.name() == name)
    }

    /// Its media type.
    pub fn media_type(self) -> &'static str {
        match self {
            Self::Pdf => "application/pdf",
            Self::Svg => "image/svg+xml",
            Self::Png => "image/png",
        }
    }
}

/// A sheet that was written.
#[derive(Debug, Clone, PartialEq)]
pub struct Written {
    /// the file
    pub bytes: Vec<u8>,
    /// what did not come out as it was meant
    pub complaints: Vec<String>,
}

/// Writes a sheet, its pictures drawn at a resolution in dots an inch.
///
/// # Errors
/// Those of [`laid`], and [`crate::Error::Sheets`] where it cannot be written.
pub async fn write_sheet(
    from: SheetSources<'_>,
    study: i64,
    sheet: &Sheet,
    format: SheetFormat,
    dpi: f64,
) -> Result<Written> {
    let all = laid(from, study, sheet, dpi).await?;
    crate::blocking(move || {
        let bytes = drawn_as(&all, format, dpi)?;
        Ok(Written { bytes, complaints: all.complaints })
    })
    .await
}

/// A sheet that is laid out, as a file.
///
/// # Errors
/// [`crate::Error::Sheets`] where it cannot be written.
pub(crate) fn drawn_as(all: &Laid, format: SheetFormat, dpi: f64) -> Result<Vec<u8>> {
    Ok(match format {
        SheetFormat::Svg => svg(&all.drawing, true)?.into_bytes(),
        SheetFormat::Png => png(&all.drawing, dpi)?,
        SheetFormat::Pdf => {
            let about = About { title: all.drawing.title.clone(), made: made() };
            let plain = pdf(std::slice::from_ref(&all.drawing), &about)?;
            let frames = all.frames.iter().filter_map(|(_, view, geo)| Some((*view, geo.clone()?)));
            georeferenced(&plain, &[(all.drawing.page.1, frames.collect())])?
        }
    })
}

/// Year, month, day, hour, minute and second of now.
pub(crate) fn made() -> (u16, u8, u8, u8, u8, u8) {
    let now = bothros_store::now().format("%Y %m %d %H %M %S").to_string();
    let all: Vec<u16> = now.split(' ').map(|part| part.parse().unwrap_or(1)).collect();
    let at = |n: usize| all.get(n).copied().unwrap_or(1);
    let small = |n: usize| u8::try_from(at(n)).unwrap_or(1);
    (at(0), small(1), small(2), small(3), small(4), small(5))
}
