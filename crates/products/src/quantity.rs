//! Quantities: what a number is, in which unit, and with how many digits it is written.

use bothros_formats::FieldKind;

/// A unit of measurement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unit {
    /// none: numbers of things, shares, text
    One,
    /// metre
    Metre,
    /// kilometre
    Kilometre,
    /// square metre
    SquareMetre,
    /// square kilometre
    SquareKilometre,
    /// cubic metre
    CubicMetre,
    /// millimetre
    Millimetre,
    /// metre of drop to a metre of length
    MetrePerMetre,
    /// kilometre of streams to a square kilometre
    PerKilometre,
    /// number of things to a square kilometre
    PerSquareKilometre,
    /// hour
    Hour,
    /// unit of the CRS
    Crs,
    /// byte
    Byte,
}

impl Unit {
    /// As it is written behind a number; empty where there is none.
    pub fn symbol(self) -> &'static str {
        match self {
            Self::One => "",
            Self::Metre => "m",
            Self::Kilometre => "km",
            Self::SquareMetre => "m²",
            Self::SquareKilometre => "km²",
            Self::CubicMetre => "m³",
            Self::Millimetre => "mm",
            Self::MetrePerMetre => "m/m",
            Self::PerKilometre => "km/km²",
            Self::PerSquareKilometre => "1/km²",
            Self::Hour => "h",
            Self::Crs => "CRS units",
            Self::Byte => "B",
        }
    }

    /// The ending that names of columns have for it; empty where they have none.
    pub fn suffix(self) -> &'static str {
        match self {
            Self::Metre => "_m",
            Self::Kilometre => "_km",
            Self::SquareMetre => "_m2",
            Self::SquareKilometre => "_km2",
            Self::CubicMetre => "_m3",
            Self::Millimetre => "_mm",
            Self::PerKilometre => "_km_km2",
            Self::PerSquareKilometre => "_per_km2",
            Self::Hour => "_h",
            Self::One | Self::MetrePerMetre | Self::Crs | Self::Byte => "",
        }
    }
}

/// What a column holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Quantity {
    /// tells one row from others
    Identifier,
    /// stream order
    Order,
    /// number of things
    Count,
    /// length along something, or a distance, in metres
    Length,
    /// length of an outline, in kilometres
    Perimeter,
    /// difference of elevation along something, in metres
    Drop,
    /// depth or height, in metres
    Depth,
    /// elevation above the DEM's datum, in metres
    Elevation,
    /// area in square kilometres
    Area,
    /// area in square metres
    SmallArea,
    /// volume, in cubic metres
    Volume,
    /// depth of rain or runoff, in millimetres
    Rain,
    /// drop over length
    Slope,
    /// ratio of two like quantities
    Ratio,
    /// share of one; on screens in percent
    Share,
    /// length of streams over area
    Density,
    /// number of things over area
    Frequency,
    /// a time that something takes, in hours
    Duration,
    /// easting or northing
    Coordinate,
    /// size of a file
    Bytes,
    /// yes or no
    Flag,
    /// words
    Text,
}

impl Quantity {
    /// The unit.
    pub fn unit(self) -> Unit {
        match self {
            Self::Length | Self::Drop | Self::Depth | Self::Elevation => Unit::Metre,
            Self::Perimeter => Unit::Kilometre,
            Self::Area => Unit::SquareKilometre,
            Self::SmallArea => Unit::SquareMetre,
            Self::Volume => Unit::CubicMetre,
            Self::Rain => Unit::Millimetre,
            Self::Slope => Unit::MetrePerMetre,
            Self::Density => Unit::PerKilometre,
            Self::Frequency => Unit::PerSquareKilometre,
            Self::Duration => Unit::Hour,
            Self::Coordinate => Unit::Crs,
            Self::Bytes => Unit::Byte,
            Self::Identifier
            | Self::Order
            | Self::Count
            | Self::Ratio
            | Self::Share
            | Self::Flag
            | Self::Text => Unit::One,
        }
    }

    /// How files keep it.
    pub fn kind(self) -> FieldKind {
        match self {
            Self::Identifier | Self::Order | Self::Count | Self::Bytes => FieldKind::Integer,
            Self::Flag => FieldKind::Boolean,
            Self::Text => FieldKind::Text,
            _ => FieldKind::Real,
        }
    }

    /// Digits behind the point: a centimetre of length, a square metre of area, a millimetre of a coordinate, and as many
    /// of a slope as tell a millimetre of drop on a kilometre.
    pub fn decimals(self) -> usize {
        match self {
            Self::Length | Self::Drop | Self::Depth | Self::Elevation | Self::Rain => 2,
            Self::Perimeter => 5,
            Self::Area => 6,
            Self::SmallArea | Self::Volume => 1,
            Self::Slope => 6,
            Self::Ratio | Self::Share | Self::Density | Self::Frequency | Self::Duration => 4,
            Self::Coordinate => 3,
            _ => 0,
        }
    }

    /// A value with the digits that are written.
    pub fn round(self, value: f64) -> f64 {
        let scale = 10f64.powi(self.decimals() as i32);
        let rounded = (value * scale).round() / scale;
        // Beyond 2^53 a number has no digits to lose; and no zero is negative.
        if rounded.is_finite() { rounded + 0.0 } else { value }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Quantity::Length, 1_234.567_89, 1_234.57)]
    #[case(Quantity::Area, 0.123_456_789, 0.123_457)]
    #[case(Quantity::Slope, 0.000_001_4, 0.000_001)]
    #[case(Quantity::Ratio, 1.049_96, 1.05)]
    #[case(Quantity::Coordinate, 502_340.123_490, 502_340.123)]
    #[case(Quantity::Drop, -0.001, 0.0)]
    #[case(Quantity::Length, 1e300, 1e300)]
    fn numbers_have_the_digits_of_their_quantity(
        #[case] of: Quantity,
        #[case] value: f64,
        #[case] written: f64,
    ) {
        assert_eq!(of.round(value), written);
        assert!(!(of.round(value) == 0.0 && of.round(value).is_sign_negative()));
    }
}
