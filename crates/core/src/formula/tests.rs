//! Formulas read, checked and computed.

use proptest::prelude::*;
use rstest::rstest;

use super::*;
use crate::{Cell, Frame, Grid, Silent};

/// Two rows of three cells: elevations with a hole, slopes, upstream cells, orders.
const ELEVATION: [f32; 6] = [100.0, 120.0, f32::NAN, 90.0, 80.0, 110.0];
const SLOPE: [f32; 6] = [0.02, 0.1, 0.1, 0.06, 0.0, 0.3];
const UPSTREAM: [u32; 6] = [0, 9, 3, u32::MAX, 99, 999];
const ORDER: [u8; 6] = [0, 1, 3, 4, 5, 255];

fn named(name: &str) -> Option<Named> {
    let unit = match name {
        "elevation" => Unit::of("m", 1),
        "slope" | "order" => Unit::none(),
        "contributing_area" => Unit::of("m", 2),
        "rain" => Unit::read("mm"),
        "streams" => return Some(Named::Layer { unit: None, fields: vec!["rank".into()] }),
        "contour_lines" => return Some(Named::Layer { unit: Some(Unit::of("m", 1)), fields: Vec::new() }),
        _ => return None,
    };
    Some(Named::Raster(unit))
}

/// Two lines that share a cell.
fn lines() -> Features {
    let fields = [("rank".to_owned(), vec![3.0, f64::NAN])].into();
    Features { cells: vec![vec![0, 1], vec![1, 5]], values: vec![90.0, f64::NAN], fields }
}

/// A grid of cells of 4 m.
fn frame((rows, cols): (usize, usize)) -> Frame {
    Frame { rows, cols, left: 0.0, top: 0.0, cell_size: 4.0, unit_m: 1.0 }
}

fn raster(name: &str) -> Raster<'static> {
    let values = match name {
        "elevation" => Values::F32(&ELEVATION),
        "slope" | "rain" => Values::F32(&SLOPE),
        "order" => Values::U8(&ORDER, 255),
        _ => Values::U32 { values: &UPSTREAM, none: u32::MAX, plus: 1.0, times: 16.0 },
    };
    let Some(Named::Raster(unit)) = named(name) else { panic!("{name} is no raster") };
    Raster { unit, values }
}

fn computed(text: &str) -> (Vec<f32>, Vec<Odd>, Kind) {
    let checked = Formula::read(text).and_then(|f| f.check(&named)).unwrap_or_else(|e| panic!("{text}: {e}"));
    let rasters: Vec<Raster> = checked.names.iter().map(|n| raster(n)).collect();
    let layers: Vec<Features> = checked.layers.iter().map(|_| lines()).collect();
    let (grid, odds) = checked.compute(&rasters, &layers, &frame((2, 3)), &Silent).unwrap();
    (grid.values().to_vec(), odds, checked.kind)
}

fn same(a: &[f32], b: &[f32]) -> bool {
    a.iter().zip(b).all(|(a, b)| (a.is_nan() && b.is_nan()) || (a - b).abs() <= 1e-5 * b.abs().max(1.0))
}

const NONE: f32 = f32::NAN;

#[rstest]
#[case("1 + 2 * 3 ^ 2", [19.0; 6])]
#[case("-2 ^ 2", [-4.0; 6])]
#[case("2 ^ 3 ^ 2", [512.0; 6])]
#[case("(1 + 2) × 3 − 4 / 2", [7.0; 6])]
#[case("1e2 + .5", [100.5; 6])]
#[case("elevation - min(elevation)", [20.0, 40.0, NONE, 10.0, 0.0, 30.0])]
#[case("(elevation - min(elevation)) / range(elevation)", [0.5, 1.0, NONE, 0.25, 0.0, 0.75])]
#[case("mean(elevation)", [100.0; 6])]
#[case("sum(order)", [13.0; 6])]
#[case("log10(contributing_area / 16)", [0.0, 1.0, 0.60206, NONE, 2.0, 3.0])]
#[case("if slope > 0.05 and order >= 3 then elevation else none", [NONE, NONE, NONE, 90.0, NONE, NONE])]
#[case("slope ≥ 0.1", [0.0, 1.0, 1.0, 0.0, 0.0, 1.0])]
#[case("not slope >= 0.1 or slope = 0.3", [1.0, 0.0, 0.0, 1.0, 1.0, 1.0])]
#[case("max(elevation, 95)", [100.0, 120.0, NONE, 95.0, 95.0, 110.0])]
#[case("range(1, 5, 3) + mean(2, 4)", [7.0; 6])]
#[case("round(2.5) + round(-2.5) + floor(-0.5) + ceil(0.2)", [0.0; 6])]
#[case("atan2(1, 1) * 4", [std::f32::consts::PI; 6])]
#[case("IF slope > 1 THEN 1 ELSE IF slope > 0.05 THEN 2 ELSE 3", [3.0, 2.0, 2.0, 2.0, 3.0, 2.0])]
// Around cells of 4 m: themselves alone, those beside them, all.
#[case("max(elevation within 3 m)", [100.0, 120.0, NONE, 90.0, 80.0, 110.0])]
#[case("max(elevation within 4 m)", [120.0, 120.0, 120.0, 100.0, 120.0, 110.0])]
#[case("min(elevation within 1 cell)", [90.0, 80.0, 110.0, 80.0, 80.0, 80.0])]
#[case("range(elevation within 2 cells)", [40.0, 40.0, 40.0, 40.0, 40.0, 40.0])]
#[case("sum(elevation within 13.13 ft)", [310.0, 300.0, 230.0, 270.0, 400.0, 190.0])]
#[case("mean(2 * elevation within 0.1 km)", [200.0; 6])]
#[case("mean(elevation - mean(elevation) within 9 cells)", [0.0; 6])]
// Along two lines that share a cell, which is the first one's.
#[case("max(elevation along streams)", [120.0, 120.0, NONE, NONE, NONE, 120.0])]
#[case("sum(elevation inside streams)", [220.0, 220.0, NONE, NONE, NONE, 230.0])]
#[case("on(streams)", [1.0, 1.0, 0.0, 0.0, 0.0, 1.0])]
#[case("distance(streams) + elevation * 0", [0.0, 0.0, NONE, 4.0, 4.0, 0.0])]
#[case("value(contour_lines)", [90.0, 90.0, NONE, NONE, NONE, NONE])]
#[case("value(streams, rank) + 1", [4.0, 4.0, NONE, NONE, NONE, NONE])]
#[case("max(distance(streams) within 1 cell)", [4.0, 4.0, 4.0, 4.0, 4.0, 4.0])]
// Where one side decides, the other need not be known.
#[case("slope < 1 or elevation > 0", [1.0; 6])]
#[case("slope > 1 and elevation > 0", [0.0; 6])]
fn a_formula_gives_what_mathematics_does(#[case] text: &str, #[case] expected: [f32; 6]) {
    let (values, odds, _) = computed(text);
    assert!(same(&values, &expected), "{text}: {values:?}");
    assert_eq!(odds, [], "{text}");
}

#[rstest]
#[case("elevation", "m")]
#[case("contributing_area / elevation", "m")]
#[case("sqrt(contributing_area)", "m")]
#[case("elevation ^ 3", "m³")]
#[case("1 / elevation", "1/m")]
#[case("sqrt(elevation)", "m^0.5")]
#[case("rain * contributing_area", "m²·mm")]
#[case("log10(contributing_area)", "")]
#[case("mean(elevation within 2 km)", "m")]
#[case("distance(streams) ^ 2", "m²")]
#[case("on(streams)", "")]
#[case("elevation + 2", "m")]
#[case("slope > 0.05", "")]
fn the_unit_of_a_result_follows_from_its_parts(#[case] text: &str, #[case] expected: &str) {
    let checked = Formula::read(text).unwrap().check(&named).unwrap();
    assert_eq!(checked.kind.unit().to_string(), expected);
}

#[rstest]
#[case("elevation + contributing_area", (0, 29), "a number in m and a number in m² cannot be added")]
#[case("1 + (slope > 2)", (5, 14), "a sum takes a number")]
#[case("if slope then 1 else 2", (3, 8), "“if” takes a condition such as slope > 0.05")]
#[case("elevatoin * 2", (0, 9), "there is no raster elevatoin")]
#[case("2 * ln + 1", (4, 6), "ln is a function")]
#[case("logarithm(slope)", (0, 16), "there is no function logarithm")]
#[case("sin(elevation)", (4, 13), "takes a number without a unit")]
#[case("elevation ^ slope", (0, 17), "raised to a number that is typed")]
#[case("atan2(1)", (0, 8), "takes 2 in its brackets, not 1")]
#[case("1 +", (3, 3), "the formula ends here")]
#[case("1 + * 2", (4, 5), "“*” cannot stand here; a number, a raster, a function or “(” is expected")]
#[case("1 2", (2, 3), "“2” cannot stand here")]
#[case("(1 + 2", (0, 1), "never closed")]
#[case("1 + 2)", (5, 6), "closes none")]
#[case("if slope > 1 then 2", (19, 19), "the formula ends here")]
#[case("", (0, 0), "type a formula")]
#[case("1e999", (0, 5), "too large a number")]
#[case("if slope < 2 then elevation else contributing_area", (0, 50), "two results of one “if”")]
#[case("streams * 2", (0, 7), "streams is a layer: on(streams)")]
#[case("on(elevation)", (3, 12), "elevation is a raster, and a layer is expected")]
#[case("on(1)", (3, 4), "takes the name of a layer")]
#[case("max(elevation along nowhere)", (20, 27), "there is no layer nowhere")]
#[case("value(streams)", (6, 13), "the features of streams have no elevation")]
#[case("value(streams, rnk)", (15, 18), "no numbers of rnk; value(streams, …) knows rank")]
#[case("value(streams, 3)", (15, 16), "the name of a layer, and that of one of its fields")]
#[case("value(slope, rank)", (6, 11), "slope is a raster, and a layer is expected")]
#[case("value(streams, rank, 3)", (0, 23), "takes 2 in its brackets, not 3")]
#[case("sqrt(elevation within 3 m)", (0, 26), "sqrt takes no distance")]
#[case("max(elevation within 0 m)", (21, 24), "a distance is greater than 0")]
#[case("max(elevation within 3)", (22, 23), "m, km, ft or cells is expected")]
#[case("max(elevation within slope)", (21, 26), "a distance such as 250 m is expected")]
#[case("max(elevation along 3)", (20, 21), "the name of a layer is expected")]
#[case("3 $ 4", (2, 3), "“$” cannot stand here")]
fn what_is_wrong_is_told_where_it_stands(#[case] text: &str, #[case] at: (usize, usize), #[case] told: &str) {
    let error = Formula::read(text).and_then(|f| f.check(&named)).unwrap_err();
    assert!(error.what.contains(told), "{text}: {error}");
    assert_eq!((error.at.from, error.at.to), at, "{text}: {error}");
}

#[test]
fn what_cannot_be_computed_is_none_counted_and_placed() {
    let (values, odds, _) = computed("1 / slope");
    assert!(values[4].is_nan());
    let odd = odds[0];
    assert_eq!(
        (odds.len(), odd.kind, odd.cells, odd.first),
        (1, OddKind::Division, 1, Cell { row: 1, col: 1 })
    );
    let (_, odds, _) = computed("ln(slope - 0.05) + sqrt(slope - 0.01)");
    let told: Vec<_> = odds.iter().map(|o| (o.kind, o.cells, o.at.from, o.first)).collect();
    let at = |row, col| Cell { row, col };
    assert_eq!(told, [(OddKind::Logarithm, 2, 0, at(0, 0)), (OddKind::Root, 1, 19, at(1, 1))]);
    // Cells that are none already are not counted.
    let (_, odds, _) = computed("elevation / (slope - slope)");
    assert_eq!(odds[0].cells, 5);
    let (_, odds, _) = computed("10 ^ 30 * 10 ^ 30 * elevation");
    assert_eq!((odds[0].kind, odds[0].cells), (OddKind::TooLarge, 5));
    let (_, odds, _) = computed("(slope - 1) ^ 0.5");
    assert_eq!((odds[0].kind, odds[0].cells), (OddKind::Power, 6));
    // What an “if” leaves aside is not counted.
    let (values, odds, _) = computed("if slope > 0 then 1 / slope else 0");
    assert!(odds.is_empty() && values[4] == 0.0, "{odds:?}");
    let (_, odds, _) = computed("if slope >= 0 then 1 / slope else 0");
    assert_eq!(odds[0].cells, 1);
}

#[test]
fn formulas_that_nobody_can_read_are_refused_at_once() {
    let deep = format!("{}1{}", "(".repeat(5000), ")".repeat(5000));
    for text in [
        &deep[..3999],
        &format!("{}1", "-".repeat(3000)),
        &format!("1{}", "+1".repeat(1000)),
        &"2^".repeat(1500),
        &format!("{} slope > 1 {}", "not ".repeat(900), ""),
        &"1+".repeat(3000),
    ] {
        let begun = std::time::Instant::now();
        assert!(Formula::read(text).is_err(), "{}", &text[..20]);
        assert!(begun.elapsed().as_secs_f64() < 1.0);
    }
}

/// A random formula of numbers, and what it is worth in a cell.
fn random() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        (-50i32..50).prop_map(|n| if n < 0 { format!("({n})") } else { n.to_string() }),
        Just("a".to_owned()),
        Just("b".to_owned()),
    ];
    leaf.prop_recursive(5, 40, 3, |inner| {
        prop_oneof![
            (inner.clone(), "[-+*/]", inner.clone()).prop_map(|(a, s, b)| format!("({a} {s} {b})")),
            (prop_oneof![Just("ln"), Just("sqrt"), Just("abs"), Just("sin"), Just("floor")], inner.clone())
                .prop_map(|(f, a)| format!("{f}({a})")),
            (inner.clone(), inner.clone(), inner.clone())
                .prop_map(|(a, b, c)| format!("(if {a} > {b} then {c} else {b})")),
            (inner.clone(), inner).prop_map(|(a, b)| format!("max({a}, {b})")),
        ]
    })
}

#[test]
fn a_distance_has_its_limit() {
    let checked = Formula::read("max(elevation within 1 km)").unwrap().check(&named).unwrap();
    let error = checked.compute(&[raster("elevation")], &[], &frame((2, 3)), &Silent).unwrap_err();
    assert_eq!(error, crate::Error::RadiusTooLarge { cells: 250, most: 200 });
}

proptest! {
    /// Figures within a distance are what looking at every cell gives.
    #[test]
    fn figures_around_cells_are_those_of_all_cells(
        rows in 1usize..90, cols in 1usize..40, tenths in 5u32..120, seed in 0u32..1000,
        figure in prop_oneof![Just("min"), Just("max"), Just("range"), Just("sum"), Just("mean")],
    ) {
        let value = |n: usize| (n as u32).wrapping_mul(2_654_435_761).wrapping_add(seed * 77) >> 8;
        let cells: Vec<f32> = (0..rows * cols)
            .map(|n| if value(n) % 5 == 0 { f32::NAN } else { (value(n) % 1000) as f32 })
            .collect();
        let radius = f64::from(tenths) / 10.0;
        let plain = |_: &str| Some(Named::Raster(Unit::none()));
        let text = format!("{figure}(a within {radius} cells)");
        let checked = Formula::read(&text).unwrap().check(&plain).unwrap();
        let given = Raster { unit: Unit::none(), values: Values::F32(&cells) };
        let (found, _) = checked.compute(&[given], &[], &frame((rows, cols)), &Silent).unwrap();
        for at in 0..rows * cols {
            let away = |n: usize| {
                let (y, x) = ((n / cols).abs_diff(at / cols), (n % cols).abs_diff(at % cols));
                ((y * y + x * x) as f64).sqrt()
            };
            let near: Vec<f64> = (0..cells.len())
                .filter(|&n| away(n) <= radius + 1e-9 && !cells[n].is_nan())
                .map(|n| f64::from(cells[n]))
                .collect();
            let (low, high) = near.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), &v| (l.min(v), h.max(v)));
            let sum: f64 = near.iter().sum();
            let expected = match figure {
                "min" => low,
                "max" => high,
                "range" => high - low,
                "sum" => sum,
                _ => sum / near.len() as f64,
            };
            let got = f64::from(found.values()[at]);
            match near.is_empty() {
                true => prop_assert!(got.is_nan()),
                false => prop_assert!((got - expected).abs() <= 1e-6 * expected.abs().max(1.0), "{text} at {at}: {got} {expected}"),
            }
        }
    }

    /// Whatever is typed, reading ends with a formula or with an error that lies within the text.
    #[test]
    fn any_text_is_read_or_refused(text in ".{0,60}") {
        if let Err(error) = Formula::read(&text) {
            prop_assert!(error.at.from <= error.at.to && error.at.to <= text.len());
            prop_assert!(text.is_char_boundary(error.at.from) && text.is_char_boundary(error.at.to));
        }
    }

    /// Blocks of cells give what single cells give, on grids that end within a block.
    #[test]
    fn blocks_give_what_single_cells_give(text in random(), cells in 1usize..5000, seed in 0u32..1000) {
        let value = |n: usize, k: u32| ((n as u32).wrapping_mul(2_654_435_761).wrapping_add(seed * k) % 200) as f32 / 10.0 - 10.0;
        let a: Vec<f32> = (0..cells).map(|n| if n % 97 == 5 { f32::NAN } else { value(n, 7) }).collect();
        let b: Vec<f32> = (0..cells).map(|n| value(n, 13)).collect();
        let plain = |_: &str| Some(Named::Raster(Unit::none()));
        let checked = Formula::read(&text).unwrap().check(&plain).unwrap();
        let of = |a: &[f32], b: &[f32], size: (usize, usize)| -> (Grid<f32>, u64) {
            let all: Vec<Raster> = checked
                .names
                .iter()
                .map(|n| if n == "a" { a } else { b })
                .map(|v| Raster { unit: Unit::none(), values: Values::F32(v) })
                .collect();
            let (grid, odds) = checked.compute(&all, &[], &frame(size), &Silent).unwrap();
            (grid, odds.iter().map(|o| o.cells).sum())
        };
        let (whole, _) = of(&a, &b, (1, cells));
        for n in (0..cells).step_by(1 + cells / 40) {
            let (one, _) = of(&a[n..=n], &b[n..=n], (1, 1));
            let (x, y) = (whole.values()[n], one.values()[0]);
            prop_assert!(x == y || (x.is_nan() && y.is_nan()), "{} at {}: {} {}", text, n, x, y);
        }
    }
}
