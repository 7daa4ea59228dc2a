//! Writing GeoJSON (RFC 7946).

use std::ffi::CString;
use std::io::{BufWriter, Write};
use std::path::Path;

use gdal::vector::Geometry as OgrGeometry;
use rayon::prelude::*;
use serde::ser::SerializeMap;
use serde::{Deserialize, Serialize, Serializer};

use crate::vector_write::{readable, well_known_binary};
use crate::{Crs, Error, Geometry, Layer, Result, Transform, Value};

/// Decimals of a degree in a file: about a centimetre, as RFC 7946, 11.2, has it seven at most make sense.
const DEGREE_DIGITS: i32 = 7;
/// Beyond this longitude, or [`NEAR_POLE`], a shape may have to be cut at the antimeridian, degrees.
const NEAR_ANTIMERIDIAN: f64 = 170.0;
const NEAR_POLE: f64 = 85.0;
/// Features that are turned into text at once by one thread.
const AT_ONCE: usize = 256;

/// A shape as GeoJSON has it, coordinates as they are written.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "type", content = "coordinates")]
pub enum GeoJsonShape {
    /// one place
    Point([f64; 2]),
    /// a line
    LineString(Vec<[f64; 2]>),
    /// lines, as one is that was cut at the antimeridian
    MultiLineString(Vec<Vec<[f64; 2]>>),
    /// a polygon
    Polygon(Vec<Vec<[f64; 2]>>),
    /// polygons
    MultiPolygon(Vec<Vec<Vec<[f64; 2]>>>),
}

impl GeoJsonShape {
    /// A shape with its coordinates as they are.
    pub fn of(shape: Geometry) -> Self {
        match shape {
            Geometry::Point(at) => Self::Point(at),
            Geometry::Line(points) => Self::LineString(points),
            Geometry::Polygons(polygons) => Self::MultiPolygon(polygons),
        }
    }

    /// Outer rings run against the clock and holes with it (RFC 7946, 3.1.6), coordinates keep so many decimals; y is
    /// put before x where `northing_first`.
    pub fn tidied(mut self, digits: i32, northing_first: bool) -> Self {
        let unit = 10f64.powi(digits);
        let tidy = |points: &mut [[f64; 2]]| {
            for point in points {
                let [x, y] = point.map(|v| (v * unit).round() / unit);
                *point = if northing_first { [y, x] } else { [x, y] };
            }
        };
        let rings = |rings: &mut [Vec<[f64; 2]>]| {
            for (at, ring) in rings.iter_mut().enumerate() {
                if (turn(ring) < 0.0) == (at == 0) {
                    ring.reverse();
                }
                tidy(ring);
            }
        };
        match &mut self {
            Self::Point(at) => tidy(std::slice::from_mut(at)),
            Self::LineString(points) => tidy(points),
            Self::MultiLineString(lines) => lines.iter_mut().for_each(|line| tidy(line)),
            Self::Polygon(polygon) => rings(polygon),
            Self::MultiPolygon(polygons) => polygons.iter_mut().for_each(|polygon| rings(polygon)),
        }
        self
    }
}

/// Twice the area of a ring; positive where it runs against the clock.
fn turn(ring: &[[f64; 2]]) -> f64 {
    let Some(&[left, low]) = ring.first() else { return 0.0 };
    let side = |w: &[[f64; 2]]| (w[0][0] - left) * (w[1][1] - low) - (w[1][0] - left) * (w[0][1] - low);
    ring.windows(2).map(side).sum()
}

/// A feature as it is written.
#[derive(Serialize)]
struct Feature<'a> {
    r#type: &'static str,
    properties: Properties<'a>,
    geometry: GeoJsonShape,
}

/// The values of a feature by the names of its fields.
struct Properties<'a> {
    layer: &'a Layer,
    values: &'a [Value],
}

impl Serialize for Properties<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> std::result::Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(Some(self.values.len()))?;
        for (field, value) in self.layer.fields.iter().zip(self.values) {
            match value {
                Value::Null => map.serialize_entry(&field.name, &())?,
                Value::Integer(v) => map.serialize_entry(&field.name, v)?,
                Value::Real(v) => map.serialize_entry(&field.name, v)?,
                Value::Text(v) => map.serialize_entry(&field.name, &readable(v))?,
                Value::Boolean(v) => map.serialize_entry(&field.name, v)?,
            }
        }
        map.end()
    }
}

/// Writes one layer to a new file, in WGS 84 longitude and latitude.
///
/// # Errors
/// [`Error::NotConvertible`] where a place has no coordinates there; [`Error::Io`], e.g. where the disk is full.
pub(crate) fn write_geojson(path: &Path, crs: &Crs, layer: &Layer) -> Result<()> {
    let mut file = BufWriter::with_capacity(1 << 20, std::fs::File::create(path)?);
    let name = serde_json::to_string(&layer.name).map_err(std::io::Error::from)?;
    write!(file, "{{\"type\":\"FeatureCollection\",\"name\":{name},\"features\":[")?;
    let mut before = "\n";
    // Numbers are turned into text by all threads, a few pieces at a time, so that no text of the whole is held.
    for some in layer.features.chunks(AT_ONCE * 4 * rayon::current_num_threads()) {
        let texts = some.par_chunks(AT_ONCE).map(|some| text_of(layer, some, crs));
        for features in texts.collect::<Result<Vec<_>>>()? {
            for feature in features {
                file.write_all(before.as_bytes())?;
                file.write_all(&feature)?;
                before = ",\n";
            }
        }
    }
    file.write_all(b"\n]}\n")?;
    file.into_inner().map_err(std::io::IntoInnerError::into_error)?;
    Ok(())
}

/// Features of a layer as text.
fn text_of(layer: &Layer, features: &[(Geometry, Vec<Value>)], crs: &Crs) -> Result<Vec<Vec<u8>>> {
    let to_degrees = Transform::to_wgs84(crs)?;
    let text = |(shape, values): &(Geometry, Vec<Value>)| {
        let converted = shape.converted(&to_degrees)?;
        let shape = match may_be_cut(&converted) {
            true => cut_at_antimeridian(shape, &to_degrees)?,
            false => GeoJsonShape::of(converted),
        };
        let geometry = shape.tidied(DEGREE_DIGITS, false);
        let feature = Feature { r#type: "Feature", properties: Properties { layer, values }, geometry };
        serde_json::to_vec(&feature).map_err(|e| Error::Io(e.into()))
    };
    features.iter().map(text).collect()
}

fn may_be_cut(shape: &Geometry) -> bool {
    let near = |[x, y]: &[f64; 2]| x.abs() > NEAR_ANTIMERIDIAN || y.abs() > NEAR_POLE;
    match shape {
        Geometry::Point(_) => false,
        Geometry::Line(points) => points.iter().any(near),
        Geometry::Polygons(polygons) => polygons.iter().flatten().flatten().any(near),
    }
}

/// A shape in WGS 84, cut where it crosses the antimeridian (RFC 7946, 3.1.9).
fn cut_at_antimeridian(shape: &Geometry, to: &Transform) -> Result<GeoJsonShape> {
    let shape = OgrGeometry::from_wkb(&well_known_binary(shape))?;
    let option = CString::new("WRAPDATELINE=YES").unwrap_or_default();
    let options = [option.as_ptr().cast_mut(), std::ptr::null_mut()];
    let given = CString::new("COORDINATE_PRECISION=15").unwrap_or_default();
    let precision = [given.as_ptr().cast_mut(), std::ptr::null_mut()];
    // SAFETY: shape, transformation and options live through the calls; what these make is freed here, once.
    let text = unsafe {
        let transformer = gdal_sys::OGR_GeomTransformer_Create(to.handle(), options.as_ptr().cast_mut());
        if transformer.is_null() {
            return Err(to.not_convertible());
        }
        let made = gdal_sys::OGR_GeomTransformer_Transform(transformer, shape.c_geometry());
        gdal_sys::OGR_GeomTransformer_Destroy(transformer);
        if made.is_null() {
            return Err(to.not_convertible());
        }
        let text = gdal_sys::OGR_G_ExportToJsonEx(made, precision.as_ptr().cast_mut());
        gdal_sys::OGR_G_DestroyGeometry(made);
        if text.is_null() {
            return Err(to.not_convertible());
        }
        let copied = std::ffi::CStr::from_ptr(text).to_bytes().to_vec();
        gdal_sys::VSIFree(text.cast());
        copied
    };
    serde_json::from_slice(&text).map_err(|e| Error::Io(e.into()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Field, FieldKind, Shape};

    fn written(crs: &str, shape: Geometry, values: Vec<Value>) -> serde_json::Value {
        let fields = ["real", "text"].map(|name| Field { name: name.into(), kind: FieldKind::Text });
        let layer = Layer {
            name: "a \"b\"".into(),
            fields: fields.into(),
            features: vec![(shape, values)],
            shape: Shape::Line,
        };
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.geojson");
        write_geojson(&path, &Crs::parse(crs).unwrap(), &layer).unwrap();
        serde_json::from_slice(&std::fs::read(path).unwrap()).unwrap()
    }

    /// RFC 7946, 3.1.9, whose example is a line across the antimeridian at 45° N; ours is shorter, for a step of less
    /// than 350 degrees is taken to go the other way around.
    #[test]
    fn what_crosses_the_antimeridian_is_cut() {
        let line = Geometry::Line(vec![[179.5, 45.0], [-179.5, 45.0]]);
        let told = written("EPSG:4326", line, vec![Value::Null, Value::Null]);
        let expected = serde_json::json!({ "type": "MultiLineString",
            "coordinates": [[[179.5, 45.0], [180.0, 45.0]], [[-180.0, 45.0], [-179.5, 45.0]]] });
        assert_eq!(told["features"][0]["geometry"], expected);
        // The same in the UTM zone at its west: no part lies on both sides, and rings run against the clock.
        let (left, low) = (700_000.0, 5_000_000.0);
        let square = [[0.0, 0.0], [0.0, 9e4], [9e4, 9e4], [9e4, 0.0], [0.0, 0.0]];
        let ring = square.map(|[x, y]| [left + x, low + y]).to_vec();
        let shape = Geometry::Polygons(vec![vec![ring]]);
        let told = written("EPSG:32660", shape, vec![Value::Null, Value::Null]);
        let parts: Vec<Vec<Vec<[f64; 2]>>> =
            serde_json::from_value(told["features"][0]["geometry"]["coordinates"].clone()).unwrap();
        assert_eq!(parts.len(), 2, "{told}");
        for part in &parts {
            assert!(turn(&part[0]) > 0.0);
            assert!(part[0].iter().all(|p| p[0] >= 0.0) || part[0].iter().all(|p| p[0] <= 0.0), "{part:?}");
        }
    }

    #[test]
    fn values_are_kept_as_they_are() {
        let point = Geometry::Point([-8.123_456_789, 43.0]);
        let told = written("EPSG:4326", point.clone(), vec![0.1.into(), "a\n\0\"ü".into()]);
        assert_eq!(told["name"], "a \"b\"");
        let feature = &told["features"][0];
        assert_eq!(feature["properties"], serde_json::json!({ "real": 0.1, "text": "a\n \"ü" }));
        assert_eq!(feature["geometry"]["coordinates"], serde_json::json!([-8.123_456_8, 43.0]));
        // What is no number has no place in JSON.
        let told = written("EPSG:4326", point, vec![f64::NAN.into(), f64::INFINITY.into()]);
        assert_eq!(told["features"][0]["properties"], serde_json::json!({ "real": null, "text": null }));
    }

    /// RFC 7946, 3.1.6.
    #[test]
    fn rings_run_as_the_standard_wants() {
        let ring = |from: f64, to: f64| vec![[from, from], [from, to], [to, to], [to, from], [from, from]];
        for (outer, hole) in [(ring(0.0, 9.0), ring(1.0, 2.0)), {
            let back = |mut ring: Vec<[f64; 2]>| {
                ring.reverse();
                ring
            };
            (back(ring(0.0, 9.0)), back(ring(1.0, 2.0)))
        }] {
            let shape = GeoJsonShape::of(Geometry::Polygons(vec![vec![outer, hole]])).tidied(2, false);
            let GeoJsonShape::MultiPolygon(parts) = shape else { panic!("{shape:?}") };
            assert!(turn(&parts[0][0]) > 0.0 && turn(&parts[0][1]) < 0.0);
        }
        let point = GeoJsonShape::of(Geometry::Point([1.234, 5.678])).tidied(1, true);
        assert_eq!(point, GeoJsonShape::Point([5.7, 1.2]));
    }
}
