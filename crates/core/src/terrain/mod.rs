//! What a DEM is like, and how it looks.

mod contours;
mod full_rectangle;
mod hillshade;
mod summary;
#[cfg(test)]
pub(crate) mod tests_support;

pub use contours::{Contour, contours};
pub use full_rectangle::{Rectangle, largest_full_rectangle, outside};
pub use hillshade::{Light, hillshade};
pub use summary::{Summary, Void, summarise};
