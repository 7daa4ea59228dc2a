//! What formulas can name: rasters and layers of a study, with their units, whoever computes them.

use bothros_core::formula::Unit;

/// What a raster needs to be there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Needs {
    /// the prepared DEM
    Ground,
    /// routed flow
    Flow,
    /// a network
    Network,
}

/// A raster that formulas can name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NamedRaster {
    /// its name in formulas
    pub name: &'static str,
    /// unit of its values as [`Unit::read`] takes it
    pub unit: &'static str,
    /// what its values are, in one sentence without a full stop
    pub meaning: &'static str,
    /// what it is found from
    pub needs: Needs,
}

impl NamedRaster {
    /// Unit of its values.
    pub fn unit(&self) -> Unit {
        Unit::read(self.unit)
    }
}

const fn raster(name: &'static str, unit: &'static str, needs: Needs, meaning: &'static str) -> NamedRaster {
    NamedRaster { name, unit, meaning, needs }
}

/// Rasters of every study.
pub const NAMED: [NamedRaster; 11] = [
    raster(
        "elevation",
        "m",
        Needs::Ground,
        "elevation of the conditioned ground; as prepared before anything is conditioned",
    ),
    raster("prepared", "m", Needs::Ground, "elevation as prepared, before conditioning"),
    raster("slope", "", Needs::Ground, "fall of that ground, m/m"),
    raster("aspect", "degree", Needs::Ground, "the way that ground faces, clockwise from north"),
    raster("contributing_area", "m2", Needs::Flow, "area upstream with the cell itself"),
    raster("accumulation", "", Needs::Flow, "cells upstream, the cell itself not counted"),
    raster("specific_area", "m", Needs::Flow, "contributing area over the width of a cell"),
    raster("wetness_index", "", Needs::Flow, "wetness index ln(a / tan b)"),
    raster("stream_power_index", "m", Needs::Flow, "stream power index a tan b"),
    raster("order", "", Needs::Network, "Strahler order of stream cells, 0 elsewhere"),
    raster("height_above_stream", "m", Needs::Network, "height above the stream that the flow meets"),
];

/// The layer of the network's lines.
pub const STREAMS: &str = "streams";

/// A name as formulas can say it: small letters, digits and underscores, a letter first.
pub fn identifier(title: &str) -> String {
    let mut out = String::new();
    for c in title.to_lowercase().chars() {
        match c {
            'a'..='z' | '0'..='9' => out.push(c),
            _ if out.ends_with('_') => {}
            _ => out.push('_'),
        }
    }
    let out = out.trim_matches('_').to_owned();
    match out.starts_with(|c: char| c.is_ascii_lowercase()) {
        true => out,
        false => format!("r_{out}"),
    }
}

/// The longest name of a derived raster, characters.
pub const LONGEST_NAME: usize = 40;

/// Checks the name of a derived raster; `taken` tells whether something else has it.
///
/// # Errors
/// What is wrong with it, in words.
pub fn check_name(name: &str, taken: &dyn Fn(&str) -> bool) -> Result<(), String> {
    let letter = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
    let begins = name.starts_with(|c: char| c.is_ascii_lowercase());
    if !begins || !name.chars().all(letter) || name.len() > LONGEST_NAME {
        return Err(format!(
            "“{name}” is no name: small letters, digits and underscores, a letter first, {LONGEST_NAME} at most"
        ));
    }
    const WORDS: [&str; 7] = ["if", "then", "else", "and", "or", "not", "none"];
    if WORDS.contains(&name) {
        return Err(format!("{name} is a word of formulas; choose another name"));
    }
    if bothros_core::formula::functions().any(|(function, _)| function == name) {
        return Err(format!("{name} is a function; choose another name"));
    }
    if taken(name) || NAMED.iter().any(|n| n.name == name) || name == STREAMS {
        return Err(format!("there is a raster or a layer {name} already; choose another name"));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn titles_become_names() {
        for (title, name) in [
            ("Land cover", "land_cover"),
            ("  Curve   numbers (2024)", "curve_numbers_2024"),
            ("2 m rain", "r_2_m_rain"),
            ("Überflutung", "berflutung"),
            ("降水", "r_"),
        ] {
            assert_eq!(identifier(title), name);
        }
    }

    #[test]
    fn a_name_is_one_that_formulas_can_say() {
        let taken = |name: &str| name == "rain";
        assert_eq!(check_name("log_area", &taken), Ok(()));
        for name in ["", "Area", "2nd", "a b", "elevation", "streams", "rain", "ln", "if", &"a".repeat(41)] {
            assert!(check_name(name, &taken).is_err(), "{name}");
        }
    }
}
