//! What rasters of a study there are.

use bothros_core::Coarser;

/// What a raster of a study is. A study has one of each at most.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum RasterRole {
    /// the DEM as it was given, metres
    Source,
    /// the prepared DEM, metres
    Dem,
    /// the filled DEM, metres
    Filled,
    /// depth of fill, metres, nodata where nothing was filled
    FillDepth,
    /// conditioned minus original DEM, metres, nodata where nothing was changed; the depth of fill is it where nothing but
    /// filling was done, and there is none of its own then
    CutFill,
    /// D8 codes
    Direction,
    /// cells upstream
    Accumulation,
    /// weights of all cells upstream
    Weighted,
    /// what flow was routed over, metres, where it is divided and that is not the ground
    RoutingSurface,
    /// probability that a cell is stream, from 0 to 1
    StreamProbability,
    /// probability that a cell belongs to the catchment of one of the pour points that were looked at, by its place among them
    CatchmentProbability(u8),
}

/// Names of the rasters of probability of catchments.
const CATCHMENTS: [&str; 12] = [
    "catchment_probability_1",
    "catchment_probability_2",
    "catchment_probability_3",
    "catchment_probability_4",
    "catchment_probability_5",
    "catchment_probability_6",
    "catchment_probability_7",
    "catchment_probability_8",
    "catchment_probability_9",
    "catchment_probability_10",
    "catchment_probability_11",
    "catchment_probability_12",
];

impl RasterRole {
    /// How many catchments can have a raster of probability.
    pub const MOST_CATCHMENTS: usize = CATCHMENTS.len();

    /// All roles.
    pub fn all() -> impl Iterator<Item = Self> {
        let one_each = [
            Self::Source,
            Self::Dem,
            Self::Filled,
            Self::FillDepth,
            Self::CutFill,
            Self::Direction,
            Self::Accumulation,
            Self::Weighted,
            Self::RoutingSurface,
            Self::StreamProbability,
        ];
        one_each.into_iter().chain((0u8..).take(CATCHMENTS.len()).map(Self::CatchmentProbability))
    }

    /// Name in the database and in addresses.
    pub fn name(self) -> &'static str {
        match self {
            Self::Source => "source",
            Self::Dem => "dem",
            Self::Filled => "filled",
            Self::FillDepth => "fill_depth",
            Self::CutFill => "cut_fill",
            Self::Direction => "direction",
            Self::Accumulation => "accumulation",
            Self::Weighted => "weighted",
            Self::RoutingSurface => "routing_surface",
            Self::StreamProbability => "stream_probability",
            Self::CatchmentProbability(at) => CATCHMENTS[usize::from(at).min(CATCHMENTS.len() - 1)],
        }
    }
    /// From its name.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::all().find(|role| role.name() == name)
    }
    /// How its coarser levels are made.
    pub(crate) fn coarser(self) -> Coarser {
        match self {
            Self::Source
            | Self::Dem
            | Self::Filled
            | Self::RoutingSurface
            | Self::CatchmentProbability(_) => Coarser::Mean,
            Self::FillDepth | Self::Accumulation | Self::Weighted | Self::StreamProbability => {
                Coarser::Greatest
            }
            Self::Direction | Self::CutFill => Coarser::First,
        }
    }
}
