//! Calibrating the threshold: how well the network at each of many thresholds agrees with mapped streams, and
//! what the network's own form says.

mod agreement;
mod around;
mod constant_drop;
mod left_out;
mod mapped;
mod shortfalls;
mod slope_area;
mod suggest;
mod surveyed;
mod thinning;

pub use agreement::{MappedStreams, Scores, agreement};
pub use constant_drop::{ConstantDrop, DIFFERENT, DropTest, FEWEST_STREAMS, constant_drop, persistent_drop};
pub use left_out::{Halves, halves, lines_where};
pub use shortfalls::{Compared, Comparison, Matched, Reason, Shortfall, Side, compare};
pub use slope_area::{Bend, SlopeClass, bend, slope_by_area};
pub use suggest::{Suggested, by_agreement, by_density, thresholds_up_to};
pub use surveyed::{FEWEST_CELLS, HeadAreas, SlopeFit, Surveyed, USUALLY_OFF_CELLS, surveyed_heads};
pub use thinning::{Form, drop_tests, forms};
