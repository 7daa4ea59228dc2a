//! The key: what is drawn on all maps of a sheet, each once, in groups, in as many columns as there is room for.

use crate::fonts::{POINT, broken};
use crate::{Anchor, Colour, Content, Entry, Key, Line, Mark, Rect, Sample, Stroke, Weight, width_mm};

/// Width of samples, mm.
const SAMPLE: f64 = 8.0;
/// Between sample and words, and between columns, mm.
const GAP: f64 = 2.0;
/// Pixels of 1/96 inch, mm.
const PIXEL: f64 = 25.4 / 96.0;
/// Samples are drawn as wide as on a map of the usual size.
const INK: f64 = 0.8;

/// The entries of all maps, each once, in the order and under the headings that the key gives them; hidden ones too, and with
/// their own words.
pub fn all_entries(key: &Key, contents: &[Content]) -> Vec<Entry> {
    let mut out: Vec<Entry> = Vec::new();
    for entry in contents.iter().flat_map(|content| &content.entries) {
        if out.iter().all(|e| e.name != entry.name) {
            out.push(entry.clone());
        }
    }
    out.sort_by_key(|entry| key.order.iter().position(|n| *n == entry.name).unwrap_or(usize::MAX));
    // Groups stand where their first entry stands.
    let group = |entry: &Entry| {
        let own = key.looks.get(&entry.name).and_then(|look| look.group.clone());
        own.unwrap_or_else(|| entry.group.clone())
    };
    let mut groups: Vec<String> = Vec::new();
    for entry in &out {
        let group = group(entry);
        if !groups.contains(&group) {
            groups.push(group);
        }
    }
    out.sort_by_key(|entry| groups.iter().position(|g| *g == group(entry)));
    out
}

/// Those that are shown, as the key tells them.
fn entries(key: &Key, contents: &[Content]) -> Vec<Entry> {
    let told = |mut entry: Entry| {
        let look = key.looks.get(&entry.name).cloned().unwrap_or_default();
        entry.words = look.words.unwrap_or(entry.words);
        entry.group = look.group.unwrap_or(entry.group);
        (!look.hidden).then_some(entry)
    };
    all_entries(key, contents).into_iter().filter_map(told).collect()
}

/// A row of the key: a heading, or an entry.
enum Row<'a> {
    Heading(Vec<String>),
    Entry(&'a Entry, Vec<String>),
}

pub(super) fn marks(key: &Key, contents: &[Content], at: Rect, complaints: &mut Vec<String>) -> Vec<Mark> {
    let all = entries(key, contents);
    if all.is_empty() {
        return Vec::new();
    }
    let size = key.size_pt * POINT;
    let high = size * 1.35;
    let mut rows = Vec::new();
    let mut group = "";
    let widest = (at.width - SAMPLE - GAP).max(10.0);
    for entry in &all {
        if entry.group != group {
            group = &entry.group;
            rows.push(Row::Heading(broken(group, at.width.max(10.0), size, Weight::Bold)));
        }
        rows.push(Row::Entry(entry, broken(&entry.words, widest, size, Weight::Regular)));
    }
    let wide = |row: &Row| match row {
        Row::Heading(lines) => lines.iter().map(|l| width_mm(l, size, Weight::Bold)).fold(0.0, f64::max),
        Row::Entry(entry, lines) => {
            let words = lines.iter().map(|l| width_mm(l, size, Weight::Regular)).fold(0.0, f64::max);
            match &entry.sample {
                Sample::Ramp { ends, .. } => {
                    let told: f64 = ends.iter().map(|e| width_mm(e, size * 0.9, Weight::Regular) + 3.0).sum();
                    words.max(told).max(3.0 * SAMPLE)
                }
                _ => SAMPLE + GAP + words,
            }
        }
    };
    let tall = |row: &Row| match row {
        Row::Heading(lines) => high * (lines.len() as f64 + 0.45),
        Row::Entry(entry, lines) => match entry.sample {
            Sample::Ramp { .. } => high * (lines.len() as f64 + 1.9),
            _ => high * lines.len() as f64,
        },
    };
    let column = rows.iter().map(wide).fold(0.0, f64::max).min(at.width);
    let mut out = Vec::new();
    let mut top = at.y;
    if !key.heading.is_empty() {
        let heading = size * 1.15;
        out.push(words([at.x, top + heading * 0.85], heading, Weight::Bold, &key.heading));
        top += heading * 1.6;
    }
    let bottom = at.y + at.height + 1e-6;
    let (mut x, mut y) = (at.x, top);
    let mut left_out = 0;
    for (n, row) in rows.iter().enumerate() {
        // A heading does not stand alone at the foot of a column.
        let with_next = match (row, rows.get(n + 1)) {
            (Row::Heading(_), Some(next)) => tall(row) + tall(next),
            _ => tall(row),
        };
        if y + with_next > bottom && y > top {
            x += column + 2.0 * GAP;
            y = top;
        }
        if x + column > at.x + at.width + 0.5 || y + tall(row) > bottom {
            left_out += usize::from(matches!(row, Row::Entry(..)));
            continue;
        }
        match row {
            Row::Heading(lines) => {
                let base = |n: usize| y + high * (n as f64 + 1.45) - size * 0.45;
                out.extend(
                    lines.iter().enumerate().map(|(n, told)| words([x, base(n)], size, Weight::Bold, told)),
                );
            }
            Row::Entry(entry, lines) => out.extend(drawn(entry, lines, [x, y], size, high, column)),
        }
        y += tall(row);
    }
    if left_out > 0 {
        complaints.push(format!(
            "{left_out} of {} entries of the key find no room: make it larger, its letters smaller, or leave some out.",
            all.len()
        ));
    }
    out
}

fn words(at: [f64; 2], size: f64, weight: Weight, text: &str) -> Mark {
    let (anchor, colour) = (Anchor::Start, Colour::INK);
    Mark::Text { at, anchor, turned: 0.0, size, weight, colour, halo: 0.0, text: text.to_owned() }
}

fn line_of(stroke: &Stroke) -> Line {
    let width = (stroke.width_px * PIXEL * INK).min(3.0);
    let dash = stroke.dash_px.iter().map(|d| d * PIXEL * INK).collect();
    Line { colour: stroke.colour, width, dash, round: super::rounded(&stroke.dash_px) }
}

/// An entry with its sample, its upper left corner at a place.
fn drawn(entry: &Entry, lines: &[String], [x, y]: [f64; 2], size: f64, high: f64, column: f64) -> Vec<Mark> {
    let middle = y + high * 0.5;
    let patch = |n: usize, of: usize, fill, stroke: Option<&Stroke>| {
        let width = SAMPLE / of as f64;
        let at = Rect { x: x + width * n as f64, y: middle - size * 0.42, width, height: size * 0.84 };
        Mark::rect(at, fill, stroke.map(line_of))
    };
    let mut out = Vec::new();
    let mut from = [x + SAMPLE + GAP, y];
    match &entry.sample {
        Sample::Lines(strokes) => {
            let line = |stroke| Mark::line(vec![[x, middle], [x + SAMPLE, middle]], line_of(stroke));
            out.extend(strokes.iter().map(line));
        }
        Sample::Area { fill, stroke } => out.push(patch(0, 1, *fill, stroke.as_ref())),
        Sample::Patches(colours) => {
            out.extend(
                colours.iter().enumerate().map(|(n, c)| patch(n, colours.len(), Some((*c, 1.0)), None)),
            );
        }
        Sample::Point { corners, fill, stroke, radius_px } => {
            let line = stroke.as_ref().map(line_of);
            let radius = (radius_px * PIXEL * INK).min(size * 0.6);
            out.push(super::frame::point([x + SAMPLE / 2.0, middle], *corners, radius, *fill, line));
        }
        Sample::Ramp { colours, ends } => {
            from = [x, y];
            let top = y + high * lines.len() as f64;
            // Many narrow strips: a gradient that every reader of PDF and SVG draws alike.
            const STRIPS: usize = 64;
            let wide = column / STRIPS as f64;
            for n in 0..STRIPS {
                let share = n as f64 / (STRIPS - 1) as f64 * (colours.len().max(1) - 1) as f64;
                let (low, part) = (share.floor() as usize, share.fract());
                let (a, b) = (colours[low], colours[(low + 1).min(colours.len() - 1)]);
                let mixed = std::array::from_fn(|i| {
                    (f64::from(a.0[i]) + (f64::from(b.0[i]) - f64::from(a.0[i])) * part).round() as u8
                });
                // Each reaches to the end: no light shows between two.
                let width = column - wide * n as f64;
                let at = Rect { x: x + wide * n as f64, y: top + high * 0.1, width, height: high * 0.6 };
                out.push(Mark::rect(at, Some((Colour(mixed), 1.0)), None));
            }
            let base = top + high * 0.7 + size;
            let last = ends.len().saturating_sub(1);
            for (n, end) in ends.iter().enumerate() {
                let share = if last == 0 { 0.0 } else { n as f64 / last as f64 };
                let anchor = match n {
                    0 => Anchor::Start,
                    n if n == last => Anchor::End,
                    _ => Anchor::Middle,
                };
                let (weight, colour) = (Weight::Regular, Colour::INK);
                out.push(Mark::Text {
                    at: [x + column * share, base],
                    anchor,
                    turned: 0.0,
                    size: size * 0.9,
                    weight,
                    colour,
                    halo: 0.0,
                    text: end.clone(),
                });
            }
        }
    }
    for (n, told) in lines.iter().enumerate() {
        out.push(words([from[0], from[1] + high * n as f64 + size], size, Weight::Regular, told));
    }
    out
}
