//! Decoding the pictures that servers send: PNG and JPEG of 8 bits, up to a limit of size.

use std::io::Cursor;

use bothros_formats::Picture;
use png::{ColorType, Transformations};
use zune_jpeg::JpegDecoder;
use zune_jpeg::zune_core::colorspace::ColorSpace;
use zune_jpeg::zune_core::options::DecoderOptions;

/// Edge of the largest picture that is unpacked, pixels.
const MOST_PIXELS: usize = 4096;

/// Unpacks a picture; `None` for what is none, or too large.
pub(crate) fn unpack(body: &[u8]) -> Option<Picture> {
    let (width, height, pixels) = if body.starts_with(b"\x89PNG") { png(body)? } else { jpeg(body)? };
    let whole = pixels.len() == width * height * 4;
    let original = (width, height);
    whole.then_some(Picture { width, height, pixels, original, crs: None, geo_transform: None })
}

/// Columns, rows, and red, green, blue, opacity of each pixel.
type Unpacked = (usize, usize, Vec<u8>);

fn png(body: &[u8]) -> Option<Unpacked> {
    let mut decoder = png::Decoder::new(Cursor::new(body));
    decoder.set_transformations(Transformations::EXPAND | Transformations::STRIP_16);
    let mut reader = decoder.read_info().ok()?;
    let (width, height) = (reader.info().width as usize, reader.info().height as usize);
    if width.max(height) > MOST_PIXELS {
        return None;
    }
    let mut values = vec![0; reader.output_buffer_size()?];
    let frame = reader.next_frame(&mut values).ok()?;
    let values = &values[..frame.buffer_size()];
    let pixels = match frame.color_type {
        ColorType::Rgba => values.to_vec(),
        ColorType::Rgb => values.chunks_exact(3).flat_map(|p| [p[0], p[1], p[2], u8::MAX]).collect(),
        ColorType::GrayscaleAlpha => values.chunks_exact(2).flat_map(|p| [p[0], p[0], p[0], p[1]]).collect(),
        ColorType::Grayscale => values.iter().flat_map(|&g| [g, g, g, u8::MAX]).collect(),
        ColorType::Indexed => return None,
    };
    Some((width, height, pixels))
}

fn jpeg(body: &[u8]) -> Option<Unpacked> {
    let options = DecoderOptions::default()
        .jpeg_set_out_colorspace(ColorSpace::RGBA)
        .set_max_width(MOST_PIXELS)
        .set_max_height(MOST_PIXELS);
    let mut decoder = JpegDecoder::new_with_options(Cursor::new(body), options);
    let pixels = decoder.decode().ok()?;
    let (width, height) = decoder.dimensions()?;
    Some((width, height, pixels))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn packed(colour: ColorType, values: &[u8], palette: Option<&[u8]>) -> Vec<u8> {
        let mut out = Vec::new();
        let mut encoder = png::Encoder::new(&mut out, 2, 1);
        encoder.set_color(colour);
        if let Some(palette) = palette {
            encoder.set_palette(palette.to_vec());
        }
        encoder.write_header().unwrap().write_image_data(values).unwrap();
        out
    }

    #[rstest]
    #[case(ColorType::Rgba, &[9, 8, 7, 6, 5, 4, 3, 2], None, [9, 8, 7, 6, 5, 4, 3, 2])]
    #[case(ColorType::Rgb, &[9, 8, 7, 5, 4, 3], None, [9, 8, 7, 255, 5, 4, 3, 255])]
    #[case(ColorType::Grayscale, &[9, 5], None, [9, 9, 9, 255, 5, 5, 5, 255])]
    #[case(ColorType::GrayscaleAlpha, &[9, 1, 5, 2], None, [9, 9, 9, 1, 5, 5, 5, 2])]
    #[case(ColorType::Indexed, &[1, 0], Some(&[1u8, 2, 3, 7, 8, 9][..]), [7, 8, 9, 255, 1, 2, 3, 255])]
    fn png_of_each_kind_is_brought_to_colours_with_opacity(
        #[case] colour: ColorType,
        #[case] values: &[u8],
        #[case] palette: Option<&[u8]>,
        #[case] expected: [u8; 8],
    ) {
        let picture = unpack(&packed(colour, values, palette)).unwrap();
        assert_eq!((picture.width, picture.height, picture.pixels.as_slice()), (2, 1, &expected[..]));
    }

    #[test]
    fn what_is_no_picture_is_none() {
        for body in [&b""[..], b"<html>", b"\x89PNG\r\n\x1a\n", b"\xff\xd8\xff\xe0 cut off"] {
            assert!(unpack(body).is_none());
        }
    }
}
