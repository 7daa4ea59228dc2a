//! What a DEM is like, and how it looks.

mod contours;
mod derivatives;
mod error_correlation;
mod full_rectangle;
mod hillshade;
mod mend;
mod position;
mod quality;
mod seams;
mod summary;
#[cfg(test)]
pub(crate) mod tests_support;
mod vertical_error;

pub use contours::{Contour, contours};
pub(crate) use derivatives::slope_at;
pub use derivatives::{Curvatures, aspect, curvatures, slope};
pub use error_correlation::{ErrorEstimate, error_correlation};
pub use full_rectangle::{Rectangle, largest_full_rectangle, outside};
pub use hillshade::{Light, hillshade, hillshade_from_four_sides};
pub use mend::{mend_spikes, remove_level, soften_steps};
pub use position::{Radius, topographic_position};
pub use quality::{LevelPatch, Quality, Spike, examine};
pub use seams::{NO_PIECE, Seam, SeamLine, seam_lines, seams};
pub use summary::{Summary, Void, summarise};
pub use vertical_error::vertical_error;
