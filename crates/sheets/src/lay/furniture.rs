//! What stands beside a map: scale bar, north arrow, logo.

use crate::fonts::POINT;
use crate::{Anchor, Bar, BarUnit, Colour, Line, Mark, Picture, Rect, View, Weight, width_mm};

/// Letters of a scale bar and a north arrow, mm.
const SMALL: f64 = 7.5 * POINT;

fn words(at: [f64; 2], anchor: Anchor, size: f64, text: impl Into<String>) -> Mark {
    let (weight, colour) = (Weight::Regular, Colour::INK);
    Mark::Text { at, anchor, turned: 0.0, size, weight, colour, halo: 0.0, text: text.into() }
}

/// A scale bar in its part: pieces filled in turn, numbers under them, the unit at its end.
pub(super) fn bar(view: &View, unit: BarUnit, at: Rect, over_a_map: bool) -> Vec<Mark> {
    let pad = if over_a_map { 1.5 } else { 0.0 };
    // The last number and the unit stand beyond the end of the bar.
    let beyond = width_mm("100 km", SMALL, Weight::Regular);
    let bar = Bar::within(view, at.width - beyond - 2.0 * pad, unit);
    let mut out = Vec::new();
    if over_a_map {
        // As wide as what stands on it.
        let width = (bar.length_mm + beyond + 2.0 * pad).min(at.width);
        out.push(Mark::rect(Rect { width, ..at }, Some((Colour::PAPER, 0.85)), None));
    }
    let (left, high) = (at.x + pad + width_mm("0", SMALL, Weight::Regular) / 2.0, 1.5);
    let top = at.y + pad;
    let piece = bar.length_mm / bar.pieces as f64;
    let line = || Some(Line { round: false, ..Line::solid(Colour::INK, 0.2) });
    for n in 0..bar.pieces {
        let fill = if n % 2 == 0 { Colour::INK } else { Colour::PAPER };
        let one = Rect { x: left + piece * n as f64, y: top, width: piece, height: high };
        out.push(Mark::rect(one, Some((fill, 1.0)), line()));
    }
    let base = top + high + SMALL * 0.95;
    let mut free_from = f64::NEG_INFINITY;
    for (n, mark) in bar.marks.iter().enumerate() {
        let (x, last) = (left + piece * n as f64, n + 1 == bar.marks.len());
        let half = width_mm(mark, SMALL, Weight::Regular) / 2.0;
        let end =
            left + bar.length_mm - width_mm(&bar.marks[bar.marks.len() - 1], SMALL, Weight::Regular) / 2.0;
        // Numbers that would touch are left out; the last stays.
        if !last && (x - half < free_from || (n > 0 && x + half + 0.8 > end)) {
            continue;
        }
        free_from = x + half + 0.8;
        let told = if last { format!("{mark} {}", bar.unit) } else { mark.clone() };
        match last {
            true => out.push(words([x - half, base], Anchor::Start, SMALL, told)),
            false => out.push(words([x, base], Anchor::Middle, SMALL, told)),
        }
    }
    out
}

/// A north arrow in its part: a needle, dark to the west and light to the east, over an N; and in words how far true north
/// lies from it. `north` is the north of the grid in degrees clockwise from true north.
pub(super) fn north(north: Option<f64>, at: Rect) -> Vec<Mark> {
    let told = north.filter(|n| n.abs() >= 0.05).map(|n| {
        let side = if n > 0.0 { "west" } else { "east" };
        format!("true north {:.1}° {side}", n.abs())
    });
    let letter = (at.height * 0.22).clamp(2.0, 6.0);
    let under = if told.is_some() { SMALL * 1.1 } else { 0.0 };
    let high = (at.height - letter - under).max(2.0);
    let (x, top) = (at.x + at.width / 2.0, at.y);
    let wide = high * 0.17;
    let (tip, low, notch) = ([x, top], top + high, top + high * 0.8);
    let line = || Some(Line { round: false, ..Line::solid(Colour::INK, 0.2) });
    let mut out = vec![
        Mark::area(vec![tip, [x - wide, low], [x, notch]], Some((Colour::INK, 1.0)), line()),
        Mark::area(vec![tip, [x + wide, low], [x, notch]], Some((Colour::PAPER, 1.0)), line()),
        Mark::Text {
            at: [x, low + letter * 0.85],
            anchor: Anchor::Middle,
            turned: 0.0,
            size: letter,
            weight: Weight::Bold,
            colour: Colour::INK,
            halo: 0.5,
            text: "N".into(),
        },
    ];
    if let Some(told) = told {
        // No wider than its part.
        let size = (at.width / width_mm(&told, 1.0, Weight::Regular)).min(SMALL * 0.85);
        let mut mark = words([x, at.y + at.height - 0.3], Anchor::Middle, size, told);
        if let Mark::Text { halo, .. } = &mut mark {
            *halo = 0.5;
        }
        out.push(mark);
    }
    out
}

/// A picture in its part, as large as it fits without being stretched.
pub(super) fn logo(picture: &Picture, at: Rect) -> Mark {
    let (w, h) = (picture.width.max(1) as f64, picture.height.max(1) as f64);
    let times = (at.width / w).min(at.height / h);
    let [x, y] = at.middle();
    let (width, height) = (w * times, h * times);
    let at = Rect { x: x - width / 2.0, y: y - height / 2.0, width, height };
    Mark::Image { at, picture: picture.clone(), opacity: 1.0 }
}
