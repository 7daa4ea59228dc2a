//! Pictures: encoded, and whole pages drawn to dots.

use std::sync::Arc;

use usvg::ImageKind;

use crate::fonts::file;
use crate::svg::{Pictures, written};
use crate::{Drawing, Error, Picture, Result, Weight};

fn failed(why: impl std::fmt::Display) -> Error {
    Error::Written(why.to_string())
}

/// Resolutions that are written, dots an inch.
const RESOLUTIONS: std::ops::RangeInclusive<f64> = 30.0..=1200.0;
/// More dots than this are no page any more: 4 bytes each.
const MOST_DOTS: f64 = 300e6;

/// A picture as PNG.
pub(crate) fn encoded(picture: &Picture) -> Result<Vec<u8>> {
    to_png(picture.width, picture.height, &picture.rgba, png::ColorType::Rgba, None)
}

fn to_png(
    width: usize,
    height: usize,
    data: &[u8],
    colour: png::ColorType,
    dpi: Option<f64>,
) -> Result<Vec<u8>> {
    let mut out = Vec::new();
    let size = |n: usize| u32::try_from(n).map_err(failed);
    let mut encoder = png::Encoder::new(&mut out, size(width)?, size(height)?);
    encoder.set_color(colour);
    encoder.set_depth(png::BitDepth::Eight);
    encoder.set_compression(png::Compression::Fast);
    if let Some(dpi) = dpi {
        let metre = (dpi / 0.0254).round() as u32;
        encoder.set_pixel_dims(Some(png::PixelDimensions {
            xppu: metre,
            yppu: metre,
            unit: png::Unit::Meter,
        }));
    }
    let mut writer = encoder.write_header().map_err(failed)?;
    writer.write_image_data(data).map_err(failed)?;
    writer.finish().map_err(failed)?;
    Ok(out)
}

/// Dots across and down of a page at a resolution.
///
/// # Errors
/// [`Error::Resolution`], [`Error::TooLarge`].
pub(crate) fn dots((width_mm, height_mm): (f64, f64), dpi: f64) -> Result<(u32, u32)> {
    if !RESOLUTIONS.contains(&dpi) {
        return Err(Error::Resolution { dpi });
    }
    let (width, height) = ((width_mm / 25.4 * dpi).round(), (height_mm / 25.4 * dpi).round());
    match width * height <= MOST_DOTS {
        true => Ok((width as u32, height as u32)),
        false => Err(Error::TooLarge { dots: (width * height / 1e6) as u64 }),
    }
}

/// Draws a page to a PNG that tells its resolution, dots an inch.
///
/// # Errors
/// [`Error::Resolution`], [`Error::TooLarge`], [`Error::Written`].
pub fn png(drawing: &Drawing, dpi: f64) -> Result<Vec<u8>> {
    let (width, height) = dots(drawing.page, dpi)?;
    let mut pictures = Vec::new();
    let text = written(drawing, false, &mut Pictures::Beside(&mut pictures))?;
    let encoded: Vec<Arc<Vec<u8>>> =
        pictures.iter().map(|p| encoded(p).map(Arc::new)).collect::<Result<_>>()?;
    drop(pictures);
    let mut options = usvg::Options { font_family: crate::fonts::FAMILY.into(), ..usvg::Options::default() };
    for weight in [Weight::Regular, Weight::Bold] {
        options.fontdb_mut().load_font_data(file(weight).to_vec());
    }
    options.image_href_resolver.resolve_string = Box::new(move |address, _| {
        let at: usize = address.strip_prefix("picture:")?.parse().ok()?;
        Some(ImageKind::PNG(encoded.get(at)?.clone()))
    });
    let tree = usvg::Tree::from_str(&text, &options).map_err(failed)?;
    let mut dots =
        resvg::tiny_skia::Pixmap::new(width, height).ok_or_else(|| failed("no memory for the page"))?;
    let across = width as f32 / tree.size().width();
    let down = height as f32 / tree.size().height();
    resvg::render(&tree, resvg::tiny_skia::Transform::from_scale(across, down), &mut dots.as_mut());
    // The page is white: no dot is see-through.
    let rgb: Vec<u8> = dots.data().chunks_exact(4).flat_map(|p| [p[0], p[1], p[2]]).collect();
    to_png(width as usize, height as usize, &rgb, png::ColorType::Rgb, Some(dpi))
}
