//! Texts: broken into lines that fit their part, set smaller where they do not.

use crate::fonts::{LEADING, POINT, broken};
use crate::{Anchor, Colour, Mark, Rect, Text, Weight};

/// How much smaller a text may be set to fit.
const SMALLER: [f64; 5] = [1.0, 0.9, 0.8, 0.7, 0.6];

/// The lines of a text in its part.
pub(super) fn marks(given: &Text, told: &str, at: Rect, complaints: &mut Vec<String>) -> Vec<Mark> {
    let weight = if given.bold { Weight::Bold } else { Weight::Regular };
    if told.trim().is_empty() {
        return Vec::new();
    }
    let room = |size: f64| (at.height / (size * LEADING) + 0.25).floor().max(1.0) as usize;
    let mut set = None;
    for times in SMALLER {
        let size = given.size_pt * POINT * times;
        let lines = broken(told, at.width, size, weight);
        let fits = lines.len() <= room(size);
        set = Some((size, lines));
        if fits {
            break;
        }
    }
    let Some((size, mut lines)) = set else { return Vec::new() };
    if lines.len() > room(size) {
        lines.truncate(room(size));
        if let Some(last) = lines.last_mut() {
            last.push('…');
        }
        let begin: String = told.chars().take(30).collect();
        complaints.push(format!("“{begin}…” does not fit its part: make it larger, or its letters smaller."));
    } else if size < given.size_pt * POINT * 0.999 {
        let begin: String = told.chars().take(30).collect();
        complaints.push(format!("“{begin}” is set at {:.1} points to fit its part.", size / POINT));
    }
    let (x, anchor) = match given.middle {
        true => (at.x + at.width / 2.0, Anchor::Middle),
        false => (at.x, Anchor::Start),
    };
    let line = |(n, text): (usize, String)| Mark::Text {
        at: [x, at.y + size * (0.85 + LEADING * n as f64)],
        anchor,
        turned: 0.0,
        size,
        weight,
        colour: Colour::INK,
        halo: 0.0,
        text,
    };
    lines.into_iter().enumerate().map(line).collect()
}
