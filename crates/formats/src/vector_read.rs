//! Reading points, lines and polygons from files.

use std::collections::BTreeMap;
use std::path::Path;

use bothros_core::{Monitor, Part, Silent};
use gdal::vector::{
    Geometry as OgrGeometry, LayerAccess, OGRFieldType, OGRwkbGeometryType, geometry_type_flatten,
};
use gdal::{Dataset, DatasetOptions, GdalOpenFlags};

use serde::{Deserialize, Serialize};

use crate::apart::{self, Answer, Request};
use crate::{Crs, Error, Geometry, Result, Transform, geojson_read, geopackage, prepare};

/// The drivers that a vector file may be opened with; tables of points are read without one.
const DRIVERS: [&str; 4] = ["GPKG", "GeoJSON", "ESRI Shapefile", "FlatGeobuf"];

/// What sort of shape is wanted from a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Wanted {
    /// points
    Points,
    /// lines
    Lines,
    /// polygons
    Polygons,
    /// points or polygons
    PointsOrPolygons,
    /// points, lines and polygons
    All,
}

impl Wanted {
    fn takes(self, shape: &Geometry) -> bool {
        match shape {
            Geometry::Point(_) => matches!(self, Self::Points | Self::PointsOrPolygons | Self::All),
            Geometry::Line(_) => matches!(self, Self::Lines | Self::All),
            Geometry::Polygons(_) => matches!(self, Self::Polygons | Self::PointsOrPolygons | Self::All),
        }
    }
    fn name(self) -> String {
        match self {
            Self::Points => "points",
            Self::Lines => "lines",
            Self::Polygons => "polygons",
            Self::PointsOrPolygons => "points or polygons",
            Self::All => "points, lines or polygons",
        }
        .to_owned()
    }
}

/// A feature as read: one point, line or (multi)polygon.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ReadFeature {
    /// its shape, in the CRS that was asked for
    pub shape: Geometry,
    /// its field `name`, whatever its case, where there is one
    pub name: Option<String>,
    /// its field `elevation`, `elev`, `height` or `z`, whatever its case, or the z of its first point,
    /// where there is one
    pub elevation: Option<f64>,
    /// its field `area_km2`, whatever its case, where there is one: what is known to drain to a place
    #[serde(default)]
    pub area_km2: Option<f64>,
    /// its field `snap_to`, whatever its case, where there is one: what a place snaps to
    #[serde(default)]
    pub snap_to: Option<String>,
    /// its fields that hold numbers, by their names in small letters; [`MOST_NUMBERS`] of them at most
    #[serde(default)]
    pub numbers: BTreeMap<String, f64>,
}

impl ReadFeature {
    /// A shape of which nothing else is known.
    pub fn of(shape: Geometry) -> Self {
        Self { shape, name: None, elevation: None, area_km2: None, snap_to: None, numbers: BTreeMap::new() }
    }
}

/// How many fields with numbers are read, the first of a file.
pub const MOST_NUMBERS: usize = 32;

/// Names of a field that holds an elevation.
const ELEVATIONS: [&str; 4] = ["elevation", "elev", "height", "z"];
/// Name of a field that holds an area.
const AREA: [&str; 1] = ["area_km2"];

/// The features of a file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ReadLayer {
    /// what was wanted, in file order; parts of multipoints and multilines one by one
    pub features: Vec<ReadFeature>,
    /// features without a shape, or with one that was not wanted
    pub left_out: usize,
    /// the file's CRS, where it is another than the one asked for
    pub converted_from: Option<Crs>,
}

/// Reads the features of a vector file (GeoPackage, GeoJSON, Shapefile, FlatGeobuf) or of a table of
/// points (CSV with a header: `x,y` or `easting,northing` in the CRS asked for, or `lon,lat` in WGS
/// 84, and `name`), and converts them to `to`.
///
/// `name` is what the user calls the file. `layer` picks one of several layers; without it the only
/// one, or the only one that holds what is wanted.
///
/// # Errors
/// [`Error::NotAVector`], [`Error::NoLayer`], [`Error::NothingWanted`], [`Error::LayerWithoutCrs`],
/// [`Error::Table`], [`Error::NotConvertible`], [`Error::Hostile`], [`Error::Unreadable`].
pub fn read_features(
    path: &Path,
    name: &str,
    layer: Option<&str>,
    wanted: Wanted,
    to: &Crs,
) -> Result<ReadLayer> {
    read_features_heard(path, name, &Asked { layer, wanted, to, assumed: None }, &Silent)
}

/// What to read from a vector file.
#[derive(Debug, Clone, Copy)]
pub struct Asked<'a> {
    /// one of several layers
    pub layer: Option<&'a str>,
    /// what kind of features
    pub wanted: Wanted,
    /// the CRS that they are converted to
    pub to: &'a Crs,
    /// the CRS of the file, where it does not tell one
    pub assumed: Option<&'a Crs>,
}

/// As [`read_features`], for large files: reports progress and can be cancelled.
///
/// # Errors
/// Those of [`read_features`], and [`Error::Cancelled`].
pub fn read_features_heard(
    path: &Path,
    name: &str,
    asked: &Asked<'_>,
    monitor: &dyn Monitor,
) -> Result<ReadLayer> {
    let request = Request::Features {
        path: path.to_owned(),
        name: name.to_owned(),
        layer: asked.layer.map(str::to_owned),
        wanted: asked.wanted,
        to: asked.to.clone(),
        assumed: asked.assumed.cloned(),
    };
    match apart::ask(&request, monitor) {
        Some(answer) => match answer? {
            Answer::Layer(read) => Ok(read),
            _ => Err(Error::unexpected(name)),
        },
        None => read_here(path, name, asked, monitor),
    }
}

/// As [`read_features_heard`], in this process.
pub(crate) fn read_here(
    path: &Path,
    name: &str,
    asked: &Asked<'_>,
    monitor: &dyn Monitor,
) -> Result<ReadLayer> {
    let Asked { layer, wanted, to, .. } = *asked;
    if path.extension().is_some_and(|e| e.eq_ignore_ascii_case("csv")) {
        return read_table(path, name, wanted, to);
    }
    prepare();
    let has = |ending: &str| path.extension().is_some_and(|e| e.eq_ignore_ascii_case(ending));
    let mut open_options: &[&str] = &[];
    if geopackage::is_sqlite(path)? {
        geopackage::refuse_more_than_data(path, name)?;
        open_options = &["IMMUTABLE=YES", "LIST_ALL_TABLES=NO"];
    } else if has("geojson") || has("json") {
        geojson_read::refuse_addresses(path, name)?;
    }
    let options = DatasetOptions {
        open_flags: GdalOpenFlags::GDAL_OF_VECTOR | GdalOpenFlags::GDAL_OF_READONLY,
        allowed_drivers: Some(&DRIVERS),
        open_options: Some(open_options),
        ..Default::default()
    };
    let dataset = Dataset::open_ex(path, options).map_err(|_| Error::NotAVector { name: name.to_owned() })?;
    let names: Vec<String> = dataset.layers().map(|l| l.name()).collect();
    let mut found = Vec::new();
    for (at, layer_name) in names.iter().enumerate() {
        if layer.is_none_or(|wanted| wanted == layer_name) {
            let part = |share: usize| share as f64 / names.len() as f64;
            let read = read_one(&dataset, at, name, asked, &Part::new(monitor, part(at), part(at + 1)))?;
            if layer.is_some() || !read.features.is_empty() {
                found.push(read);
            }
        }
    }
    match (found.len(), layer) {
        (1, _) => {
            let read = found.remove(0);
            if read.features.is_empty() {
                return Err(Error::NothingWanted { name: name.to_owned(), wanted: wanted.name() });
            }
            Ok(read)
        }
        (0, None) => Err(Error::NothingWanted { name: name.to_owned(), wanted: wanted.name() }),
        (_, layer) => Err(Error::NoLayer {
            name: name.to_owned(),
            layer: layer.unwrap_or("").to_owned(),
            layers: names.join(", "),
        }),
    }
}

fn read_one(
    dataset: &Dataset,
    at: usize,
    name: &str,
    &Asked { wanted, to, assumed, .. }: &Asked<'_>,
    monitor: &dyn Monitor,
) -> Result<ReadLayer> {
    let mut layer = dataset.layer(at)?;
    // Not every format knows without looking; then there is no share to tell.
    let all = layer.try_feature_count();
    let crs = layer.spatial_ref().map(|r| Crs::of(&r)).transpose()?;
    let field = |names: &[&str]| {
        layer.defn().fields().position(|f| names.iter().any(|e| f.name().eq_ignore_ascii_case(e)))
    };
    let (name_field, height_field, area_field) = (field(&["name"]), field(&ELEVATIONS), field(&AREA));
    let snap_field = field(&["snap_to"]);
    let is_number =
        |kind| matches!(kind, OGRFieldType::OFTInteger | OGRFieldType::OFTInteger64 | OGRFieldType::OFTReal);
    let fields = layer.defn().fields().enumerate().filter(|(_, f)| is_number(f.field_type()));
    let number_fields: Vec<(usize, String)> =
        fields.map(|(at, f)| (at, f.name().to_lowercase())).take(MOST_NUMBERS).collect();
    let mut read = ReadLayer { features: Vec::new(), left_out: 0, converted_from: None };
    for (number, feature) in layer.features().enumerate() {
        if number.is_multiple_of(1024) {
            if monitor.is_cancelled() {
                return Err(Error::Cancelled);
            }
            if let Some(all) = all {
                monitor.progress(number as f64 / all.max(1) as f64);
            }
        }
        let figure = |field: Option<usize>| match field {
            Some(index) => feature.field_as_double(index),
            None => Ok(None),
        };
        let (height, area_km2) = (figure(height_field)?, figure(area_field)?);
        let called = match name_field {
            Some(index) => feature.field_as_string(index)?,
            None => None,
        };
        let snap_to = match snap_field {
            Some(index) => feature.field_as_string(index)?,
            None => None,
        };
        let mut numbers = BTreeMap::new();
        for (index, of) in &number_fields {
            if let Some(value) = feature.field_as_double(*index)?.filter(|v| v.is_finite()) {
                numbers.insert(of.clone(), value);
            }
        }
        let mut shapes = Vec::new();
        if let Some(geometry) = feature.geometry() {
            flatten(geometry, &mut shapes);
        }
        let before = read.features.len();
        for (shape, z) in shapes.into_iter().filter(|(s, _)| wanted.takes(s)) {
            let elevation = height.or(z).filter(|z| z.is_finite());
            let area_km2 = area_km2.filter(|a| a.is_finite());
            let (name, snap_to, numbers) = (called.clone(), snap_to.clone(), numbers.clone());
            read.features.push(ReadFeature { shape, name, elevation, area_km2, snap_to, numbers });
        }
        read.left_out += usize::from(read.features.len() == before);
    }
    if read.features.is_empty() {
        return Ok(read);
    }
    let crs = crs.or_else(|| assumed.cloned());
    let crs = crs.ok_or_else(|| Error::LayerWithoutCrs { name: name.to_owned(), extent: extent(&read) })?;
    convert(&mut read, crs, to)?;
    Ok(read)
}

/// West, south, east and north of all features.
fn extent(read: &ReadLayer) -> [f64; 4] {
    let mut all = [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
    let mut take = |p: &[f64; 2]| {
        all = [all[0].min(p[0]), all[1].min(p[1]), all[2].max(p[0]), all[3].max(p[1])];
    };
    for feature in &read.features {
        match &feature.shape {
            Geometry::Point(p) => take(p),
            Geometry::Line(line) => line.iter().for_each(&mut take),
            Geometry::Polygons(polygons) => polygons.iter().flatten().flatten().for_each(&mut take),
        }
    }
    all
}

/// Converts features where their CRS is another.
fn convert(read: &mut ReadLayer, crs: Crs, to: &Crs) -> Result<()> {
    if crs.same_as(to)? {
        return Ok(());
    }
    let transform = Transform::new(&crs, to)?;
    let point = |p: &mut [f64; 2]| -> Result<()> {
        let (x, y) = transform.point(p[0], p[1])?;
        *p = [x, y];
        Ok(())
    };
    for feature in &mut read.features {
        match &mut feature.shape {
            Geometry::Point(p) => point(p)?,
            Geometry::Line(line) => line.iter_mut().try_for_each(point)?,
            Geometry::Polygons(polygons) => polygons.iter_mut().flatten().flatten().try_for_each(point)?,
        }
    }
    read.converted_from = Some(crs);
    Ok(())
}

/// Takes a geometry apart into points, lines and polygons; curves and surfaces of other sorts, and
/// coordinates that are no numbers, are left out.
fn flatten(geometry: &OgrGeometry, out: &mut Vec<(Geometry, Option<f64>)>) {
    // The z of the first point; without one the library says 0.
    let height = |g: &OgrGeometry| -> Option<f64> {
        let mut list = Vec::new();
        g.get_points(&mut list);
        list.first().map(|p| p.2).filter(|z| *z != 0.0)
    };
    let points = |g: &OgrGeometry| -> Vec<[f64; 2]> {
        let mut list = Vec::new();
        g.get_points(&mut list);
        list.into_iter().map(|(x, y, _)| [x, y]).filter(|p| p[0].is_finite() && p[1].is_finite()).collect()
    };
    let polygon = |g: &OgrGeometry| -> Vec<Vec<[f64; 2]>> {
        (0..g.geometry_count()).map(|i| points(&g.get_geometry(i))).filter(|ring| ring.len() > 2).collect()
    };
    match geometry_type_flatten(geometry.geometry_type()) {
        OGRwkbGeometryType::wkbPoint => {
            out.extend(points(geometry).first().map(|&p| (Geometry::Point(p), height(geometry))))
        }
        OGRwkbGeometryType::wkbLineString => {
            let line = points(geometry);
            if line.len() > 1 {
                out.push((Geometry::Line(line), height(geometry)));
            }
        }
        OGRwkbGeometryType::wkbPolygon => {
            let rings = polygon(geometry);
            if !rings.is_empty() {
                out.push((Geometry::Polygons(vec![rings]), None));
            }
        }
        OGRwkbGeometryType::wkbMultiPolygon => {
            let parts: Vec<_> = (0..geometry.geometry_count())
                .map(|i| polygon(&geometry.get_geometry(i)))
                .filter(|rings| !rings.is_empty())
                .collect();
            if !parts.is_empty() {
                out.push((Geometry::Polygons(parts), None));
            }
        }
        OGRwkbGeometryType::wkbMultiPoint
        | OGRwkbGeometryType::wkbMultiLineString
        | OGRwkbGeometryType::wkbGeometryCollection => {
            for i in 0..geometry.geometry_count() {
                flatten(&geometry.get_geometry(i), out);
            }
        }
        _ => {}
    }
}

/// Reads a table of points.
fn read_table(path: &Path, name: &str, wanted: Wanted, to: &Crs) -> Result<ReadLayer> {
    let bad = |line: u64, what: String| Error::Table { name: name.to_owned(), line, what };
    if !matches!(wanted, Wanted::Points | Wanted::PointsOrPolygons | Wanted::All) {
        return Err(Error::NothingWanted { name: name.to_owned(), wanted: wanted.name() });
    }
    let mut table =
        csv::ReaderBuilder::new().trim(csv::Trim::All).from_path(path).map_err(|e| bad(0, e.to_string()))?;
    let header = table.headers().map_err(|e| bad(1, e.to_string()))?.clone();
    let column = |names: &[&str]| {
        header
            .iter()
            .position(|h| names.iter().any(|n| h.trim_start_matches('\u{feff}').eq_ignore_ascii_case(n)))
    };
    let placed = column(&["x", "easting"]).zip(column(&["y", "northing"]));
    let geographic = column(&["lon", "longitude"]).zip(column(&["lat", "latitude"]));
    let (x, y, crs) = match (placed, geographic) {
        (Some((x, y)), _) => (x, y, to.clone()),
        (None, Some((x, y))) => (x, y, Crs::parse("EPSG:4326")?),
        (None, None) => {
            let what = "its header names neither x and y nor lon and lat".to_owned();
            return Err(bad(1, what));
        }
    };
    let called = column(&["name"]);
    let (height, area, snap) = (column(&ELEVATIONS), column(&AREA), column(&["snap_to"]));
    let others: Vec<(usize, String)> = header.iter().map(str::to_lowercase).enumerate().collect();
    let mut read = ReadLayer { features: Vec::new(), left_out: 0, converted_from: None };
    for row in table.records() {
        let row = row.map_err(|e| bad(e.position().map_or(0, |p| p.line()), e.to_string()))?;
        let line = row.position().map_or(0, |p| p.line());
        let number = |at: usize| -> Result<f64> {
            let text = row.get(at).unwrap_or("");
            text.parse::<f64>().ok().filter(|v| v.is_finite()).ok_or_else(|| {
                bad(
                    line,
                    format!("“{text}” is no {}", if at == x || at == y { "coordinate" } else { "number" }),
                )
            })
        };
        let name = called.and_then(|at| row.get(at)).filter(|t| !t.is_empty()).map(str::to_owned);
        let given = |column: Option<usize>| column.filter(|&at| row.get(at).is_some_and(|t| !t.is_empty()));
        let elevation = given(height).map(number).transpose()?;
        let area_km2 = given(area).map(number).transpose()?;
        let snap_to = given(snap).and_then(|at| row.get(at)).map(str::to_owned);
        // A table does not tell what its columns hold: a number is what can be read as one.
        let figure = |(at, of): &(usize, String)| {
            let value = row.get(*at)?.parse::<f64>().ok().filter(|v| v.is_finite())?;
            Some((of.clone(), value))
        };
        let own = others.iter().filter(|(at, _)| *at != x && *at != y);
        let numbers = own.filter_map(figure).take(MOST_NUMBERS).collect();
        let shape = Geometry::Point([number(x)?, number(y)?]);
        read.features.push(ReadFeature { shape, name, elevation, area_km2, snap_to, numbers });
    }
    if read.features.is_empty() {
        return Err(Error::NothingWanted { name: name.to_owned(), wanted: wanted.name() });
    }
    convert(&mut read, crs, to)?;
    Ok(read)
}

/// Polygons with a margin of `distance` (CRS units) around them; arcs get eight pieces to a quarter.
///
/// # Errors
/// [`Error::Gdal`] where the polygons cannot be widened.
pub fn widen(polygons: &[Vec<Vec<[f64; 2]>>], distance: f64) -> Result<Vec<Vec<Vec<[f64; 2]>>>> {
    prepare();
    let binary = crate::vector_write::well_known_binary(&Geometry::Polygons(polygons.to_vec()));
    // A margin of none mends rings that cross themselves.
    let widened = OgrGeometry::from_wkb(&binary)?.buffer(distance, 8)?;
    let mut found = Vec::new();
    flatten(&widened, &mut found);
    Ok(found
        .into_iter()
        .filter_map(|(shape, _)| match shape {
            Geometry::Polygons(polygons) => Some(polygons),
            _ => None,
        })
        .flatten()
        .collect())
}
