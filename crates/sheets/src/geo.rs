//! Georeferencing of a PDF: where each map lies on the earth, as viewports with geospatial measures (ISO 32000-2, 12.9 and
//! 12.10; the same as the extension of ISO 32000-1).

use lopdf::{Dictionary, Document, Object, StringFormat};

use crate::fonts::POINT;
use crate::{Error, GeoReference, Result, View};

fn failed(why: impl std::fmt::Display) -> Error {
    Error::Written(why.to_string())
}

fn name(name: &str) -> Object {
    Object::Name(name.as_bytes().to_vec())
}

fn text(text: &str) -> Object {
    Object::String(text.as_bytes().to_vec(), StringFormat::Literal)
}

fn numbers(all: impl IntoIterator<Item = f64>) -> Object {
    Object::Array(all.into_iter().map(|n| Object::Real(n as f32)).collect())
}

/// The measure of a frame: its corners on the page, from 0 to 1, and on the earth.
fn measure(geo: &GeoReference) -> Dictionary {
    // Lower left, upper left, upper right, lower right.
    const CORNERS: [f64; 8] = [0.0, 0.0, 0.0, 1.0, 1.0, 1.0, 1.0, 0.0];
    let mut system = Dictionary::new();
    system.set("Type", name(if geo.geographic { "GEOGCS" } else { "PROJCS" }));
    if let Some(code) = geo.epsg {
        system.set("EPSG", Object::Integer(i64::from(code)));
    }
    system.set("WKT", text(&geo.wkt));
    let mut measure = Dictionary::new();
    measure.set("Type", name("Measure"));
    measure.set("Subtype", name("GEO"));
    measure.set("Bounds", numbers(CORNERS));
    measure.set("LPTS", numbers(CORNERS));
    measure.set("GPTS", numbers(geo.corners.into_iter().flatten()));
    measure.set("GCS", Object::Dictionary(system));
    measure
}

/// The same PDF with the places of the frames of each page.
///
/// # Errors
/// [`Error::Written`] where the PDF cannot be read again.
pub fn georeferenced(pdf: &[u8], pages: &[(f64, Vec<(View, GeoReference)>)]) -> Result<Vec<u8>> {
    let mut document = Document::load_mem(pdf).map_err(failed)?;
    let ids: Vec<lopdf::ObjectId> = document.page_iter().collect();
    for (id, (height_mm, frames)) in ids.into_iter().zip(pages) {
        let mut viewports = Vec::new();
        for (number, (view, geo)) in frames.iter().enumerate() {
            let at = view.frame;
            // From the lower left corner, points.
            let (low, high) = (height_mm - at.y - at.height, height_mm - at.y);
            let mut viewport = Dictionary::new();
            viewport.set("Type", name("Viewport"));
            viewport.set("Name", text(&format!("Map {}", number + 1)));
            viewport.set("BBox", numbers([at.x, low, at.x + at.width, high].map(|mm| mm / POINT)));
            viewport.set("Measure", Object::Dictionary(measure(geo)));
            viewports.push(Object::Dictionary(viewport));
        }
        if !viewports.is_empty() {
            let page = document.get_dictionary_mut(id).map_err(failed)?;
            page.set("VP", Object::Array(viewports));
        }
    }
    let mut out = Vec::new();
    document.save_to(&mut out).map_err(failed)?;
    Ok(out)
}
