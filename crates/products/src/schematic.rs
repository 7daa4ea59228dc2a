//! The model scheme as a drawing: nexuses and flowpaths in the order of drainage, upstream at the top.

use std::collections::HashMap;
use std::fmt::Write;

use bothros_core::scheme::{NexusKind, Scheme};
use bothros_formats::{Geometry, Layer, Value};

use crate::NEXUSES;

/// More nexuses are not drawn: those that drain the least land are put together with what they drain to.
const MOST: usize = 90;

/// Width of a column and height of a level, in the drawing's units.
const STEP: (f64, f64) = (46.0, 44.0);
/// Margin around the drawing.
const MARGIN: f64 = 26.0;

/// The schematic of a scheme, from its layer of nexuses.
pub fn schematic(scheme: &Scheme, nexuses: &Layer) -> String {
    let column = |name: &str| NEXUSES.columns.iter().position(|c| c.name == name).unwrap_or_default();
    let (name, area) = (column("name"), column("contributing_area_km2"));
    let rows = &nexuses.features;
    let areas: Vec<f64> = rows
        .iter()
        .map(|(_, row)| match row[area] {
            Value::Real(km2) => km2,
            _ => 0.0,
        })
        .collect();
    let name = |at: usize| match &rows[at].1[name] {
        Value::Text(text) => Some(text.clone()),
        _ => None,
    };
    let place = |at: usize| match rows[at].0 {
        Geometry::Point(at) => at,
        _ => [0.0, 0.0],
    };
    draw(scheme, &areas, &name, &place)
}

/// Draws a scheme. `area` gives the area that drains through each nexus, `name` its name, `place` its place on the map, all by its place
/// in the list.
fn draw(
    scheme: &Scheme,
    area: &[f64],
    name: &dyn Fn(usize) -> Option<String>,
    place: &dyn Fn(usize) -> [f64; 2],
) -> String {
    let count = scheme.nexuses.len();
    let next = |at: usize| scheme.after(scheme.nexuses[at].id).map(|id| id as usize - 1);
    // The largest, and all that are named, down to their final outlets.
    let mut by_area: Vec<usize> = (0..count).collect();
    by_area.sort_by(|&a, &b| area[b].total_cmp(&area[a]));
    let mut shown = vec![false; count];
    let named = |at: usize| !matches!(scheme.nexuses[at].kind, NexusKind::Junction);
    for at in (0..count).filter(|&at| named(at)).chain(by_area.into_iter().take(MOST)).take(2 * MOST) {
        let mut at = Some(at);
        while let Some(here) = at.filter(|&here| !shown[here]) {
            shown[here] = true;
            at = next(here);
        }
    }
    let mut above: Vec<Vec<usize>> = vec![Vec::new(); count];
    let mut hidden = vec![0usize; count];
    for at in 0..count {
        match next(at) {
            Some(to) if shown[at] => above[to].push(at),
            // Numbers rise downstream: what was hidden above is counted already.
            Some(to) => hidden[to] += hidden[at] + 1,
            None => {}
        }
    }
    let mut subbasins: HashMap<u32, usize> = HashMap::new();
    for part in &scheme.subbasins {
        *subbasins.entry(part.nexus).or_default() += 1;
    }

    // Levels upwards from the final outlets, columns by the ends of branches.
    let mut level = vec![0usize; count];
    for at in (0..count).rev().filter(|&at| shown[at]) {
        level[at] = next(at).map_or(0, |to| level[to] + 1);
    }
    let mut column = vec![0.0; count];
    let mut columns = 0.0;
    for root in (0..count).filter(|&at| shown[at] && next(at).is_none()) {
        place_columns(root, &above, &mut column, &mut columns);
    }
    let deepest = (0..count).filter(|&at| shown[at]).map(|at| level[at]).max().unwrap_or(0);
    let at = |n: usize| (MARGIN + column[n] * STEP.0, MARGIN + (deepest - level[n]) as f64 * STEP.1);
    let (width, height) =
        (2.0 * MARGIN + (columns - 1.0f64).max(0.0) * STEP.0 + 40.0, 2.0 * MARGIN + deepest as f64 * STEP.1);
    let mut svg = format!(
        "<svg class=\"schematic\" xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {width:.0} {height:.0}\" width=\"{width:.0}\" \
         height=\"{height:.0}\" font-family=\"sans-serif\" font-size=\"10\" role=\"img\" aria-label=\"Model scheme, upstream at the top\">"
    );
    let largest = area.iter().copied().fold(1e-9, f64::max);
    for n in (0..count).filter(|&n| shown[n]) {
        if let Some(to) = next(n) {
            let ((x0, y0), (x1, y1)) = (at(n), at(to));
            let wide = 1.0 + 3.5 * (area[n] / largest).sqrt();
            let _ = write!(
                svg,
                "<path d=\"M{x0:.1} {y0:.1} C{x0:.1} {m:.1} {x1:.1} {m:.1} {x1:.1} {y1:.1}\" fill=\"none\" stroke=\"#2B7A82\" stroke-width=\"{wide:.1}\"/>",
                m = (y0 + y1) / 2.0
            );
        }
    }
    for n in (0..count).filter(|&n| shown[n]) {
        let nexus = &scheme.nexuses[n];
        let ((x, y), [east, north]) = (at(n), place(n));
        let _ = write!(
            svg,
            "<g data-finding data-nexus=\"{}\" data-x=\"{east}\" data-y=\"{north}\" tabindex=\"0\"><title>{}</title>",
            nexus.id,
            title(
                nexus.id,
                nexus.kind,
                name(n),
                area[n],
                subbasins.get(&nexus.id).copied().unwrap_or(0),
                hidden[n]
            )
        );
        let (fill, stroke) = match nexus.kind {
            NexusKind::Junction => ("#FFFDF8", "#0F5C63"),
            NexusKind::Station => ("#B4532A", "#FFFDF8"),
            NexusKind::Storage => ("#2F6DA8", "#FFFDF8"),
            NexusKind::Split => ("#C9A227", "#FFFDF8"),
            NexusKind::Terminal => ("#22302E", "#FFFDF8"),
        };
        if subbasins.contains_key(&nexus.id) {
            let _ = write!(
                svg,
                "<rect x=\"{:.1}\" y=\"{:.1}\" width=\"11\" height=\"9\" fill=\"#8FA98C\" stroke=\"#FFFDF8\"/>",
                x - 18.0,
                y - 12.0
            );
        }
        match nexus.kind {
            NexusKind::Storage => {
                let _ = write!(
                    svg,
                    "<path d=\"M{:.1} {:.1}h16l-8 12z\" fill=\"{fill}\" stroke=\"{stroke}\"/>",
                    x - 8.0,
                    y - 6.0
                );
            }
            _ => {
                let _ = write!(
                    svg,
                    "<circle cx=\"{x:.1}\" cy=\"{y:.1}\" r=\"6\" fill=\"{fill}\" stroke=\"{stroke}\" stroke-width=\"1.6\"/>"
                );
            }
        }
        if hidden[n] > 0 {
            let _ = write!(
                svg,
                "<text x=\"{:.1}\" y=\"{:.1}\" fill=\"#6B6257\">+{}</text>",
                x + 8.0,
                y - 6.0,
                hidden[n]
            );
        }
        let label = name(n).map_or_else(|| nexus.id.to_string(), |name| escaped(&name));
        let _ = write!(
            svg,
            "<text x=\"{:.1}\" y=\"{:.1}\" fill=\"#22302E\">{label}</text></g>",
            x + 8.0,
            y + 11.0
        );
    }
    svg.push_str("</svg>");
    svg
}

/// Gives a nexus and all above it their columns: the end of a branch the next free one, what gathers them their middle. By a list of
/// its own, since schemes can be deeper than the stack.
fn place_columns(root: usize, above: &[Vec<usize>], column: &mut [f64], columns: &mut f64) {
    let mut open = vec![(root, false)];
    while let Some((at, done)) = open.pop() {
        if above[at].is_empty() {
            column[at] = *columns;
            *columns += 1.0;
        } else if done {
            let sum: f64 = above[at].iter().map(|&n| column[n]).sum();
            column[at] = sum / above[at].len() as f64;
        } else {
            open.push((at, true));
            open.extend(above[at].iter().map(|&n| (n, false)));
        }
    }
}

fn title(
    id: u32,
    kind: NexusKind,
    name: Option<String>,
    area: f64,
    subbasins: usize,
    hidden: usize,
) -> String {
    let name = name.map_or(String::new(), |n| format!(" {}", escaped(&n)));
    let more =
        if hidden > 0 { format!(", {hidden} smaller nexuses above are not drawn") } else { String::new() };
    format!("{} {id}{name}: {area:.3} km², sub-basins that end here: {subbasins}{more}", kind.name())
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::scheme::{Flowpath, Nexus, Part};

    /// A comb: `n` nexuses in a row, each with a sub-basin.
    fn row(n: u32) -> Scheme {
        let nexus = |id| Nexus {
            id,
            kind: if id == n { NexusKind::Terminal } else { NexusKind::Junction },
            cell: id,
            point: None,
            storage: None,
            flowpath: (id < n).then_some(id),
        };
        let way = |id| Flowpath {
            id,
            from: id,
            to: id + 1,
            subbasin: id,
            cells: vec![id, id + 1],
            length_m: 10.0,
            drop_m: 1.0,
        };
        Scheme {
            nexuses: (1..=n).map(nexus).collect(),
            flowpaths: (1..n).map(way).collect(),
            subbasins: (1..=n).map(|id| Part { id, nexus: id, cells: 4 }).collect(),
            merged: 0,
        }
    }

    #[test]
    fn small_schemes_are_drawn_whole_and_large_ones_say_what_they_leave_out() {
        let draw_row = |n: u32| {
            let scheme = row(n);
            let area: Vec<f64> = (1..=n).map(f64::from).collect();
            draw(&scheme, &area, &|at| (at == 0).then(|| "<Mill> & weir".into()), &|at| [at as f64, 0.0])
        };
        let small = draw_row(10);
        assert_eq!(small.matches("data-nexus").count(), 10);
        assert!(small.contains("&lt;Mill&gt; &amp; weir") && !small.contains("<text x=\"8.0\" y=\"-6.0\">+"));
        let large = draw_row(2000);
        assert_eq!(large.matches("data-nexus").count(), MOST);
        assert!(large.contains(&format!(">+{}<", 2000 - MOST)), "the hidden ones are counted");
    }
}
