//! `[handover]`: what is handed over, and the parameters of the model scheme in it.

use std::path::PathBuf;

use bothros_products::{ModelChoice, TypedValue};
use serde::{Deserialize, Serialize};

use crate::{Error, Recipe, Result};

/// Formats of a package beside those that are always there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum HandoverFormat {
    /// a file for each layer, in WGS 84
    Geojson,
    /// files for each layer
    Shapefile,
    /// a file for each raster, by the CF conventions
    Netcdf,
}

/// `[handover]`
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Handover {
    /// CRS of GeoPackage and Shapefiles, where it is another than the DEM's
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub crs: Option<String>,
    /// further formats
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub formats: Vec<HandoverFormat>,
    /// a file of lines, the dams that may hold water back
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dams: Option<PathBuf>,
    /// a file of polygons, the lakes behind them: where one reaches a dam, the scheme has a storage
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lakes: Option<PathBuf>,
    /// parameters of the model scheme as a whole
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<ModelChoice>,
    /// parameters that were typed for single elements
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub typed: Vec<TypedValue>,
}

impl Handover {
    /// Checks it against the rest of its recipe.
    pub(crate) fn check(&self, recipe: &Recipe) -> Result<()> {
        for (key, there) in
            [("network", recipe.network.is_some()), ("catchments", recipe.catchments.is_some())]
        {
            if !there {
                let what = format!("needs streams and sub-basins: add [{key}]");
                return Err(Error::key("handover", what));
            }
        }
        if self.dams.is_some() != self.lakes.is_some() {
            let what = "needs the other: a storage is where a lake reaches a dam";
            return Err(Error::key(
                if self.dams.is_some() { "handover.dams" } else { "handover.lakes" },
                what,
            ));
        }
        if let Some(flaw) = self.model.as_ref().and_then(ModelChoice::flaw) {
            return Err(Error::key("handover.model", flaw));
        }
        if let Some(name) = self.model.as_ref().and_then(|m| m.impervious_raster.as_ref())
            && !recipe.catchments.iter().flat_map(|c| &c.rasters).any(|r| r.name == *name)
        {
            let what = format!("“{name}” is the name of none of catchments.rasters");
            return Err(Error::key("handover.model.impervious_raster", what));
        }
        match self.typed.iter().find_map(TypedValue::flaw) {
            Some(flaw) => Err(Error::key("handover.typed", flaw)),
            None => Ok(()),
        }
    }
}
