//! The keys of `[catchments]`: what they may be, and what is wrong with them.

use std::path::PathBuf;

use bothros_core::catchments::{Division, Formula, Holds, OutlineKind, SnapTo};
use bothros_formats::ReadFeature;
use bothros_products::{CURVE_NUMBERS, ClassValue};
use serde::{Deserialize, Serialize};

use crate::by_hand::SubbasinName;
use crate::{Error, Result};

/// What pour points snap to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SnapChoice {
    /// the largest contributing area
    #[default]
    Largest,
    /// the nearest stream cell
    NearestStream,
    /// the cell whose contributing area comes nearest to the point's `area_km2`
    KnownArea,
}

impl SnapChoice {
    /// The choice of a name, as recipes and files of points say it.
    pub fn from_name(name: &str) -> Option<Self> {
        match name {
            "largest" => Some(Self::Largest),
            "nearest_stream" => Some(Self::NearestStream),
            "known_area" => Some(Self::KnownArea),
            _ => None,
        }
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Largest => "largest",
            Self::NearestStream => "nearest_stream",
            Self::KnownArea => "known_area",
        }
    }
}

/// How a point of a file snaps: how far, metres, and what to; as `usual` says where its file does not.
///
/// # Errors
/// What is wrong with it, to be said after its name.
pub fn snapping(
    feature: &ReadFeature,
    (usual_m, usual_to): (f64, SnapChoice),
) -> std::result::Result<(f64, SnapTo), &'static str> {
    let choice = match feature.snap_to.as_deref().filter(|text| !text.is_empty()) {
        None => usual_to,
        Some(text) => SnapChoice::from_name(text)
            .ok_or("snaps to what is not known: snap_to is largest, nearest_stream or known_area")?,
    };
    let m = feature.numbers.get("snap_m").copied().unwrap_or(usual_m);
    if m < 0.0 {
        return Err("has a snap_m below 0");
    }
    match (choice, feature.area_km2) {
        (SnapChoice::Largest, _) => Ok((m, SnapTo::Largest)),
        (SnapChoice::NearestStream, _) => Ok((m, SnapTo::NearestStream)),
        (SnapChoice::KnownArea, Some(km2)) if km2 * 1e6 >= 1.0 => {
            Ok((m, SnapTo::KnownArea((km2 * 1e6).round() as u64)))
        }
        (SnapChoice::KnownArea, _) => Err("has no area_km2 that it could snap by"),
    }
}

/// `catchments.curve_number`
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum CurveNumber {
    /// one for all land
    One(f64),
    /// name of the raster that tells it
    Raster(String),
}

/// `[[catchments.rasters]]`
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ValueRaster {
    /// a raster with one band
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<PathBuf>,
    /// name of a raster of `[[derived]]`, in the place of a file
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub derived: Option<String>,
    /// what it shows; no two share a name
    pub name: String,
    /// unit of its values
    #[serde(default)]
    pub unit: String,
    /// what its values are
    #[serde(default = "values")]
    pub holds: Holds,
    /// what its classes stand for
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub lookup: Vec<ClassValue>,
}

impl ValueRaster {
    fn check_lookup(&self) -> Result<()> {
        let wrong =
            |what: String| Err(Error::key("catchments.rasters.lookup", format!("“{}” {what}", self.name)));
        if self.holds != Holds::Classes && !self.lookup.is_empty() {
            return wrong("holds no classes that a lookup could be about".into());
        }
        for (at, ClassValue { class, curve_number, impervious }) in self.lookup.iter().enumerate() {
            if self.lookup[..at].iter().any(|c| c.class == *class) {
                return wrong(format!("tells class {class} twice"));
            }
            if curve_number.is_some_and(|n| !(CURVE_NUMBERS.0..=CURVE_NUMBERS.1).contains(&n)) {
                return wrong(format!("has a curve number for class {class} that is not between 30 and 100"));
            }
            if impervious.is_some_and(|share| !(0.0..=1.0).contains(&share)) {
                return wrong(format!(
                    "has an impervious share for class {class} that is not between 0 and 1"
                ));
            }
        }
        Ok(())
    }
}

fn values() -> Holds {
    Holds::Values
}

/// `[catchments]`
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Catchments {
    /// a file of points
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pour_points: Option<PathBuf>,
    /// how far they may move, metres; 0 leaves them
    #[serde(default)]
    pub snap_m: f64,
    /// what to
    #[serde(default)]
    pub snap_to: SnapChoice,
    /// a file of lines: a pour point at the largest contributing area along each
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lines: Option<PathBuf>,
    /// a file of polygons: each place where water enters one
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sites: Option<PathBuf>,
    /// least area of an inflow, km²; 0.01 by default
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub min_inflow_km2: Option<f64>,
    /// all basins of the footprint
    #[serde(default)]
    pub basins: bool,
    /// how outlines are drawn
    #[serde(default)]
    pub outline: OutlineKind,
    /// a file of polygons, compared with the catchment that overlaps it most
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boundary: Option<PathBuf>,
    /// curve number of all land, or the name of the raster whose mean over each area it is
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub curve_number: Option<CurveNumber>,
    /// key of the formula that times of concentration are told by; the median of all unless told
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time_of_concentration: Option<String>,
    /// rasters whose values are told of catchments and sub-basins
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rasters: Vec<ValueRaster>,
    /// where sub-basins end: at reaches by default
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subbasins: Option<Division>,
    /// outlets of sub-basins that were added by hand
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub split: Vec<[f64; 2]>,
    /// outlets of sub-basins that were taken away by hand
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub merged: Vec<[f64; 2]>,
    /// names of sub-basins
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub names: Vec<SubbasinName>,
}

impl Catchments {
    pub(crate) fn check(&self, has_network: bool) -> Result<()> {
        let places = [&self.pour_points, &self.lines, &self.sites].iter().any(|p| p.is_some());
        if !places && !self.basins && self.subbasins.is_none() {
            let what = "asks for nothing: name pour_points, lines, sites or subbasins, or set basins = true";
            return Err(Error::key("catchments", what));
        }
        let needs = |key: &str, what: &str| {
            Err(Error::key(key, format!("{what} needs streams: add [network] with a threshold")))
        };
        if self.snap_to == SnapChoice::NearestStream && !has_network {
            return needs("catchments.snap_to", "nearest_stream");
        }
        if self.min_inflow_km2.is_some_and(|km2| !km2.is_finite() || km2 <= 0.0) {
            return Err(Error::key("catchments.min_inflow_km2", "must be above 0"));
        }
        if self.min_inflow_km2.is_some() && self.sites.is_none() {
            return Err(Error::key("catchments.min_inflow_km2", "means nothing without sites"));
        }
        if self.boundary.is_some() && self.pour_points.is_none() && self.lines.is_none() {
            return Err(Error::key(
                "catchments.boundary",
                "has no catchment to be compared with: add pour_points or lines",
            ));
        }
        for (at, raster) in self.rasters.iter().enumerate() {
            if raster.name.is_empty() || self.rasters[..at].iter().any(|r| r.name == raster.name) {
                let what = format!("“{}”: each needs a name of its own", raster.name);
                return Err(Error::key("catchments.rasters.name", what));
            }
            raster.check_lookup()?;
            if raster.path.is_some() == raster.derived.is_some() {
                let what = format!("“{}” needs either a path or the name of a derived raster", raster.name);
                return Err(Error::key("catchments.rasters", what));
            }
        }
        if let Some(key) = self.time_of_concentration.as_ref().filter(|key| Formula::from_key(key).is_none())
        {
            let keys = Formula::ALL.map(Formula::key).join(", ");
            let what = format!("“{key}” is not known; there are {keys}");
            return Err(Error::key("catchments.time_of_concentration", what));
        }
        match &self.curve_number {
            Some(CurveNumber::One(n)) if !(CURVE_NUMBERS.0..=CURVE_NUMBERS.1).contains(n) => {
                return Err(Error::key("catchments.curve_number", "must lie between 30 and 100"));
            }
            Some(CurveNumber::Raster(name))
                if !self
                    .rasters
                    .iter()
                    .any(|r| r.name == *name && (r.holds == Holds::Values || !r.lookup.is_empty())) =>
            {
                let what = format!(
                    "“{name}” is the name of none of catchments.rasters that holds values, or classes with a lookup"
                );
                return Err(Error::key("catchments.curve_number", what));
            }
            _ => {}
        }
        match self.subbasins {
            Some(Division::TargetKm2(km2)) if !km2.is_finite() || km2 <= 0.0 => {
                Err(Error::key("catchments.subbasins.target_km2", "must be above 0"))
            }
            Some(Division::Basins) => {
                let what = "“basins” is no division: set basins = true for the basins of the footprint";
                Err(Error::key("catchments.subbasins", what))
            }
            Some(Division::Reaches | Division::Tributaries | Division::TargetKm2(_)) if !has_network => {
                needs("catchments.subbasins", "this division")
            }
            _ => Ok(()),
        }
    }
}
