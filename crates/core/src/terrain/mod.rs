//! What a DEM is like, and how it looks.

mod contours;
mod derivatives;
mod full_rectangle;
mod hillshade;
mod position;
mod summary;
#[cfg(test)]
pub(crate) mod tests_support;

pub use contours::{Contour, contours};
pub use derivatives::{Curvatures, aspect, curvatures, slope};
pub use full_rectangle::{Rectangle, largest_full_rectangle, outside};
pub use hillshade::{Light, hillshade};
pub use position::{Radius, topographic_position};
pub use summary::{Summary, Void, summarise};
