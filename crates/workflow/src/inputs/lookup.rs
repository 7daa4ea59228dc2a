//! What the classes of a land-cover raster stand for: curve number and impervious share.

use bothros_products::{CURVE_NUMBERS, ClassValue};

use crate::{Error, Result};

/// Classes that a table may have.
const MOST: usize = 1000;

/// Reads a lookup table: on each line a class, its curve number and its impervious share in percent, apart by commas, semicolons or tabs.
/// What is not known is empty; a first line of titles is passed over.
///
/// # Errors
/// [`Error::Refused`] with the line: for what is no number or outside its limits, and for a class that is there twice.
pub fn read_lookup(text: &str) -> Result<Vec<ClassValue>> {
    let mut all: Vec<ClassValue> = Vec::new();
    let lines = text.lines().map(str::trim).zip(1..).filter(|(line, _)| !line.is_empty());
    for (at, (line, number)) in lines.enumerate() {
        let fields: Vec<&str> = line.split([',', ';', '\t']).map(str::trim).collect();
        let wrong = |what: String| Error::Refused(format!("line {number} of the lookup table: {what}"));
        let Ok(class) = fields[0].parse::<i64>() else {
            if at == 0 {
                continue;
            }
            return Err(wrong(format!("“{}” is no class, which is a whole number", fields[0])));
        };
        let value = |at: usize, what: &str, (least, most): (f64, f64)| match fields.get(at) {
            None | Some(&"") => Ok(None),
            Some(text) => match text.parse::<f64>() {
                Ok(value) if (least..=most).contains(&value) => Ok(Some(value)),
                Ok(value) => Err(wrong(format!("{what} lies between {least} and {most}: {value} does not"))),
                Err(_) => Err(wrong(format!("“{text}” is no number"))),
            },
        };
        if fields.len() > 3 {
            return Err(wrong("it holds more than class, curve number and impervious share".into()));
        }
        if all.iter().any(|c| c.class == class) {
            return Err(wrong(format!("class {class} is there twice")));
        }
        let curve_number = value(1, "the curve number", CURVE_NUMBERS)?;
        let impervious = value(2, "the impervious share", (0.0, 100.0))?.map(|percent| percent / 100.0);
        all.push(ClassValue { class, curve_number, impervious });
    }
    match all.len() > MOST {
        true => Err(Error::Refused(format!("a lookup table has {MOST} classes at most"))),
        false => Ok(all),
    }
}

/// A lookup table as [`read_lookup`] reads it.
pub fn lookup_text(all: &[ClassValue]) -> String {
    let told = |value: Option<f64>| value.map_or(String::new(), |v| format!("{}", (v * 1e6).round() / 1e6));
    let line = |c: &ClassValue| {
        let percent = c.impervious.map(|share| share * 100.0);
        format!("{}, {}, {}", c.class, told(c.curve_number), told(percent))
    };
    all.iter().map(line).collect::<Vec<_>>().join("\n")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn a_table_is_read_and_told_again() {
        let read = read_lookup("class;cn;impervious\n11; 70; 5\n\n42\t60\n21, ,30.5").unwrap();
        let of = |class, curve_number, impervious| ClassValue { class, curve_number, impervious };
        assert_eq!(
            read,
            [of(11, Some(70.0), Some(0.05)), of(42, Some(60.0), None), of(21, None, Some(0.305))]
        );
        assert_eq!(read_lookup(&lookup_text(&read)).unwrap(), read);
        assert_eq!(read_lookup(" \n").unwrap(), []);
    }

    #[rstest]
    #[case("11, 7", "line 1 of the lookup table: the curve number lies between 30 and 100: 7 does not")]
    #[case("11, 70, 120", "the impervious share lies between 0 and 100")]
    #[case("11, wood", "“wood” is no number")]
    #[case("11, 70\nx, 60", "line 2 of the lookup table: “x” is no class")]
    #[case("11, 70\n11, 60", "class 11 is there twice")]
    #[case("11, 70, 5, 6", "more than class")]
    fn what_cannot_be_meant_is_told_with_its_line(#[case] text: &str, #[case] told: &str) {
        let error = read_lookup(text).unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }
}
