//! The core must stay free of files, databases, interfaces and formats.
#![allow(clippy::unwrap_used)]

/// What the core may depend on; anything else needs a decision, and a line here.
const ALLOWED: [&str; 9] = [
    "multiversion",
    "pest",
    "pest_derive",
    "rand_chacha",
    "rand_distr",
    "rayon",
    "rustc-hash",
    "serde",
    "thiserror",
];

#[test]
fn the_core_depends_on_nothing_but_computation() {
    let manifest = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/Cargo.toml")).unwrap();
    let dependencies = manifest
        .split("\n[dependencies]\n")
        .nth(1)
        .and_then(|rest| rest.split("\n[").next())
        .expect("the manifest lists dependencies");
    let names: Vec<&str> = dependencies
        .lines()
        .filter_map(|line| line.split(['=', '.']).next())
        .map(str::trim)
        .filter(|n| !n.is_empty())
        .collect();
    assert!(!names.is_empty());
    for name in names {
        assert!(ALLOWED.contains(&name), "the core must not depend on {name}");
    }
}
