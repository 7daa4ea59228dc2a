//! What an archive offers, reduced to what is needed here.

use serde::{Deserialize, Serialize};

/// West, south, east, north in degrees (WGS 84).
pub type Extent = [f64; 4];

/// A set of elevation files of one kind.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Collection {
    /// its name in the archive
    pub id: String,
    /// its name for people
    pub title: String,
    /// what it is
    pub description: String,
    /// on what terms it may be used
    pub licence: String,
    /// who made it
    pub source: String,
    /// cell size on the ground, metres, if stated
    pub resolution_m: Option<f64>,
    /// what it covers
    pub extent: Extent,
}

/// A file of elevations, some part of which can be fetched.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Offer {
    /// its name in the archive
    pub id: String,
    /// when the ground was surveyed, as the archive tells it
    pub date: String,
    /// what it covers
    pub extent: Extent,
    /// where the file is
    pub address: String,
    /// rows and columns of the whole, if stated
    pub shape: Option<[usize; 2]>,
    /// EPSG code of the CRS, if stated
    pub crs: Option<String>,
}

impl Offer {
    /// How many cells of it lie within an extent, about; `None` where its size is not told.
    pub fn cells_within(&self, wanted: &Extent) -> Option<f64> {
        let [rows, cols] = self.shape?;
        let share = |from: f64, to: f64, least: f64, most: f64| {
            ((to.min(most) - from.max(least)) / (to - from)).clamp(0.0, 1.0)
        };
        let [west, south, east, north] = self.extent;
        let part = share(west, east, wanted[0], wanted[2]) * share(south, north, wanted[1], wanted[3]);
        Some(part * rows as f64 * cols as f64)
    }
}

/// Whether two extents share more than an edge.
pub(crate) fn meet(a: &Extent, b: &Extent) -> bool {
    a[0] < b[2] && b[0] < a[2] && a[1] < b[3] && b[1] < a[3]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_are_counted_by_share() {
        let offer = Offer {
            id: "a".into(),
            date: String::new(),
            extent: [0.0, 0.0, 2.0, 1.0],
            address: String::new(),
            shape: Some([100, 200]),
            crs: None,
        };
        assert_eq!(offer.cells_within(&[0.5, 0.0, 1.0, 3.0]), Some(5000.0));
        assert_eq!(offer.cells_within(&[-9.0, -9.0, 9.0, 9.0]), Some(20_000.0));
        assert_eq!(offer.cells_within(&[3.0, 0.0, 4.0, 1.0]), Some(0.0));
        assert!(meet(&offer.extent, &[1.9, 0.9, 3.0, 3.0]) && !meet(&offer.extent, &[2.0, 0.0, 3.0, 1.0]));
    }
}
