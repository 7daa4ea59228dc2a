//! Pour points and what drains to them.

mod dams;
mod elsewhere;
mod many_points;
pub(crate) mod measures;
pub(crate) mod pour_points;
mod published;
pub(crate) mod subbasins;
pub(crate) mod uncertainty;
pub(crate) mod zonal;

pub use bothros_products::CURVE_NUMBERS;
pub(crate) use dams::features;
pub use dams::{
    DamFound, FeatureKey, SiteChoice, SiteStudied, add_points_at_dams, add_points_at_inflows, dams,
    set_least_inflow, sites,
};
pub use elsewhere::{Elsewhere, elsewhere};
pub use many_points::{PointFile, Wherever, add_points_along, add_points_from};
pub use measures::{CatchmentMeasures, Concentration, measures_of, set_concentration};
pub use pour_points::{
    CatchmentFacts, MOST_AT_ONCE, ManyPlaces, PourPointPlace, Preview, add_pour_point, add_pour_points,
    delete_pour_point, move_pour_point, preview, rename_pour_point, set_snapping,
};
pub use published::{Compared, Published, boundary, compared, published_boundaries};
pub use subbasins::{
    SubbasinChoice, Subbasins, delineated, division_title, forget_subbasin_changes, merge_subbasin,
    name_subbasin, set_division, split_subbasin,
};
pub use uncertainty::{
    DoubtfulCatchment, REALISATIONS, RealiseChoice, UncertaintyFacts, start_realisations, uncertainty_key,
};
pub use zonal::{CurveNumbers, ZonalFacts, ZonalOf, zonal_of};
