//! The recipe file: its keys, what they may be, and what is wrong with them.

use std::path::{Path, PathBuf};

use bothros_core::network::Begins;
use serde::{Deserialize, Serialize};

use crate::by_hand::EditSettings;
use crate::catchments::Catchments;
use crate::conditioning::Conditioning;
use crate::derived::{self, Derived, NamedLayer};
use crate::handover::Handover;
use crate::pages::{self, ReportSettings, SheetSettings};
use crate::room::Bytes;
use crate::terrain::Terrain;
use crate::{Error, Result};

/// A recipe as it stands in its file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Recipe {
    /// 1
    pub version: u32,
    /// most memory that a run may take; what does not fit lies on disk meanwhile
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_memory: Option<Bytes>,
    /// where the elevations come from
    pub terrain: Terrain,
    /// how the DEM is conditioned; sinks are filled where it is left out
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub conditioning: Option<Conditioning>,
    /// how flow is routed
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub routing: Option<Routing>,
    /// where streams begin; no network where it is left out
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network: Option<Network>,
    /// where catchments are asked for; none where it is left out
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub catchments: Option<Catchments>,
    /// layers that formulas may name, beside the streams
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub layers: Vec<NamedLayer>,
    /// rasters from formulas
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub derived: Vec<Derived>,
    /// what is handed over; no package where it is left out
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub handover: Option<Handover>,
    /// a report; none where it is left out
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub report: Option<ReportSettings>,
    /// map sheets
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sheets: Vec<SheetSettings>,
    /// the folder that paths are relative to
    #[serde(skip)]
    pub folder: PathBuf,
    /// name of its file, without ending; none where it was read from elsewhere
    #[serde(skip)]
    pub name: Option<String>,
}

/// One file or several.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(from = "OneOrMore", into = "OneOrMore")]
pub struct Paths(pub Vec<PathBuf>);

impl Paths {
    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum OneOrMore {
    One(PathBuf),
    More(Vec<PathBuf>),
}

impl From<OneOrMore> for Paths {
    fn from(given: OneOrMore) -> Self {
        match given {
            OneOrMore::One(path) => Self(vec![path]),
            OneOrMore::More(paths) => Self(paths),
        }
    }
}

impl From<Paths> for OneOrMore {
    fn from(Paths(mut paths): Paths) -> Self {
        if paths.len() == 1 { Self::One(paths.remove(0)) } else { Self::More(paths) }
    }
}

/// How flow is routed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RoutingMethod {
    /// to one of eight neighbours
    #[default]
    D8,
    /// D-infinity
    Dinf,
    /// MFD
    Mfd,
}

/// `[routing]`
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Routing {
    /// how
    #[serde(default)]
    pub method: RoutingMethod,
    /// exponent of MFD, 1.1 unless told
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exponent: Option<f64>,
    /// a raster to be accumulated too
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weights: Option<PathBuf>,
    /// what the weights are, and in which unit
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weights_meaning: Option<String>,
    /// fall of flats in conditioned.tif, m/m
    #[serde(default)]
    pub flat_slope: f64,
    /// whether the shares of MFD are written, a raster for each neighbour
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub shares: bool,
}

/// `[network]`
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Network {
    /// where streams begin
    pub threshold: ThresholdChoice,
    /// what the threshold is held against: contributing area by default
    #[serde(default, skip_serializing_if = "is_area")]
    pub begins: Begins,
    /// a file of points, the surveyed heads that streams begin at
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heads: Option<PathBuf>,
    /// how far the survey may be off, metres; a cell and a half by default
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heads_within_m: Option<f64>,
    /// changes by hand, in their order
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub edits: Vec<EditSettings>,
}

fn is_area(begins: &Begins) -> bool {
    *begins == Begins::Area
}

impl Network {
    fn check(&self) -> Result<()> {
        match (self.threshold.area_km2, self.threshold.cells) {
            (Some(area), None) if area.is_finite() && area > 0.0 => {}
            (None, Some(cells)) if cells > 0 => {}
            (Some(_), Some(_)) | (None, None) => {
                let what = "give either area_km2 or cells, as in { area_km2 = 0.35 }";
                return Err(Error::key("network.threshold", what));
            }
            _ => return Err(Error::key("network.threshold", "must be above 0")),
        }
        let begins = |what: &str| Err(Error::key("network.begins", what));
        match self.begins {
            Begins::SlopeArea(by) if !by.is_sound() => {
                return begins("takes an exponent of 0 to 5 and at_slope of 0.0001 to 10 m/m");
            }
            Begins::Converging(by) if !by.is_sound() => {
                return begins("takes a curvature of 0 to 10 per metre and over_m of 0 to 1000");
            }
            Begins::Surveyed if self.heads.is_none() => {
                return begins("by surveyed heads needs a file of points: name heads");
            }
            _ => {}
        }
        for edit in &self.edits {
            edit.edit()?;
        }
        if self.heads.is_some() && self.begins != Begins::Surveyed {
            return Err(Error::key("network.heads", "means nothing unless begins = { by = \"surveyed\" }"));
        }
        match self.heads_within_m {
            Some(_) if self.heads.is_none() => {
                Err(Error::key("network.heads_within_m", "means nothing without heads"))
            }
            Some(m) if !(m.is_finite() && m >= 0.0) => {
                Err(Error::key("network.heads_within_m", "must not be below 0"))
            }
            _ => Ok(()),
        }
    }
}

/// `threshold = { … }`: one of the two.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ThresholdChoice {
    /// km²
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub area_km2: Option<f64>,
    /// cells
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cells: Option<u32>,
}

/// What names of elevation rasters end with.
const RASTER_ENDS: [&str; 3] = ["tif", "tiff", "asc"];

/// Files, with those that a pattern such as `tiles/*.tif` matches, or the rasters in a folder, in its place, by name.
fn with_many(files: &[PathBuf], folder: &Path) -> Result<Vec<PathBuf>> {
    let mut all = Vec::with_capacity(files.len());
    for file in files {
        let text = file.to_string_lossy();
        if text.contains(['*', '?']) {
            all.extend(matched("terrain.dem", folder, &text)?);
        } else if folder.join(file).is_dir() {
            all.extend(rasters_in(file, folder)?);
        } else {
            all.push(file.clone());
        }
    }
    Ok(all)
}

/// The rasters that lie in a folder itself, by name.
fn rasters_in(place: &Path, folder: &Path) -> Result<Vec<PathBuf>> {
    let trouble =
        |what: String| Error::key("terrain.dem", format!("{} {what}", folder.join(place).display()));
    let entries =
        std::fs::read_dir(folder.join(place)).map_err(|e| trouble(format!("cannot be listed: {e}")))?;
    let mut files = Vec::new();
    for entry in entries {
        let path = place.join(entry.map_err(|e| trouble(format!("cannot be listed: {e}")))?.file_name());
        let end = path.extension().unwrap_or_default().to_string_lossy().to_lowercase();
        if RASTER_ENDS.contains(&end.as_str()) && folder.join(&path).is_file() {
            files.push(path);
        }
    }
    files.sort();
    if files.is_empty() {
        return Err(trouble(format!("holds no file that ends with .{}", RASTER_ENDS.join(", ."))));
    }
    Ok(files)
}

/// Files that a pattern matches, by name, as they are called from a folder.
pub(crate) fn matched(key: &str, folder: &Path, pattern: &str) -> Result<Vec<PathBuf>> {
    let whole = folder.join(pattern);
    let found = glob::glob(&whole.to_string_lossy())
        .map_err(|e| Error::key(key, format!("“{pattern}” is no pattern: {e}")))?;
    let mut files: Vec<PathBuf> =
        found.filter_map(std::result::Result::ok).filter(|path| path.is_file()).collect();
    files.sort();
    if files.is_empty() {
        return Err(Error::key(key, format!("no file matches {}", whole.display())));
    }
    Ok(files.into_iter().map(|path| path.strip_prefix(folder).map(Path::to_owned).unwrap_or(path)).collect())
}

impl Recipe {
    /// Reads and checks a recipe.
    ///
    /// # Errors
    /// [`Error::Recipe`] with the key or line that is wrong.
    pub fn read(path: &Path) -> Result<Self> {
        let name = path.display();
        let text = std::fs::read_to_string(path).map_err(|e| {
            let what = match e.kind() {
                std::io::ErrorKind::InvalidData => "is no text file; a recipe is written in TOML".to_owned(),
                std::io::ErrorKind::NotFound => "is not there".to_owned(),
                _ => e.to_string(),
            };
            Error::Recipe(format!("{name} {what}"))
        })?;
        // A recipe that is named alone lies where the program was started.
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_owned();
        let mut recipe = Self::parse(&text, &folder).map_err(|e| match e {
            Error::Recipe(what) => Error::Recipe(format!("{name}: {what}")),
            other => other,
        })?;
        recipe.terrain.dem = with_many(&recipe.terrain.dem, &recipe.folder)?;
        recipe.name = path.file_stem().map(|stem| stem.to_string_lossy().into_owned());
        Ok(recipe)
    }

    /// Reads a recipe from its text, in which patterns stand for nothing but themselves; `folder` is what its paths are relative to.
    ///
    /// # Errors
    /// As for [`Recipe::read`].
    pub fn parse(text: &str, folder: &Path) -> Result<Self> {
        let mut recipe: Self = toml::from_str(text).map_err(|e| Error::Recipe(in_one_line(&e, text)))?;
        recipe.folder = folder.to_owned();
        recipe.check()?;
        Ok(recipe)
    }

    /// The text of a recipe, as [`Recipe::parse`] reads it.
    ///
    /// # Errors
    /// Where a path is not UTF-8.
    pub fn to_toml(&self) -> std::result::Result<String, toml::ser::Error> {
        toml::to_string(self)
    }

    /// Whether anything is laid out on pages.
    pub fn has_pages(&self) -> bool {
        self.report.is_some() || !self.sheets.is_empty()
    }

    /// A path of the recipe as it is to be opened.
    pub fn path(&self, path: &Path) -> PathBuf {
        self.folder.join(path)
    }

    fn check(&self) -> Result<()> {
        if self.version != 1 {
            return Err(Error::key(
                "version",
                format!("{} is not known; this program reads version 1", self.version),
            ));
        }
        self.terrain.check()?;
        if let Some(conditioning) = &self.conditioning {
            conditioning.check()?;
        }
        if let Some(r) = &self.routing {
            not_negative("routing.flat_slope", r.flat_slope)?;
            if r.flat_slope >= 0.1 {
                let what = format!("{} m/m is no slight fall; give less than 0.1", r.flat_slope);
                return Err(Error::key("routing.flat_slope", what));
            }
            if r.shares && r.method != RoutingMethod::Mfd {
                return Err(Error::key("routing.shares", "means nothing unless method = \"mfd\""));
            }
            if let Some(p) = r.exponent {
                if r.method != RoutingMethod::Mfd {
                    return Err(Error::key("routing.exponent", "means nothing unless method = \"mfd\""));
                }
                if !(0.1..=100.0).contains(&p) {
                    return Err(Error::key("routing.exponent", format!("{p} is out of range, 0.1 to 100")));
                }
            }
        }
        pages::check(self)?;
        derived::check(self)?;
        if let Some(n) = &self.network {
            n.check()?;
        }
        if let Some(c) = &self.catchments {
            not_negative("catchments.snap_m", c.snap_m)?;
            c.check(self.network.is_some())?;
        }
        if let Some(handover) = &self.handover {
            handover.check(self)?;
        }
        Ok(())
    }
}

/// A length, if it is given.
pub(crate) fn positive(key: &str, value: Option<f64>) -> Result<()> {
    match value {
        Some(v) if v.is_nan() || v.is_infinite() || v <= 0.0 => {
            Err(Error::key(key, format!("{v} is no length; give a number of metres above 0")))
        }
        _ => Ok(()),
    }
}

/// A number that may be 0.
pub(crate) fn not_negative(key: &str, value: f64) -> Result<()> {
    if value >= 0.0 && value.is_finite() {
        Ok(())
    } else {
        Err(Error::key(key, format!("{value} is out of range; give a number of at least 0")))
    }
}

/// The reader's message in one line, with the line of the file.
pub(crate) fn in_one_line(error: &toml::de::Error, text: &str) -> String {
    let line = error.span().map(|span| text[..span.start.min(text.len())].matches('\n').count() + 1);
    let what = error.message().split_whitespace().collect::<Vec<_>>().join(" ");
    match line {
        Some(line) => format!("line {line}: {what}"),
        None => what,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::catchments::Division;
    use bothros_formats::VerticalUnit;

    fn parse(text: &str) -> Result<Recipe> {
        Recipe::parse(text, Path::new("/somewhere"))
    }

    const LEAST: &str = "version = 1\n[terrain]\ndem = [\"a.tif\"]\n";

    #[test]
    fn the_least_recipe_and_a_full_one() {
        let least = parse(LEAST).unwrap();
        assert_eq!(least.path(&least.terrain.dem[0]), Path::new("/somewhere/a.tif"));
        let full = parse(
            r#"
            version = 1
            [terrain]
            dem = ["north.tif", "south.tif"]
            crs = "EPSG:32628"
            cell_size = 4.0
            clip = "area.gpkg"
            vertical_unit = "us-ft"
            [conditioning]
            breach_lines = "crossings.gpkg"
            walls = "walls.gpkg"
            closed_basins = "hollows.gpkg"
            burn = { streams = "streams.gpkg", method = "trench", depth_m = 5.0 }
            sinks = "breach_then_fill"
            max_fill_depth_m = 8.0
            max_breach_length_m = 100.0
            max_breach_depth_m = 3
            [routing]
            method = "mfd"
            weights = "rain.tif"
            flat_slope = 0.00001
            [network]
            threshold = { area_km2 = 0.35 }
            [catchments]
            pour_points = "gauges.csv"
            snap_m = 100.0
            snap_to = "nearest_stream"
            lines = "dams.gpkg"
            sites = "towns.gpkg"
            min_inflow_km2 = 0.01
            subbasins = { target_km2 = 2.0 }
            basins = false
            outline = "smoothed"
            boundary = "published.gpkg"
            [handover]
            crs = "EPSG:4326"
            formats = ["geojson", "shapefile", "netcdf"]
            "#,
        )
        .unwrap();
        assert_eq!(full.terrain.vertical_unit, Some(VerticalUnit::UsSurveyFoot));
        assert_eq!(full.catchments.as_ref().unwrap().subbasins, Some(Division::TargetKm2(2.0)));
        // What is written again is read the same.
        let again = full.to_toml().unwrap();
        assert_eq!(Recipe::parse(&again, Path::new("/somewhere")).unwrap(), full);
    }

    #[test]
    fn what_is_wrong_is_named() {
        for (text, names) in [
            ("", "version"),
            ("version = 2\n[terrain]\ndem = [\"a.tif\"]\n", "version: 2"),
            ("version = 1\n", "terrain"),
            ("version = 1\n[terrain]\ndem = []\n", "terrain.dem"),
            ("version = 1\n[terrain]\ndem = \"a.tif\"\n", "line 3"),
            ("version = 1\n[terrain]\ndem = [\"a.tif\"]\ncellsize = 4\n", "cellsize"),
            ("version = 1\n[terrain]\ndem = [\"a.tif\"]\ncell_size = -4\n", "terrain.cell_size"),
            ("version = 1\n[terrain]\ndem = [\"a.tif\"]\ncell_size = nan\n", "terrain.cell_size"),
            ("version = 1\n[terrain]\ndem = [\"a.tif\"]\nvertical_unit = \"yard\"\n", "yard"),
            ("version = 1\n[terrain\n", "line 2"),
        ] {
            let error = parse(text).unwrap_err();
            assert_eq!(error.exit_status(), 2);
            let told = error.to_string();
            assert!(told.contains(names) && !told.contains('\n'), "{text:?}: {told}");
        }
        for (text, names) in [
            ("[conditioning]\nsinks = \"flood\"", "flood"),
            ("[conditioning]\nmax_fill_depth_m = -1", "conditioning.max_fill_depth_m"),
            ("[conditioning]\nsinks = \"keep\"\nmax_fill_depth_m = 1", "conditioning.max_fill_depth_m"),
            ("[conditioning]\nmax_breach_length_m = 10", "conditioning.max_breach_length_m"),
            ("[conditioning]\nsinks = \"breach\"\nmax_breach_depth_m = 0", "conditioning.max_breach_depth_m"),
            (
                "[conditioning]\nburn = { streams = \"s.gpkg\", method = \"trench\" }",
                "conditioning.burn.depth_m",
            ),
            (
                "[conditioning]\nburn = { streams = \"s.gpkg\", method = \"graded\", depth_m = 3 }",
                "conditioning.burn.buffer_m",
            ),
            ("[conditioning]\nburn = { streams = \"s.gpkg\", method = \"plough\" }", "plough"),
            ("[routing]\nmethod = \"d9\"", "d9"),
            ("[routing]\nflat_slope = -0.1", "routing.flat_slope"),
            ("[routing]\nflat_slope = 2", "routing.flat_slope"),
            ("[routing]\nexponent = 2", "routing.exponent"),
            ("[network]", "threshold"),
            ("[network]\nthreshold = {}", "network.threshold"),
            ("[network]\nthreshold = { cells = 0 }", "network.threshold"),
            ("[network]\nthreshold = { cells = 5, area_km2 = 1 }", "network.threshold"),
            ("[network]\nthreshold = { area_km2 = inf }", "network.threshold"),
            ("[network]\nthreshold = 5", "line 5"),
            ("[network]\nthreshold = { cells = 5 }\nbegins = { by = \"surveyed\" }", "name heads"),
            ("[network]\nthreshold = { cells = 5 }\nheads = \"h.csv\"", "network.heads"),
            (
                "[network]\nthreshold = { cells = 5 }\nbegins = { by = \"slope_area\", exponent = 9, at_slope = 1 }",
                "0 to 5",
            ),
            (
                "[network]\nthreshold = { cells = 5 }\nbegins = { by = \"converging\", curvature = -1, over_m = 0 }",
                "0 to 10",
            ),
            ("[network]\nthreshold = { cells = 5 }\nbegins = { by = \"magic\" }", "line 6"),
            ("[catchments]\npour_points = \"p.csv\"\nsnap_m = -3", "catchments.snap_m"),
            ("[catchments]\npour_points = \"p.csv\"\nsnap_to = \"nearest_stream\"", "catchments.snap_to"),
            ("[streams]\na = 1", "streams"),
            ("[handover]", "add [network]"),
            ("[network]\nthreshold = { cells = 9 }\n[handover]", "add [catchments]"),
            ("[handover]\nformats = [\"dwg\"]", "dwg"),
            ("[catchments]", "asks for nothing"),
            ("[catchments]\npour_points = \"p.csv\"\nsubbasins = \"squares\"", "squares"),
            ("[catchments]\npour_points = \"p.csv\"\nsubbasins = \"reaches\"", "catchments.subbasins"),
            (
                "[network]\nthreshold = { cells = 9 }\n[catchments]\nsubbasins = { target_km2 = -1 }",
                "target_km2",
            ),
            ("[catchments]\npour_points = \"p.csv\"\noutline = \"wavy\"", "wavy"),
            ("[catchments]\npour_points = \"p.csv\"\nsubbasins = \"basins\"", "basins = true"),
            ("[catchments]\npour_points = \"p.csv\"\nmin_inflow_km2 = 1", "means nothing without sites"),
            ("[catchments]\nsites = \"p.gpkg\"\nmin_inflow_km2 = 0", "catchments.min_inflow_km2"),
            ("[catchments]\nsites = \"p.gpkg\"\nboundary = \"b.gpkg\"", "catchments.boundary"),
        ] {
            let told = parse(&format!("{LEAST}{text}\n")).unwrap_err().to_string();
            assert!(told.contains(names) && !told.contains('\n'), "{text:?}: {told}");
        }
    }
}
