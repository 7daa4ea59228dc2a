//! Rasters from formulas in recipes: against NumPy, and what cannot be one.

use std::path::Path;
use std::process::{Command, Output};

use rstest::rstest;

use crate::support::{FRAME, python, valley, written};

fn run(dir: &Path, more: &str) -> Output {
    written(dir, "dem.tif", &valley(), &FRAME);
    let recipe = dir.join("recipe.toml");
    let network = "[conditioning]\nsinks = \"fill\"\n[network]\nthreshold = { cells = 300 }\n";
    std::fs::write(&recipe, format!("version = 1\n[terrain]\ndem = [\"dem.tif\"]\n{network}{more}")).unwrap();
    Command::new(env!("CARGO_BIN_EXE_bothros"))
        .args(["run", recipe.to_str().unwrap(), "--out", dir.join("out").to_str().unwrap()])
        .output()
        .unwrap()
}

fn derived(name: &str, formula: &str) -> String {
    format!("[[derived]]\nname = \"{name}\"\nformula = \"{formula}\"\n")
}

/// Numbers that look random and are the same each time (the generator of Knuth's MMIX, from memory).
struct Dice(u64);

impl Dice {
    fn below(&mut self, n: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % n
    }
}

/// A random formula without units, as we write it and as NumPy does.
fn random(rng: &mut Dice, depth: u32) -> (String, String) {
    if depth == 0 || rng.below(7) == 0 {
        return match rng.below(6) {
            0 => ("(elevation / mean(elevation))".into(), "(E / np.nanmean(E))".into()),
            1 => ("(contributing_area / mean(contributing_area))".into(), "(A / np.nanmean(A))".into()),
            2 => ("accumulation".into(), "N".into()),
            3 => ("order".into(), "O".into()),
            4 => ("slope".into(), "S".into()),
            _ => {
                let n = (rng.below(39) + 1) as f64 / 4.0;
                (n.to_string(), n.to_string())
            }
        };
    }
    let (a, na) = random(rng, depth - 1);
    let (b, nb) = random(rng, depth - 1);
    match rng.below(11) {
        0 => (format!("({a} + {b})"), format!("({na} + {nb})")),
        1 => (format!("({a} - {b})"), format!("({na} - {nb})")),
        2 => (format!("({a} * {b})"), format!("({na} * {nb})")),
        3 => (format!("({a} / {b})"), format!("over({na}, {nb})")),
        4 => (format!("ln({a})"), format!("ln({na})")),
        5 => (format!("sqrt({a})"), format!("sqrt({na})")),
        6 => (format!("max({a}, {b})"), format!("np.maximum({na}, {nb})")),
        7 => (format!("atan2({a}, {b})"), format!("np.arctan2({na}, {nb})")),
        8 => {
            let (c, nc) = random(rng, depth - 1);
            (
                format!("(if {a} > {b} then {c} else {b})"),
                format!("where(compare({na}, {nb}, np.greater), {nc}, {nb})"),
            )
        }
        9 => (format!("abs({a} - 3)"), format!("np.abs({na} - 3)")),
        _ => (format!("(-{a})"), format!("(-{na})")),
    }
}

#[test]
fn random_formulas_agree_with_numpy() {
    let mut rng = Dice(20_261_129);
    let (mut recipe, mut other) = (derived("s", "slope"), Vec::new());
    for n in 0..80 {
        let (ours, theirs) = random(&mut rng, 4);
        recipe += &derived(&format!("f{n}"), &ours);
        other.push((format!("f{n}"), theirs));
    }
    // Worked examples beside them.
    for (name, ours, theirs) in [
        ("log_area", "log10(contributing_area)", "np.log10(A)"),
        (
            "steep",
            "if slope > 0.05 and order >= 3 then elevation else none",
            "np.where((single(S) > np.float32(0.05)) & (O >= 3), E, np.nan)",
        ),
        (
            "level",
            "(elevation - min(elevation)) / range(elevation)",
            "(E - np.nanmin(E)) / (np.nanmax(E) - np.nanmin(E))",
        ),
        (
            "whole",
            "round(accumulation / 7) + floor(slope * 10) - ceil(slope * 3)",
            "away(N / 7) + np.floor(S * 10) - np.ceil(S * 3)",
        ),
        ("third", "contributing_area ^ 0.5 * 2 ^ -1", "np.sqrt(A) / 2"),
        ("around", "mean(elevation within 33 m)", "near(E, 33 / cell, 'mean')"),
        ("summed", "sum(slope within 3.5 cells)", "near(S, 3.5, 'sum')"),
        ("highest", "max(elevation within 55 m)", "near(E, 55 / cell, 'max')"),
        ("lowest", "min(elevation within 0.03 km)", "near(E, 30 / cell, 'min')"),
        ("relief", "range(elevation within 12 cells)", "near(E, 12, 'range')"),
        ("away", "distance(streams)", "distance(O > 0)"),
        ("marked", "on(streams) * 2", "np.where(O > 0, 2.0, 0.0)"),
        ("gathered", "sum(on(streams) within 5 cells)", "near(np.where(O > 0, 1.0, 0.0), 5, 'sum')"),
    ] {
        recipe += &derived(name, ours);
        other.push((name.to_owned(), theirs.to_owned()));
    }
    let dir = tempfile::tempdir().unwrap();
    let done = run(dir.path(), &recipe);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let list = dir.path().join("list.json");
    std::fs::write(&list, serde_json::to_vec(&other).unwrap()).unwrap();
    let out = dir.path().join("out");
    let told = python("formulas.py", &[out.to_str().unwrap(), list.to_str().unwrap()]);
    assert_eq!(told.trim(), "agree");
    // A raster tells its formula and its unit.
    let info = Command::new("gdalinfo").arg(out.join("derived_third.tif")).output().unwrap();
    let info = String::from_utf8_lossy(&info.stdout).into_owned();
    assert!(info.contains("contributing_area ^ 0.5") && info.contains("Unit Type: m"), "{info}");
}

#[test]
fn what_cannot_be_computed_is_told_in_the_summary() {
    let dir = tempfile::tempdir().unwrap();
    let done = run(dir.path(), &derived("odd", "1 / order"));
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let summary: serde_json::Value =
        serde_json::from_slice(&std::fs::read(dir.path().join("out/summary.json")).unwrap()).unwrap();
    let notes = summary["notes"].to_string();
    assert!(
        notes.contains("derived odd: division by zero in") && notes.contains("the first lies at"),
        "{notes}"
    );
}

#[rstest]
#[case(
    derived("a", "elevation + contributing_area"),
    "a, character 1: a number in m and a number in m² cannot be added"
)]
#[case(derived("a", "2 * (elevation"), "a, character 5: this bracket is never closed")]
#[case(derived("a", "2 * heigth"), "a, character 5: there is no raster heigth; there are accumulation")]
#[case(derived("a", "b") + &*derived("b", "a"), "there is no raster b")]
#[case(derived("a", "a + 1"), "there is no raster a")]
#[case(derived("Area", "1"), "is no name")]
#[case(derived("sqrt", "1"), "sqrt is a function")]
#[case(derived("slope", "1"), "there is a raster or a layer slope already")]
#[case(derived("a", "1") + &*derived("a", "2"), "there is a raster or a layer a already")]
#[case(derived("a", &format!("1{}", "+1".repeat(1000))), "500 operations at most")]
fn what_is_no_formula_is_told_before_any_work(#[case] more: String, #[case] told: &str) {
    let dir = tempfile::tempdir().unwrap();
    let done = run(dir.path(), &more);
    let error = String::from_utf8_lossy(&done.stderr);
    assert_eq!(done.status.code(), Some(2), "{error}");
    assert!(error.contains(told), "{error}");
}
