//! The keys of `[conditioning]`.

use std::path::PathBuf;

use bothros_core::conditioning::{Burn, OwnGround, TreatSinks};
use serde::{Deserialize, Serialize};

use crate::recipe::{Paths, not_negative, positive};
use crate::{Error, Result};

/// What is done with sinks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Sinks {
    /// raised to their spill level
    #[default]
    Fill,
    /// led out by a cut, or left
    Breach,
    /// led out by a cut, or filled
    BreachThenFill,
    /// left
    Keep,
}

impl From<Sinks> for TreatSinks {
    fn from(sinks: Sinks) -> Self {
        match sinks {
            Sinks::Fill => Self::Fill,
            Sinks::Breach => Self::Breach,
            Sinks::BreachThenFill => Self::BreachThenFill,
            Sinks::Keep => Self::Keep,
        }
    }
}

/// How streams are burned.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum BurnMethod {
    /// lowered by a constant depth
    Trench,
    /// a sharp trench with a smooth buffer
    Graded,
    /// by a normalised DEM
    Normalised,
    /// lowered until they fall all the way
    Carve,
}

/// `burn = { … }`
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BurnSettings {
    /// a file of lines
    pub streams: PathBuf,
    /// how
    pub method: BurnMethod,
    /// depth of the trench, metres; needed by `trench` and `graded`
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub depth_m: Option<f64>,
    /// width of the buffer on either side, metres; needed by `graded`
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub buffer_m: Option<f64>,
    /// depth of the buffer beside the stream, metres; a fifth of `depth_m` by default
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub buffer_depth_m: Option<f64>,
}

impl BurnSettings {
    /// The method as the core takes it; depths are checked with the recipe.
    pub fn method(&self) -> Burn {
        let depth_m = self.depth_m.unwrap_or(0.0);
        match self.method {
            BurnMethod::Trench => Burn::Trench { depth_m },
            BurnMethod::Graded => Burn::Graded {
                depth_m,
                buffer_m: self.buffer_m.unwrap_or(0.0),
                buffer_depth_m: self.buffer_depth_m.unwrap_or(depth_m / 5.0),
            },
            BurnMethod::Normalised => Burn::Normalised,
            BurnMethod::Carve => Burn::Carve,
        }
    }
}

/// `rebuild = { … }`: ground made anew inside areas.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RebuildSettings {
    /// a file of polygons
    pub areas: PathBuf,
    /// a file of points with elevations, metres
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub points: Option<PathBuf>,
    /// a file of contour lines with elevations, metres
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub contours: Option<PathBuf>,
    /// what of their own ground counts: nothing by default
    #[serde(default)]
    pub own: OwnGround,
    /// from 0 (a bent plate) to 1 (a skin); 0.3 by default
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tension: Option<f64>,
    /// width of the zone in which the new ground takes over, metres; 0 by default
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub blend_m: Option<f64>,
}

impl RebuildSettings {
    fn check(&self) -> Result<()> {
        if let Some(tension) = self.tension.filter(|t| !(0.0..=1.0).contains(t)) {
            let what = format!("{tension} is out of range, 0 to 1");
            return Err(Error::key("conditioning.rebuild.tension", what));
        }
        if let Some(width) = self.blend_m {
            not_negative("conditioning.rebuild.blend_m", width)?;
        }
        let own = |what: &str| Err(Error::key("conditioning.rebuild.own", what));
        match self.own {
            OwnGround::Cells { every: 0 } => own("every must be at least 1"),
            OwnGround::Contours { interval_m } if !(interval_m.is_finite() && interval_m > 0.0) => {
                own("interval_m must be above 0")
            }
            _ => Ok(()),
        }
    }
}

/// `[conditioning]`
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Conditioning {
    /// a file of lines, drawn from upstream to downstream
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub breach_lines: Option<PathBuf>,
    /// a file of lines
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub walls: Option<PathBuf>,
    /// a file of polygons
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lakes: Option<PathBuf>,
    /// files of points or polygons
    #[serde(default, skip_serializing_if = "Paths::is_empty")]
    pub closed_basins: Paths,
    /// areas whose ground is made anew
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rebuild: Option<RebuildSettings>,
    /// mapped streams to be burned
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub burn: Option<BurnSettings>,
    /// what is done with sinks
    #[serde(default)]
    pub sinks: Sinks,
    /// deeper sinks are kept, metres
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_fill_depth_m: Option<f64>,
    /// longest path cut, metres
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_breach_length_m: Option<f64>,
    /// deepest cut, metres
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_breach_depth_m: Option<f64>,
}

impl Conditioning {
    pub(crate) fn check(&self) -> Result<()> {
        if let Some(depth) = self.max_fill_depth_m {
            not_negative("conditioning.max_fill_depth_m", depth)?;
        }
        positive("conditioning.max_breach_length_m", self.max_breach_length_m)?;
        positive("conditioning.max_breach_depth_m", self.max_breach_depth_m)?;
        let breaches = matches!(self.sinks, Sinks::Breach | Sinks::BreachThenFill);
        for (key, given) in [
            ("conditioning.max_breach_length_m", self.max_breach_length_m),
            ("conditioning.max_breach_depth_m", self.max_breach_depth_m),
        ] {
            if given.is_some() && !breaches {
                return Err(Error::key(
                    key,
                    "means nothing unless sinks = \"breach\" or \"breach_then_fill\"",
                ));
            }
        }
        if self.max_fill_depth_m.is_some() && !matches!(self.sinks, Sinks::Fill | Sinks::BreachThenFill) {
            let what = "means nothing unless sinks = \"fill\" or \"breach_then_fill\"";
            return Err(Error::key("conditioning.max_fill_depth_m", what));
        }
        if let Some(rebuild) = &self.rebuild {
            rebuild.check()?;
        }
        if let Some(burn) = &self.burn {
            positive("conditioning.burn.depth_m", burn.depth_m)?;
            positive("conditioning.burn.buffer_m", burn.buffer_m)?;
            positive("conditioning.burn.buffer_depth_m", burn.buffer_depth_m)?;
            let trench = matches!(burn.method, BurnMethod::Trench | BurnMethod::Graded);
            if trench && burn.depth_m.is_none() {
                return Err(Error::key("conditioning.burn.depth_m", "is missing; this method needs it"));
            }
            if burn.method == BurnMethod::Graded && burn.buffer_m.is_none() {
                let what = "is missing; a graded trench needs the width of its buffer";
                return Err(Error::key("conditioning.burn.buffer_m", what));
            }
        }
        Ok(())
    }
}
