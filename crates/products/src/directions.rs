//! Flow directions in the codes that a receiver wants.

use std::path::Path;

use bothros_core::routing::{DIRECTION_NODATA, OUTLET};
use bothros_core::{Coarser, Frame, Grid};
use bothros_formats::Crs;
use serde::{Deserialize, Serialize};

use crate::rasters::{FLOW_DIRECTION, RasterProduct};

/// How flow directions are coded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum DirectionCodes {
    /// powers of two, clockwise from east
    #[default]
    PowersOfTwo,
    /// 1 to 8, clockwise from east
    Numbers,
    /// degrees, clockwise from north
    Degrees,
}

/// 1 to 8.
const NUMBERS: RasterProduct<u8> = RasterProduct {
    name: FLOW_DIRECTION.name,
    meaning: "D8 flow direction: 1 E, 2 SE, 3 S, 4 SW, 5 W, 6 NW, 7 N, 8 NE, 0 outlet or closed-basin bottom",
    unit: "",
    nodata: DIRECTION_NODATA,
    overview: Coarser::First,
};

/// Degrees.
const DEGREES: RasterProduct<f32> = RasterProduct {
    name: FLOW_DIRECTION.name,
    meaning: "D8 flow direction, degrees clockwise from north: 90 E, 135 SE, 180 S, 225 SW, 270 W, 315 NW, 0 N, 45 NE, -1 outlet or closed-basin bottom",
    unit: "degree",
    nodata: f32::NAN,
    overview: Coarser::First,
};

/// Names of the eight directions, clockwise from east.
const WAYS: [&str; 8] = ["E", "SE", "S", "SW", "W", "NW", "N", "NE"];

impl DirectionCodes {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::PowersOfTwo, Self::Numbers, Self::Degrees];

    /// The name in forms.
    pub fn key(self) -> &'static str {
        match self {
            Self::PowersOfTwo => "powers_of_two",
            Self::Numbers => "numbers",
            Self::Degrees => "degrees",
        }
    }

    /// For people.
    pub fn title(self) -> &'static str {
        match self {
            Self::PowersOfTwo => "powers of two, clockwise from east",
            Self::Numbers => "1 to 8, clockwise from east",
            Self::Degrees => "degrees, clockwise from north",
        }
    }

    /// What the values of the raster are.
    pub fn meaning(self) -> &'static str {
        match self {
            Self::PowersOfTwo => FLOW_DIRECTION.meaning,
            Self::Numbers => NUMBERS.meaning,
            Self::Degrees => DEGREES.meaning,
        }
    }

    /// The code of a direction, by its place clockwise from east; of an outlet for none.
    ///
    /// ```
    /// use bothros_products::DirectionCodes;
    /// let south = DirectionCodes::ALL.map(|codes| codes.of(Some(2)));
    /// assert_eq!(south, [4.0, 3.0, 180.0]);
    /// assert_eq!(DirectionCodes::ALL.map(|codes| codes.of(None)), [0.0, 0.0, -1.0]);
    /// ```
    pub fn of(self, place: Option<u32>) -> f32 {
        match (self, place) {
            (Self::Degrees, None) => -1.0,
            (_, None) => 0.0,
            (Self::PowersOfTwo, Some(place)) => (1u32 << place) as f32,
            (Self::Numbers, Some(place)) => place as f32 + 1.0,
            (Self::Degrees, Some(place)) => ((place * 45 + 90) % 360) as f32,
        }
    }

    /// Codes with their directions, clockwise from east, and that of an outlet.
    pub fn told(self) -> (Vec<String>, String) {
        let ways = WAYS.iter().zip(0u32..).map(|(way, place)| format!("{} {way}", self.of(Some(place))));
        (ways.collect(), self.of(None).to_string())
    }

    /// Writes directions (D8 codes of the core) in these codes: a GeoTIFF, or NetCDF.
    ///
    /// # Errors
    /// Those of [`RasterProduct::write`].
    pub fn write(
        self,
        path: &Path,
        directions: &Grid<u8>,
        frame: &Frame,
        crs: &Crs,
        netcdf: bool,
    ) -> bothros_formats::Result<()> {
        let place = |code: u8| (code != OUTLET).then(|| code.trailing_zeros());
        match self {
            Self::PowersOfTwo if netcdf => FLOW_DIRECTION.write_netcdf(path, directions, frame, crs),
            Self::PowersOfTwo => FLOW_DIRECTION.write(path, directions, frame, crs),
            Self::Numbers => {
                let code = |&c: &u8| if c == DIRECTION_NODATA { c } else { self.of(place(c)) as u8 };
                let codes = directions.values().iter().map(code).collect();
                let codes = Grid::from_vec(directions.rows(), directions.cols(), codes);
                match netcdf {
                    true => NUMBERS.write_netcdf(path, &codes, frame, crs),
                    false => NUMBERS.write(path, &codes, frame, crs),
                }
            }
            Self::Degrees => {
                let code = |&c: &u8| if c == DIRECTION_NODATA { f32::NAN } else { self.of(place(c)) };
                let codes = directions.values().iter().map(code).collect();
                let codes = Grid::from_vec(directions.rows(), directions.cols(), codes);
                match netcdf {
                    true => DEGREES.write_netcdf(path, &codes, frame, crs),
                    false => DEGREES.write(path, &codes, frame, crs),
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::NEIGHBOURS;

    #[test]
    fn codes_name_the_directions_that_the_core_means() {
        for neighbour in NEIGHBOURS {
            let place = neighbour.code.trailing_zeros();
            let way = WAYS[place as usize];
            assert_eq!(way.contains('S'), neighbour.rows > 0, "{way}");
            assert_eq!(way.contains('N'), neighbour.rows < 0, "{way}");
            assert_eq!(way.contains('E'), neighbour.cols > 0, "{way}");
            assert_eq!(way.contains('W'), neighbour.cols < 0, "{way}");
            // Degrees are those of the step itself.
            let degrees =
                (neighbour.cols as f32).atan2(-neighbour.rows as f32).to_degrees().rem_euclid(360.0);
            assert!((DirectionCodes::Degrees.of(Some(place)) - degrees).abs() < 1e-3, "{way}");
            for codes in DirectionCodes::ALL {
                let told = format!("{} {way}", codes.of(Some(place)));
                assert!(codes.meaning().contains(&told), "{told}: {}", codes.meaning());
            }
        }
    }
}
