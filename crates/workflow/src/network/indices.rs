//! Indices of the land by its flow, for the map, for figures inside catchments and for packages.

use bothros_core::network::Network;
use bothros_core::routing::{
    DIRECTION_NODATA, height_above_stream, specific_area, stream_power_index, wetness_index,
};
use bothros_core::terrain::{aspect, slope};
use bothros_core::{Grid, Monitor, Part};
use bothros_products::{
    ASPECT, HEIGHT_ABOVE_STREAM, Quantity, RasterProduct, SPECIFIC_AREA, STREAM_POWER, WETNESS,
};

use crate::{Grids, Result};

/// An index of the land.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum LandIndex {
    /// contributing area over the width of a cell
    SpecificArea,
    /// `ln(a / tan b)`
    Wetness,
    /// `a tan b`
    StreamPower,
    /// height above the stream that the flow meets
    HeightAboveStream,
    /// the way the ground faces
    Aspect,
}

impl LandIndex {
    /// All of them.
    pub const ALL: [Self; 5] =
        [Self::SpecificArea, Self::Wetness, Self::StreamPower, Self::HeightAboveStream, Self::Aspect];

    /// How it is handed out.
    pub fn product(self) -> &'static RasterProduct<f32> {
        match self {
            Self::SpecificArea => &SPECIFIC_AREA,
            Self::Wetness => &WETNESS,
            Self::StreamPower => &STREAM_POWER,
            Self::HeightAboveStream => &HEIGHT_ABOVE_STREAM,
            Self::Aspect => &ASPECT,
        }
    }

    /// The index with the name of its product.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|i| i.product().name == name)
    }

    /// For people.
    pub fn title(self) -> &'static str {
        match self {
            Self::SpecificArea => "Specific catchment area",
            Self::Wetness => "Wetness index",
            Self::StreamPower => "Stream power index",
            Self::HeightAboveStream => "Height above the stream",
            Self::Aspect => "Aspect",
        }
    }

    /// What its values are.
    pub fn quantity(self) -> Quantity {
        match self {
            Self::HeightAboveStream => Quantity::Elevation,
            _ => Quantity::Ratio,
        }
    }

    /// Whether most values are small and few are very large, so that it is drawn by their logarithm.
    pub fn is_skewed(self) -> bool {
        matches!(self, Self::SpecificArea | Self::StreamPower)
    }

    /// Whether means of it mean anything: those of a direction do not.
    pub fn has_mean(self) -> bool {
        self != Self::Aspect
    }

    /// Computes it on the conditioned ground.
    ///
    /// # Errors
    /// [`bothros_core::Error::Cancelled`].
    pub fn of(self, grids: &Grids, network: &Network, monitor: &dyn Monitor) -> Result<Grid<f32>> {
        let frame = &grids.frame;
        let tangent = || slope(&grids.filled, frame.cell_m(), &Part::new(monitor, 0.0, 0.5));
        Ok(match self {
            Self::SpecificArea => specific_area(&grids.accumulation, frame),
            Self::Wetness => wetness_index(&grids.accumulation, &tangent()?, frame)?,
            Self::StreamPower => stream_power_index(&grids.accumulation, &tangent()?, frame)?,
            Self::HeightAboveStream => {
                height_above_stream(&grids.directions, &network.cells(frame), &grids.filled, monitor)?
            }
            Self::Aspect => {
                let mut ways = aspect(&grids.filled, frame.cell_m(), monitor)?;
                // The ground around a catchment alone is there for slopes along its divide.
                for (way, &code) in ways.values_mut().iter_mut().zip(grids.directions.values()) {
                    if code == DIRECTION_NODATA {
                        *way = f32::NAN;
                    }
                }
                ways
            }
        })
    }
}

/// An index over a study, with what it is drawn between.
pub struct IndexGrid {
    /// values; `NaN` where there is none
    pub values: Grid<f32>,
    /// 2 % of the values lie below
    pub low: f32,
    /// 2 % of the values lie above
    pub high: f32,
}

/// Values that ends are taken from, at least.
const SAMPLE: usize = 1 << 18;

impl IndexGrid {
    pub(crate) fn of(
        index: LandIndex,
        grids: &Grids,
        network: &Network,
        monitor: &dyn Monitor,
    ) -> Result<Self> {
        let values = index.of(grids, network, monitor)?;
        let every = (values.len() / SAMPLE).max(1);
        let mut sample: Vec<f32> =
            values.values().iter().step_by(every).copied().filter(|v| !v.is_nan()).collect();
        sample.sort_unstable_by(f32::total_cmp);
        let at = |share: usize| sample.get(sample.len() * share / 100).copied().unwrap_or(0.0);
        let (low, high) = match index {
            // All ways round.
            LandIndex::Aspect => (0.0, 360.0),
            _ => (at(2), at(98)),
        };
        Ok(Self { values, low, high })
    }
}
