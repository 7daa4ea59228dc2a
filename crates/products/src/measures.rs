//! What is measured of catchments, as a table.

use bothros_core::catchments::{Estimate, Formula, Measures};

use crate::Quantity::{
    Area, Coordinate, Density, Drop, Duration, Elevation, Frequency, Identifier, Length, Perimeter, Ratio,
    Share, Slope, Text,
};
use crate::{Column, Row, Table};

/// What is measured of catchments.
pub const MEASURES: Table = Table {
    name: "measures",
    title: "Measures",
    meaning: "What is measured of a catchment or a sub-basin; elevations are those of the conditioned ground.",
    shape: None,
    columns: &[
        Column::new(
            "catchment_id",
            "Catchment",
            Identifier,
            "Number of the catchment, or of the one that holds the sub-basin.",
        )
        .nullable()
        .of("catchments", "catchment_id"),
        Column::new(
            "subbasin_id",
            "Sub-basin",
            Identifier,
            "Number of the sub-basin; none in the row of a catchment.",
        )
        .nullable()
        .of("subbasins", "subbasin_id"),
        Column::new("name", "Name", Text, "Its name, or that of its pour point, if it has one.").nullable(),
        Column::new("area_km2", "Area", Area, "Area of its cells."),
        Column::new("perimeter_km", "Perimeter", Perimeter, "Length of its divide along the edges of cells."),
        Column::new("least_elevation_m", "Lowest", Elevation, "Lowest elevation.").nullable(),
        Column::new("mean_elevation_m", "Mean elevation", Elevation, "Mean of the elevations of its cells.")
            .nullable(),
        Column::new("median_elevation_m", "Median", Elevation, "Half of its cells lie higher.").nullable(),
        Column::new("most_elevation_m", "Highest", Elevation, "Highest elevation.").nullable(),
        Column::new("relief_m", "Relief", Drop, "Highest less lowest elevation.").nullable(),
        Column::new(
            "mean_slope",
            "Mean slope",
            Slope,
            "Mean slope of the ground over its cells (Horn 1981).",
        ),
        Column::new(
            "longest_flow_path_m",
            "Longest path",
            Length,
            "Length of the longest flow path, from the divide to the outlet, along the centres of cells.",
        ),
        Column::new(
            "longest_flow_path_drop_m",
            "Drop of longest path",
            Drop,
            "Fall of the ground along the longest flow path.",
        ),
        Column::new(
            "main_stem_m",
            "Main stem",
            Length,
            "Length of the stream that follows the larger contributing area upstream from the outlet.",
        )
        .nullable(),
        Column::new(
            "main_stem_drop_m",
            "Drop of main stem",
            Drop,
            "Fall from the main stem's headwater to the outlet.",
        )
        .nullable(),
        Column::new("main_stem_slope", "Slope of main stem", Slope, "Drop of the main stem over its length.")
            .nullable(),
        Column::new(
            "slope_10_85",
            "Slope 10-85",
            Slope,
            "Slope between the points at 10 % and 85 % of the main stem from the outlet (Benson 1962).",
        )
        .nullable(),
        Column::new(
            "outlet_to_centroid_m",
            "Outlet to centroid",
            Length,
            "Distance along the main stem from the outlet to its point nearest to the centroid.",
        )
        .nullable(),
        Column::new("centroid_x", "Centroid E", Coordinate, "Easting of the centre of its area."),
        Column::new("centroid_y", "Centroid N", Coordinate, "Northing of the centre of its area."),
        Column::new("stream_length_m", "Streams", Length, "Length of its streams."),
        Column::new(
            "drainage_density_km_km2",
            "Density",
            Density,
            "Length of streams over area (Horton 1945).",
        ),
        Column::new(
            "stream_frequency_per_km2",
            "Frequency",
            Frequency,
            "Number of streams over area (Horton 1945).",
        ),
        Column::new(
            "form_factor",
            "Form factor",
            Ratio,
            "Area over the square of the longest flow path (Horton 1932).",
        )
        .nullable(),
        Column::new(
            "circularity",
            "Circularity",
            Ratio,
            "Area over that of a circle of the same perimeter (Miller 1953).",
        ),
        Column::new(
            "elongation",
            "Elongation",
            Ratio,
            "Diameter of a circle of the same area over the longest flow path (Schumm 1956).",
        )
        .nullable(),
        Column::new(
            "compactness",
            "Compactness",
            Ratio,
            "Perimeter over that of a circle of the same area (Gravelius 1914).",
        ),
        Column::new(
            "relief_ratio",
            "Relief ratio",
            Slope,
            "Relief over the longest flow path (Schumm 1956).",
        )
        .nullable(),
        Column::new("ruggedness", "Ruggedness", Ratio, "Relief times drainage density (Strahler 1958).")
            .nullable(),
        Column::new(
            "hypsometric_integral",
            "Hypsometric integral",
            Ratio,
            "Mean less lowest elevation over relief (Pike and Wilson 1971).",
        )
        .nullable(),
        Column::new("level_share", "Level", Share, "Share of its cells whose ground is level."),
        concentration(Formula::Kirpich),
        concentration(Formula::California),
        concentration(Formula::Giandotti),
        concentration(Formula::Temez),
        concentration(Formula::BransbyWilliams),
        concentration(Formula::Passini),
        concentration(Formula::Ventura),
        concentration(Formula::Lag),
        Column::new("curve_number", "Curve number", Ratio, "Curve number that the lag equation was given.")
            .nullable(),
    ],
};

/// The column of a formula for the time of concentration.
const fn concentration(formula: Formula) -> Column {
    let (name, title, meaning) = match formula {
        Formula::Kirpich => {
            ("tc_kirpich_h", "tc Kirpich", "Time of concentration, Kirpich 1940; made for 0.4 to 45 ha.")
        }
        Formula::California => {
            ("tc_california_h", "tc California", "Time of concentration, California culvert practice 1942.")
        }
        Formula::Giandotti => (
            "tc_giandotti_h",
            "tc Giandotti",
            "Time of concentration, Giandotti 1934; made for 170 to 70 000 km².",
        ),
        Formula::Temez => {
            ("tc_temez_h", "tc Témez", "Time of concentration, Témez 1978; made for 1 to 3 000 km².")
        }
        Formula::BransbyWilliams => {
            ("tc_bransby_williams_h", "tc Bransby Williams", "Time of concentration, Bransby Williams 1922.")
        }
        Formula::Passini => ("tc_passini_h", "tc Passini", "Time of concentration, Passini 1914."),
        Formula::Ventura => ("tc_ventura_h", "tc Ventura", "Time of concentration, Ventura 1905."),
        Formula::Lag => (
            "tc_lag_equation_h",
            "tc lag equation",
            "Time of concentration, lag over 0.6, NRCS National Engineering Handbook 630, ch. 15; none without a curve number.",
        ),
    };
    Column::new(name, title, Duration, meaning).nullable()
}

/// The row of a catchment, or of a sub-basin in it.
pub fn measures_row(
    (catchment_id, subbasin_id): (Option<u32>, Option<u32>),
    name: Option<String>,
    of: &Measures,
    estimates: &[Estimate],
    curve_number: Option<f64>,
) -> Row {
    let e = of.elevations.as_ref();
    let stem = of.stem.as_ref();
    let hours = |formula| estimates.iter().find(|e| e.formula == formula).and_then(|e| e.hours.ok());
    let mut row: Row = vec![
        catchment_id.into(),
        subbasin_id.into(),
        name.into(),
        of.area_km2.into(),
        of.perimeter_km.into(),
        e.map(|e| e.least_m).into(),
        e.map(|e| e.mean_m).into(),
        e.map(|e| e.median_m).into(),
        e.map(|e| e.most_m).into(),
        of.relief_m().into(),
        of.mean_slope.into(),
        (of.longest_path_km * 1000.0).into(),
        of.longest_path_drop_m.into(),
        stem.map(|s| s.length_m).into(),
        stem.map(|s| s.drop_m).into(),
        stem.filter(|s| s.length_m > 0.0).map(|s| s.drop_m / s.length_m).into(),
        stem.and_then(|s| s.slope_10_85).into(),
        stem.map(|s| s.to_centroid_m).into(),
        of.centroid[0].into(),
        of.centroid[1].into(),
        (of.stream_length_km * 1000.0).into(),
        of.drainage_density().into(),
        of.stream_frequency().into(),
        of.form_factor().into(),
        of.circularity().into(),
        of.elongation().into(),
        of.compactness().into(),
        of.relief_ratio().into(),
        of.ruggedness().into(),
        of.hypsometric_integral().into(),
        of.level_share.into(),
    ];
    row.extend(Formula::ALL.map(|formula| hours(formula).into()));
    row.push(curve_number.into());
    row
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::catchments::{Flow, concentration};

    #[test]
    fn every_formula_has_its_column_and_every_row_its_values() {
        for formula in Formula::ALL {
            let column = MEASURES.column(&format!("tc_{}_h", formula.key()));
            assert!(column.is_some_and(|c| c.quantity == Duration), "{formula:?}");
        }
        let measures = Measures {
            area_km2: 2.0,
            perimeter_km: 7.0,
            elevations: None,
            mean_slope: 0.1,
            longest_path_km: 2.5,
            longest_path_drop_m: 100.0,
            stem: None,
            centroid: [1.0, 2.0],
            stream_length_km: 0.0,
            streams: 0,
            level_share: 0.0,
        };
        let flow = Flow {
            area_km2: 2.0,
            length_km: 2.5,
            drop_m: 100.0,
            mean_height_m: 40.0,
            mean_slope: 0.1,
            curve_number: None,
        };
        let row = measures_row((Some(1), None), None, &measures, &concentration(&flow), None);
        assert_eq!(row.len(), MEASURES.columns.len());
        let csv = MEASURES.csv([row]).unwrap();
        let text = String::from_utf8(csv).unwrap();
        assert!(text.starts_with("catchment_id,subbasin_id,name,area_km2"), "{text}");
        // 0.0195 x 2500^0.77 x 0.04^-0.385 = 27.84 minutes.
        assert!(text.contains(",0.4640,"), "{text}");
    }
}
