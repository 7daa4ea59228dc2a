//! Coordinate reference systems: recognised, searched, converted between.

use std::ffi::{CStr, CString};
use std::sync::OnceLock;

use gdal::spatial_ref::{AxisMappingStrategy, CoordTransform, SpatialRef};
use serde::{Deserialize, Serialize};

use crate::{Error, Result, prepare};

/// What sort of coordinates a CRS has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum CrsKind {
    /// eastings and northings: what computing needs
    Projected,
    /// latitude and longitude in degrees
    Geographic,
    /// anything else
    Other,
}

/// A coordinate reference system as it is kept with a study.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Crs {
    /// EPSG code, where it is known
    pub epsg: Option<u32>,
    /// its name
    pub name: String,
    /// the full definition, WKT 2
    pub wkt: String,
    /// sort of coordinates
    pub kind: CrsKind,
    /// metres in one unit; 1 for geographic ones, whose unit is the degree
    pub unit_m: f64,
    /// name of the unit
    pub unit: String,
}

impl Crs {
    /// From an EPSG code (`EPSG:32628`, `32628`), WKT or PROJ definition.
    pub fn parse(definition: &str) -> Result<Self> {
        prepare();
        let definition = definition.trim();
        let unknown = || Error::UnknownCrs(definition.chars().take(80).collect());
        let code = definition
            .strip_prefix("EPSG:")
            .or_else(|| definition.strip_prefix("epsg:"))
            .unwrap_or(definition);
        if let Ok(code) = code.parse::<u32>() {
            return Self::of(&SpatialRef::from_epsg(code).map_err(|_| unknown())?);
        }
        // Only text that defines a CRS by itself: a file name or an address would be followed.
        let by_itself = definition.starts_with('+')
            || (definition.contains('[')
                && definition.chars().next().is_some_and(|c| c.is_ascii_alphabetic()));
        if !by_itself || names_a_file(definition) {
            return Err(unknown());
        }
        Self::of(&SpatialRef::from_definition(definition).map_err(|_| unknown())?)
    }

    pub(crate) fn of(reference: &SpatialRef) -> Result<Self> {
        let mut reference = reference.clone();
        if reference.to_wkt().is_ok_and(|wkt| names_a_file(&wkt)) {
            let name = reference.name().unwrap_or_default();
            return Err(Error::UnknownCrs(format!("{name}, which names a file,")));
        }
        // Finds a code for definitions that carry none; it is no error where there is none.
        if reference.auth_code().is_err() {
            let _ = reference.auto_identify_epsg();
        }
        let kind = if reference.is_projected() {
            CrsKind::Projected
        } else if reference.is_geographic() {
            CrsKind::Geographic
        } else {
            CrsKind::Other
        };
        let by_epsg = reference.auth_name().as_deref() == Some("EPSG");
        let epsg = reference.auth_code().ok().filter(|_| by_epsg).and_then(|code| u32::try_from(code).ok());
        let (unit_m, unit) = match kind {
            CrsKind::Geographic => (1.0, "degree".to_owned()),
            _ => (reference.linear_units(), reference.linear_units_name().unwrap_or_else(|| "metre".into())),
        };
        Ok(Self {
            epsg,
            name: reference.name().unwrap_or_else(|| "unnamed".into()),
            wkt: wkt2(&reference)?,
            kind,
            unit_m,
            unit,
        })
    }

    pub(crate) fn reference(&self) -> Result<SpatialRef> {
        prepare();
        let mut reference = match self.epsg {
            Some(code) => SpatialRef::from_epsg(code)?,
            None => SpatialRef::from_wkt(&self.wkt)?,
        };
        reference.set_axis_mapping_strategy(AxisMappingStrategy::TraditionalGisOrder);
        Ok(reference)
    }

    /// Whether its register gives the northing, or the latitude, before the easting.
    ///
    /// # Errors
    /// [`Error::Library`].
    pub fn northing_first(&self) -> Result<bool> {
        let Some(code) = self.epsg else { return Ok(false) };
        let reference = SpatialRef::from_epsg(code)?;
        let handle = reference.to_c_hsrs();
        // SAFETY: the handle lives through both calls.
        let first = unsafe {
            gdal_sys::OSREPSGTreatsAsLatLong(handle) != 0
                || gdal_sys::OSREPSGTreatsAsNorthingEasting(handle) != 0
        };
        Ok(first)
    }

    /// The geographic CRS that it rests on: itself where it is one.
    ///
    /// # Errors
    /// [`Error::Library`] where it rests on none.
    pub fn geographic_base(&self) -> Result<Self> {
        let reference = self.reference()?;
        // SAFETY: the handle lives through the call; what it returns is ours, and destroyed by its wrapper.
        let base = unsafe {
            let base = gdal_sys::OSRCloneGeogCS(reference.to_c_hsrs());
            if base.is_null() {
                return Err(Error::UnknownCrs(self.name.clone()));
            }
            let copied = SpatialRef::from_c_obj(base);
            gdal_sys::OSRRelease(base);
            copied?
        };
        Self::of(&base)
    }

    /// The definition in the older form that PDF and shapefiles take (OGC 01-009).
    ///
    /// # Errors
    /// [`Error::Library`] where it cannot be said in it.
    pub fn wkt1(&self) -> Result<String> {
        Ok(self.reference()?.to_wkt()?)
    }

    /// Whether coordinates in both mean the same.
    pub fn same_as(&self, other: &Crs) -> Result<bool> {
        if self.epsg.is_some() && self.epsg == other.epsg {
            return Ok(true);
        }
        let (a, b) = (self.reference()?, other.reference()?);
        let options = [c"IGNORE_DATA_AXIS_TO_SRS_AXIS_MAPPING=YES".as_ptr(), std::ptr::null()];
        // SAFETY: both handles live through the call, and the options end with a null pointer.
        Ok(unsafe { gdal_sys::OSRIsSameEx(a.to_c_hsrs(), b.to_c_hsrs(), options.as_ptr()) } != 0)
    }

    /// Its display name: `EPSG:32628, WGS 84 / UTM zone 28N`.
    pub fn label(&self) -> String {
        match self.epsg {
            Some(code) => format!("EPSG:{code}, {}", self.name),
            None => self.name.clone(),
        }
    }
}

/// Whether a definition names a file or an address, which would be opened when coordinates are converted.
fn names_a_file(definition: &str) -> bool {
    let lower = definition.to_ascii_lowercase();
    let names = ["+nadgrids", "+geoidgrids", "+grids", "+init", "+file", "+xy_grids", "+z_grids", "+catalog"];
    lower.contains("://")
        || lower.contains("/vsi")
        || lower.contains("parameterfile")
        || lower.contains("proj4_grids")
        || names.iter().any(|n| without_null_grid(&lower).contains(n))
}

/// A definition without spaces, and without the grid that stands for none (`@null`, alone): Web Mercator carries it.
fn without_null_grid(lower: &str) -> String {
    const NULL: &str = "+nadgrids=@null";
    let packed = lower.replace([' ', '\t'], "");
    let mut out = String::new();
    let mut rest = packed.as_str();
    while let Some(at) = rest.find(NULL) {
        let after = &rest[at + NULL.len()..];
        let alone = after.is_empty() || after.starts_with(['+', '"']);
        out.push_str(&rest[..if alone { at } else { at + NULL.len() }]);
        rest = after;
    }
    out + rest
}

fn wkt2(reference: &SpatialRef) -> Result<String> {
    let format = CString::new("FORMAT=WKT2_2019").unwrap_or_default();
    let mut options = [format.as_ptr(), std::ptr::null()];
    let mut text = std::ptr::null_mut();
    // SAFETY: the handle lives as long as `reference`; the text is copied and freed.
    unsafe {
        let status = gdal_sys::OSRExportToWktEx(reference.to_c_hsrs(), &mut text, options.as_mut_ptr());
        let wkt =
            if text.is_null() { String::new() } else { CStr::from_ptr(text).to_string_lossy().into_owned() };
        gdal_sys::VSIFree(text.cast());
        if status == gdal_sys::OGRErr::OGRERR_NONE && !wkt.is_empty() {
            Ok(wkt)
        } else {
            Ok(reference.to_wkt()?)
        }
    }
}

/// Converts coordinates from one CRS to another; x is east or longitude, y north or latitude.
pub struct Transform {
    inner: CoordTransform,
    to: String,
}

impl Transform {
    /// From one CRS to another.
    pub fn new(from: &Crs, to: &Crs) -> Result<Self> {
        Ok(Self { inner: CoordTransform::new(&from.reference()?, &to.reference()?)?, to: to.name.clone() })
    }
    /// To latitude and longitude, WGS 84: x is longitude, y latitude.
    pub fn to_wgs84(from: &Crs) -> Result<Self> {
        Self::new(from, &Crs::parse("EPSG:4326")?)
    }
    /// Converts one point.
    pub fn point(&self, x: f64, y: f64) -> Result<(f64, f64)> {
        let (mut xs, mut ys, mut zs) = ([x], [y], [0.0]);
        let done = self.inner.transform_coords(&mut xs, &mut ys, &mut zs);
        if done.is_err() || !xs[0].is_finite() || !ys[0].is_finite() {
            return Err(self.not_convertible());
        }
        Ok((xs[0], ys[0]))
    }
    /// Converts many points at once.
    ///
    /// # Errors
    /// [`Error::NotConvertible`] where one of them has no coordinates there.
    pub fn points(&self, points: &[[f64; 2]]) -> Result<Vec<[f64; 2]>> {
        let mut xs: Vec<f64> = points.iter().map(|p| p[0]).collect();
        let mut ys: Vec<f64> = points.iter().map(|p| p[1]).collect();
        let mut zs = vec![0.0; points.len()];
        let done = self.inner.transform_coords(&mut xs, &mut ys, &mut zs);
        let found: Vec<[f64; 2]> = xs.into_iter().zip(ys).map(<[f64; 2]>::from).collect();
        match done.is_ok() && found.iter().flatten().all(|v| v.is_finite()) {
            true => Ok(found),
            false => Err(self.not_convertible()),
        }
    }

    pub(crate) fn not_convertible(&self) -> Error {
        Error::NotConvertible(self.to.clone())
    }

    /// As the library knows it; it lives as long as this does.
    pub(crate) fn handle(&self) -> gdal_sys::OGRCoordinateTransformationH {
        // SAFETY: it is lent, and the callers in this crate let go of it before `self`.
        unsafe { self.inner.to_c_hct() }
    }
}

/// The UTM zone, on WGS 84, of a place.
pub fn utm_zone(longitude: f64, latitude: f64) -> Result<Crs> {
    let zone = (((longitude + 180.0).rem_euclid(360.0) / 6.0).floor() as u32 + 1).min(60);
    let first = if latitude >= 0.0 { 32600 } else { 32700 };
    Crs::parse(&(first + zone).to_string())
}

/// A line of the catalogue of CRS.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct CrsEntry {
    /// EPSG code
    pub code: u32,
    /// its name
    pub name: String,
    /// where it is meant to be used
    pub area: String,
    /// west, south, east, north in degrees, where known
    pub extent: Option<[f64; 4]>,
}

/// All projected CRS of the EPSG register that are not deprecated.
fn catalogue() -> &'static [CrsEntry] {
    static CATALOGUE: OnceLock<Vec<CrsEntry>> = OnceLock::new();
    CATALOGUE.get_or_init(|| {
        prepare();
        let text = |p: *const std::ffi::c_char| {
            // SAFETY: the library gives NUL-terminated text or null.
            if p.is_null() {
                String::new()
            } else {
                unsafe { CStr::from_ptr(p) }.to_string_lossy().into_owned()
            }
        };
        let mut entries = Vec::new();
        let mut count = 0;
        // SAFETY: the list holds `count` valid entries until it is destroyed below.
        unsafe {
            let list =
                gdal_sys::OSRGetCRSInfoListFromDatabase(c"EPSG".as_ptr(), std::ptr::null(), &mut count);
            if list.is_null() {
                return entries;
            }
            for i in 0..count as usize {
                let info = &**list.add(i);
                if info.eType != gdal_sys::OSRCRSType::OSR_CRS_TYPE_PROJECTED || info.bDeprecated != 0 {
                    continue;
                }
                let Ok(code) = text(info.pszCode).parse() else { continue };
                let extent = [
                    info.dfWestLongitudeDeg,
                    info.dfSouthLatitudeDeg,
                    info.dfEastLongitudeDeg,
                    info.dfNorthLatitudeDeg,
                ];
                entries.push(CrsEntry {
                    code,
                    name: text(info.pszName),
                    area: text(info.pszAreaName),
                    extent: (info.bBboxValid != 0).then_some(extent),
                });
            }
            gdal_sys::OSRDestroyCRSInfoList(list);
        }
        entries
    })
}

/// Lengths of a degree of longitude and of a degree of latitude at a latitude (degrees), metres, on the ellipsoid of
/// WGS 84.
///
/// # Source
/// NGA.STND.0036 (WGS 84): semi-major axis 6,378,137 m, flattening 1/298.257223563; radii of curvature of the prime
/// vertical and of the meridian.
pub fn degree_m(latitude: f64) -> (f64, f64) {
    const A: f64 = 6_378_137.0;
    const F: f64 = 1.0 / 298.257_223_563;
    let e2 = F * (2.0 - F);
    let (sin, cos) = latitude.to_radians().sin_cos();
    let w = 1.0 - e2 * sin * sin;
    let (prime_vertical, meridian) = (A / w.sqrt(), A * (1.0 - e2) / (w * w.sqrt()));
    let degree = std::f64::consts::PI / 180.0;
    (prime_vertical * cos * degree, meridian * degree)
}

/// Searches projected CRS by code or by words of name and area, at most `most`. Those whose area
/// holds `near` (longitude, latitude) come first, and among them the ones with the smaller area.
pub fn search_crs(query: &str, near: Option<(f64, f64)>, most: usize) -> Vec<CrsEntry> {
    let words: Vec<String> =
        query.to_lowercase().replace("epsg:", " ").split_whitespace().map(str::to_owned).collect();
    let holds = |e: &CrsEntry| {
        let (Some((x, y)), Some([west, south, east, north])) = (near, e.extent) else { return false };
        let in_x = if west <= east { x >= west && x <= east } else { x >= west || x <= east };
        in_x && y >= south && y <= north
    };
    let size = |e: &CrsEntry| e.extent.map_or(f64::MAX, |[w, s, e, n]| (e - w).rem_euclid(360.0) * (n - s));
    let mut found: Vec<&CrsEntry> = catalogue()
        .iter()
        .filter(|e| {
            let all = format!("{} {} {}", e.code, e.name.to_lowercase(), e.area.to_lowercase());
            words.iter().all(|w| all.contains(w.as_str()))
        })
        .collect();
    let exact = |e: &CrsEntry| words.len() == 1 && words[0] == e.code.to_string();
    // Words of the name that were typed whole come before those that only hold what was typed.
    let whole = |e: &CrsEntry| {
        let name = e.name.to_lowercase();
        words.iter().all(|w| name.split(|c: char| !c.is_alphanumeric()).any(|of| of == w))
    };
    // The usual one of its kind: the zones of UTM on WGS 84.
    let usual = |e: &CrsEntry| e.name.starts_with("WGS 84 / UTM zone");
    let rank = |e: &CrsEntry| (!exact(e), !holds(e), !words.is_empty() && !whole(e), !usual(e));
    found.sort_by(|a, b| rank(a).cmp(&rank(b)).then(size(a).total_cmp(&size(b))).then(a.code.cmp(&b.code)));
    found.into_iter().take(most).cloned().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_names_and_units() {
        let utm = Crs::parse("EPSG:32628").unwrap();
        assert_eq!((utm.epsg, utm.kind, utm.unit_m), (Some(32628), CrsKind::Projected, 1.0));
        assert_eq!(utm.label(), "EPSG:32628, WGS 84 / UTM zone 28N");
        assert!(utm.wkt.starts_with("PROJCRS["));
        // NAD83 / California zone 1 in US survey feet.
        let feet = Crs::parse("2225").unwrap();
        assert!((feet.unit_m - 1200.0 / 3937.0).abs() < 1e-12);
        assert_eq!(Crs::parse("4326").unwrap().kind, CrsKind::Geographic);
    }

    #[test]
    fn the_zone_that_was_typed_comes_first_and_what_fits_the_place_before_it() {
        let first = |query: &str, near| search_crs(query, near, 12)[0].code;
        assert_eq!(first("44N", None), 32644);
        assert_eq!(
            first("utm 44n", Some((-16.95, 43.01))),
            32644,
            "nothing with these words holds the place"
        );
        assert_eq!(first("", Some((81.0, 20.0))), 32644);
        assert_eq!(first("utm", Some((-16.95, 43.01))), 32628);
        assert_eq!(first("2225", Some((-16.95, 43.01))), 2225, "a code is what it says");
        let irish = search_crs("irish grid", Some((-7.0, 53.0)), 3);
        assert!(irish.len() == 3 && irish.iter().all(|e| e.name.contains("Irish")), "{irish:?}");
    }

    /// Lengths of a degree after Bowditch, The American Practical Navigator (NGA Pub. 9), table 7, from memory: at 0°, 45°
    /// and 60° of latitude, to 10 m.
    #[test]
    fn lengths_of_a_degree_are_those_of_the_tables() {
        for (latitude, east, north) in
            [(0.0, 111_320.0, 110_574.0), (45.0, 78_847.0, 111_132.0), (60.0, 55_800.0, 111_412.0)]
        {
            let (e, n) = degree_m(latitude);
            assert!((e - east).abs() < 10.0 && (n - north).abs() < 10.0, "{latitude}: {e} {n}");
        }
    }

    #[test]
    fn what_is_no_crs_is_refused() {
        for text in [
            "",
            "EPSG:1",
            "nonsense",
            "/etc/passwd",
            "https://example.invalid/crs",
            "GEOGCS[\"broken",
            "+proj=longlat +nadgrids=/etc/passwd",
            "+proj=longlat + nadgrids=@x",
            "+proj=longlat +nadgrids=@null,/etc/passwd",
            "+proj=longlat +nadgrids=@null +grids=/etc/passwd",
            "+init=/etc/passwd:1",
            "+proj=pipeline +step +proj=hgridshift +grids=/etc/passwd",
        ] {
            assert!(matches!(Crs::parse(text), Err(Error::UnknownCrs(_))), "{text}");
        }
    }

    /// Web Mercator names the grid that stands for none. Worked example in IOGP Guidance Note 7-2, “Popular Visualisation
    /// Pseudo-Mercator”: 24°22'54.433"N 100°20'00.000"W is E -11169055.58, N 2800000.00. Quoted from memory.
    #[test]
    fn web_mercator_is_known() {
        let mercator = Crs::parse("EPSG:3857").unwrap();
        assert_eq!((mercator.epsg, mercator.kind), (Some(3857), CrsKind::Projected));
        let degrees = Crs::parse("EPSG:4326").unwrap();
        let latitude = 24.0 + 22.0 / 60.0 + 54.433 / 3600.0;
        let (x, y) =
            Transform::new(&degrees, &mercator).unwrap().point(-(100.0 + 20.0 / 60.0), latitude).unwrap();
        assert!((x + 11_169_055.58).abs() < 0.02 && (y - 2_800_000.00).abs() < 0.02, "{x} {y}");
    }

    /// Worked example of the transverse Mercator projection in IOGP Guidance Note 7-2 (OSGB 1936):
    /// 50°30'00"N 0°30'00"E is E 577274.99, N 69740.50. The numbers are quoted from memory.
    #[test]
    fn transverse_mercator_worked_example() {
        let from = Crs::parse("EPSG:4277").unwrap();
        let to = Crs::parse("EPSG:27700").unwrap();
        let (east, north) = Transform::new(&from, &to).unwrap().point(0.5, 50.5).unwrap();
        assert!((east - 577_274.99).abs() < 0.02 && (north - 69_740.50).abs() < 0.02, "{east} {north}");
    }

    #[test]
    fn zones_of_the_world() {
        assert_eq!(utm_zone(-17.0, 43.0).unwrap().epsg, Some(32628));
        assert_eq!(utm_zone(-84.3, 36.5).unwrap().epsg, Some(32616));
        assert_eq!(utm_zone(180.0, -1.0).unwrap().epsg, Some(32701));
        assert_eq!(utm_zone(-180.0, 1.0).unwrap().epsg, Some(32601));
    }

    #[test]
    fn search_by_number_and_by_name() {
        assert_eq!(search_crs("32628", None, 5)[0].code, 32628);
        assert_eq!(search_crs("epsg:27700", None, 5)[0].code, 27700);
        let found = search_crs("utm zone 28n wgs", None, 50);
        assert!(found.iter().any(|e| e.code == 32628));
        let near = search_crs("utm", Some((-84.3, 36.5)), 5);
        assert!(near.iter().all(|e| e.extent.is_some_and(|[w, _, e, _]| w <= -84.3 && e >= -84.3)));
        assert!(search_crs("no such thing anywhere", None, 5).is_empty());
    }

    #[test]
    fn points_beyond_a_projection_are_refused() {
        let wgs = Crs::parse("4326").unwrap();
        let mercator = Crs::parse("3395").unwrap();
        assert!(Transform::new(&wgs, &mercator).unwrap().point(0.0, 95.0).is_err());
    }

    #[test]
    fn many_points_are_converted_as_each_alone_and_the_order_of_axes_is_known() {
        let utm = Crs::parse("EPSG:32628").unwrap();
        let to = Transform::to_wgs84(&utm).unwrap();
        let all = [[500_000.0, 4_760_000.0], [501_234.5, 4_761_000.25]];
        let found = to.points(&all).unwrap();
        for (at, place) in all.iter().zip(&found) {
            let (x, y) = to.point(at[0], at[1]).unwrap();
            assert!((x - place[0]).abs() < 1e-12 && (y - place[1]).abs() < 1e-12);
        }
        assert!(to.points(&[[f64::NAN, 0.0]]).is_err());
        assert_eq!(to.points(&[]).unwrap(), Vec::<[f64; 2]>::new());
        // By the EPSG register: NZGD2000 / New Zealand Transverse Mercator gives the northing first.
        for (code, first) in [("EPSG:32628", false), ("EPSG:4326", true), ("EPSG:2193", true)] {
            assert_eq!(Crs::parse(code).unwrap().northing_first().unwrap(), first, "{code}");
        }
    }
}
