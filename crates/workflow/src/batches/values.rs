//! What can vary between runs, as it is typed.

use toml::{Table, Value};

use crate::{Error, Result};

/// How values of a key are typed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Typed {
    /// numbers
    Number,
    /// whole numbers
    Whole,
    /// words of a list
    Word(&'static [&'static str]),
    /// a number in a table of its own
    In(&'static str),
    /// a whole number in a table of its own
    WholeIn(&'static str),
}

/// A key that is offered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Varied {
    /// its name on forms
    pub name: &'static str,
    /// the key of the recipe
    pub key: &'static str,
    /// in words, with its unit
    pub title: &'static str,
    /// an example of values
    pub example: &'static str,
    typed: Typed,
}

const fn varied(
    name: &'static str,
    key: &'static str,
    title: &'static str,
    example: &'static str,
    typed: Typed,
) -> Varied {
    Varied { name, key, title, example, typed }
}

/// The keys that are offered.
pub const VARIED: [Varied; 11] = [
    varied("cells", "network.threshold", "threshold, cells", "500; 1000; 2000", Typed::WholeIn("cells")),
    varied("km2", "network.threshold", "threshold, km²", "0.1; 0.35; 1", Typed::In("area_km2")),
    varied("routing", "routing.method", "routing", "d8; dinf; mfd", Typed::Word(&["d8", "dinf", "mfd"])),
    varied(
        "sinks",
        "conditioning.sinks",
        "what is done with sinks",
        "fill; breach; breach_then_fill; keep",
        Typed::Word(&["fill", "breach", "breach_then_fill", "keep"]),
    ),
    varied(
        "fill",
        "conditioning.max_fill_depth_m",
        "deepest sink that is filled, m",
        "2; 5; 10",
        Typed::Number,
    ),
    varied(
        "breach_length",
        "conditioning.max_breach_length_m",
        "longest breach, m",
        "50; 100; 200",
        Typed::Number,
    ),
    varied("breach_depth", "conditioning.max_breach_depth_m", "deepest breach, m", "2; 4; 8", Typed::Number),
    varied("cell_size", "terrain.cell_size", "cell size, m", "4; 10; 30", Typed::Number),
    varied("snap", "catchments.snap_m", "snapping distance, m", "0; 50; 100", Typed::Number),
    varied("target", "catchments.subbasins", "sub-basins of about, km²", "1; 2; 5", Typed::In("target_km2")),
    varied("band", "terrain.band", "band of the DEM", "1; 2", Typed::Whole),
];

/// Reads the values of a key as they are typed, with semicolons or on lines of their own. `name` is that of [`VARIED`], or a key
/// of the recipe itself, whose values are written as in its file.
///
/// # Errors
/// [`Error::Refused`] for what is no value of the key.
pub fn read_values(name: &str, typed: &str) -> Result<(String, Vec<Value>)> {
    let parts: Vec<&str> = typed.split([';', '\n']).map(str::trim).filter(|part| !part.is_empty()).collect();
    let known = VARIED.iter().find(|v| v.name == name);
    let title = known.map_or(name, |v| v.title);
    if parts.is_empty() {
        return Err(Error::Refused(format!("say which values {title} takes, with semicolons between them")));
    }
    let read = |part: &&str| match known {
        None => as_written(part),
        Some(of) => value(of, part),
    };
    let values = parts.iter().map(read).collect::<Result<Vec<_>>>()?;
    for (at, value) in values.iter().enumerate() {
        if values[..at].contains(value) {
            return Err(Error::Refused(format!("{title} takes {} twice", parts[at])));
        }
    }
    Ok((known.map_or(name, |v| v.key).to_owned(), values))
}

fn value(of: &Varied, part: &str) -> Result<Value> {
    let number = || {
        let read = part.replace(',', ".").parse::<f64>().ok().filter(|n| n.is_finite());
        read.ok_or_else(|| Error::Refused(format!("{}: {part} is no number", of.title)))
    };
    let whole = || {
        let read = part.replace([' ', '\u{a0}'], "").parse::<i64>().ok();
        read.ok_or_else(|| Error::Refused(format!("{}: {part} is no whole number", of.title)))
    };
    let within = |key: &str, value: Value| Value::Table(Table::from_iter([(key.to_owned(), value)]));
    Ok(match of.typed {
        Typed::Number => Value::Float(number()?),
        Typed::Whole => Value::Integer(whole()?),
        Typed::In(key) => within(key, Value::Float(number()?)),
        Typed::WholeIn(key) => within(key, Value::Integer(whole()?)),
        Typed::Word(words) => {
            let word = part.to_lowercase();
            if !words.contains(&word.as_str()) {
                let what = format!("{}: {part} is none of {}", of.title, words.join(", "));
                return Err(Error::Refused(what));
            }
            Value::String(word)
        }
    })
}

/// A value as it is written in a recipe; a bare word is taken for text.
fn as_written(part: &str) -> Result<Value> {
    let read = toml::from_str::<Table>(&format!("value = {part}"));
    match read.ok().and_then(|mut table| table.remove("value")) {
        Some(value) => Ok(value),
        None if part.chars().all(|c| c.is_alphanumeric() || "_-.:/".contains(c)) => {
            Ok(Value::String(part.to_owned()))
        }
        None => Err(Error::Refused(format!("{part} is no value of a recipe"))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_read_as_they_are_typed() {
        let (key, values) = read_values("cells", "500; 1 000\n2000 ;").unwrap();
        assert_eq!(key, "network.threshold");
        assert_eq!(values[1]["cells"].as_integer(), Some(1000));
        assert_eq!(values.len(), 3);
        let (key, values) = read_values("km2", "0,35; 1").unwrap();
        assert_eq!((key.as_str(), values[0]["area_km2"].as_float()), ("network.threshold", Some(0.35)));
        assert_eq!(read_values("routing", "D8; mfd").unwrap().1[0].as_str(), Some("d8"));
        // Any key of the recipe, as it is written there.
        let (key, values) = read_values("routing.exponent", "1.1; 4").unwrap();
        assert_eq!((key.as_str(), values[1].as_integer()), ("routing.exponent", Some(4)));
        assert_eq!(read_values("terrain.crs", "EPSG:32628").unwrap().1[0].as_str(), Some("EPSG:32628"));
        let (_, values) = read_values("network.threshold", "{ cells = 5 }").unwrap();
        assert_eq!(values[0]["cells"].as_integer(), Some(5));
        for (name, typed, told) in [
            ("cells", "", "say which values"),
            ("cells", "5; five", "five is no whole number"),
            ("km2", "nan", "is no number"),
            ("routing", "d9", "none of d8, dinf, mfd"),
            ("sinks", "fill; fill", "fill twice"),
            ("routing.exponent", "[1", "is no value"),
        ] {
            let error = read_values(name, typed).unwrap_err().to_string();
            assert!(error.contains(told), "{typed}: {error}");
        }
    }
}
