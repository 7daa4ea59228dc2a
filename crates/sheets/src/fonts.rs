//! The fonts that ship: Source Sans 3, regular and semibold (SIL Open Font License). They hold Latin with all its
//! extensions, Greek and Cyrillic; a letter of any other script is told and drawn as an empty box.

use std::sync::LazyLock;

use crate::Weight;

/// The name of the family.
pub(crate) const FAMILY: &str = "Source Sans 3";

/// The file of a weight.
pub(crate) fn file(weight: Weight) -> &'static [u8] {
    match weight {
        Weight::Regular => include_bytes!("../fonts/SourceSans3_400Regular.ttf"),
        Weight::Bold => include_bytes!("../fonts/SourceSans3_600SemiBold.ttf"),
    }
}

fn face(weight: Weight) -> Option<&'static ttf_parser::Face<'static>> {
    static REGULAR: LazyLock<Option<ttf_parser::Face<'static>>> =
        LazyLock::new(|| ttf_parser::Face::parse(file(Weight::Regular), 0).ok());
    static BOLD: LazyLock<Option<ttf_parser::Face<'static>>> =
        LazyLock::new(|| ttf_parser::Face::parse(file(Weight::Bold), 0).ok());
    match weight {
        Weight::Regular => REGULAR.as_ref(),
        Weight::Bold => BOLD.as_ref(),
    }
}

/// Returns the width of a line of text whose letters are `size_mm` high (em), mm. Pairs of letters that stand closer make it
/// a little narrower in print.
pub fn width_mm(text: &str, size_mm: f64, weight: Weight) -> f64 {
    let Some(face) = face(weight) else { return text.chars().count() as f64 * size_mm * 0.5 };
    let advance = |letter: char| {
        let glyph = face.glyph_index(letter).unwrap_or(ttf_parser::GlyphId(0));
        f64::from(face.glyph_hor_advance(glyph).unwrap_or(0))
    };
    text.chars().map(advance).sum::<f64>() / f64::from(face.units_per_em()) * size_mm
}

/// The letters of a text that the fonts do not hold, each once.
pub fn missing_letters(text: &str) -> Vec<char> {
    let Some(face) = face(Weight::Regular) else { return Vec::new() };
    let mut out: Vec<char> = Vec::new();
    for letter in text.chars().filter(|c| !c.is_control()) {
        if face.glyph_index(letter).is_none() && !out.contains(&letter) {
            out.push(letter);
        }
    }
    out
}

/// A text in which letters that the fonts do not hold are boxes.
pub(crate) fn printable(text: &str) -> String {
    let Some(face) = face(Weight::Regular) else { return text.to_owned() };
    let held = |c: char| if c.is_control() || face.glyph_index(c).is_some() { c } else { BOX };
    text.chars().map(held).collect()
}

/// Stands for a letter that the fonts do not hold.
const BOX: char = '□';

/// Height of capitals beside that of letters (em).
pub(crate) const CAPITALS: f64 = 0.66;
/// A line of text takes so much beside the height of its letters.
pub(crate) const LEADING: f64 = 1.25;
/// A point, mm.
pub(crate) const POINT: f64 = 25.4 / 72.0;

/// Text broken into lines that fit a width, mm; words that are longer are broken.
pub(crate) fn broken(text: &str, width: f64, size: f64, weight: Weight) -> Vec<String> {
    let fits = |line: &str| width_mm(line, size, weight) <= width;
    let mut out = Vec::new();
    for given in text.lines() {
        let mut line = String::new();
        for word in given.split(' ') {
            let longer = if line.is_empty() { word.to_owned() } else { format!("{line} {word}") };
            if fits(&longer) {
                line = longer;
                continue;
            }
            if !line.is_empty() {
                out.push(std::mem::take(&mut line));
            }
            for letter in word.chars() {
                line.push(letter);
                if !fits(&line) && line.chars().count() > 1 {
                    line.pop();
                    out.push(std::mem::replace(&mut line, letter.to_string()));
                }
            }
        }
        out.push(line);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn widths_are_those_of_the_font() {
        // Advance widths by the font's own table hmtx, read with fontTools: digits 497 of 1000 in tabular figures and in
        // those that come by themselves, the space 200.
        assert!((width_mm("0000", 10.0, Weight::Regular) - 4.0 * 4.97).abs() < 1e-9);
        assert!((width_mm(" ", 10.0, Weight::Regular) - 2.0).abs() < 1e-9);
        assert!(width_mm("Sorrel", 3.0, Weight::Bold) > width_mm("Sorrel", 3.0, Weight::Regular));
    }

    #[test]
    fn letters_that_do_not_ship_are_told() {
        assert_eq!(missing_letters("Łódź Ñuble Θεσσαλία Волга – 1 km²"), []);
        assert_eq!(missing_letters("河川 a 河"), ['河', '川']);
        assert_eq!(printable("河 a"), "□ a");
        assert_eq!(missing_letters("□"), []);
    }

    #[test]
    fn text_is_broken_between_words_and_a_word_that_is_too_long_within() {
        let lines = broken("the network of the study\nand a second line", 22.0, 4.0, Weight::Regular);
        assert!(
            lines.len() >= 3 && lines.iter().all(|l| width_mm(l, 4.0, Weight::Regular) <= 22.0),
            "{lines:?}"
        );
        assert_eq!(lines.join(" "), "the network of the study and a second line");
        let long = broken("Llanfairpwllgwyngyllgogerychwyrndrobwll", 20.0, 4.0, Weight::Regular);
        assert!(long.len() > 2);
        assert_eq!(long.concat(), "Llanfairpwllgwyngyllgogerychwyrndrobwll");
    }
}
