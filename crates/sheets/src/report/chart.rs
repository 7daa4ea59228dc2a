//! Charts as marks: the few elements that charts are drawn with.

use crate::{Anchor, Colour, Error, Line, Mark, Rect, Result, Weight};

fn colour(text: &str) -> Option<Colour> {
    let digits = text.strip_prefix('#').filter(|d| d.len() == 6)?;
    let value = u32::from_str_radix(digits, 16).ok()?;
    Some(Colour([(value >> 16) as u8, (value >> 8) as u8, value as u8]))
}

/// The points of a path of straight lines.
fn lines(d: &str) -> (Vec<Vec<[f64; 2]>>, bool) {
    let mut all: Vec<Vec<[f64; 2]>> = Vec::new();
    let (mut numbers, mut closed) = (Vec::new(), false);
    let spaced = d.replace('M', " M ").replace('L', " L ").replace('Z', " Z ").replace(',', " ");
    for word in spaced.split_whitespace() {
        match word {
            "M" => all.push(Vec::new()),
            "L" => {}
            "Z" => closed = true,
            number => numbers.extend(number.parse::<f64>()),
        }
        if let ([x, y], Some(line)) = (numbers.as_slice(), all.last_mut()) {
            line.push([*x, *y]);
            numbers.clear();
        }
    }
    (all, closed)
}

/// Width and height of a chart as its SVG says.
pub(super) fn size(svg: &str) -> Result<(f64, f64)> {
    let read = roxmltree::Document::parse(svg).map_err(|e| Error::Written(e.to_string()))?;
    let of = read.root_element().attribute("viewBox").unwrap_or_default();
    let numbers: Vec<f64> = of.split_whitespace().filter_map(|n| n.parse().ok()).collect();
    match numbers.as_slice() {
        [_, _, w, h] if *w > 0.0 && *h > 0.0 => Ok((*w, *h)),
        _ => Err(Error::Written("a chart does not say how large it is".into())),
    }
}

/// The marks of a chart in a rectangle on the page.
///
/// # Errors
/// [`Error::Written`] for what is no chart.
pub(super) fn marks(svg: &str, at: Rect) -> Result<Vec<Mark>> {
    let read = roxmltree::Document::parse(svg).map_err(|e| Error::Written(e.to_string()))?;
    let (width, _) = size(svg)?;
    let times = at.width / width;
    let place = |[x, y]: [f64; 2]| [at.x + x * times, at.y + y * times];
    let letters = read.root_element().attribute("font-size").and_then(|n| n.parse().ok()).unwrap_or(11.0);
    let mut out = Vec::new();
    for node in read.descendants().filter(roxmltree::Node::is_element) {
        let number = |name: &str| node.attribute(name).and_then(|n| n.parse::<f64>().ok()).unwrap_or(0.0);
        let opacity = node.attribute("opacity").and_then(|n| n.parse().ok()).unwrap_or(1.0);
        let fill = node.attribute("fill").and_then(colour).map(|c| (c, opacity));
        let line = node.attribute("stroke").and_then(colour).map(|colour| {
            let wide = node.attribute("stroke-width").and_then(|n| n.parse().ok()).unwrap_or(1.0);
            let dash = node.attribute("stroke-dasharray").unwrap_or_default();
            let dash =
                dash.split_whitespace().filter_map(|n| n.parse::<f64>().ok()).map(|d| d * times).collect();
            Line { colour, width: wide * times, dash, round: false }
        });
        match node.tag_name().name() {
            "path" => {
                let (all, closed) = lines(node.attribute("d").unwrap_or_default());
                let lines = all.into_iter().map(|l| l.into_iter().map(place).collect()).collect();
                out.push(Mark::Path { lines, closed, fill, line });
            }
            "line" => {
                let ends = [[number("x1"), number("y1")], [number("x2"), number("y2")]].map(place);
                if let Some(line) = line {
                    out.push(Mark::line(ends.into(), line));
                }
            }
            "rect" => {
                let [x, y] = place([number("x"), number("y")]);
                let rect = Rect { x, y, width: number("width") * times, height: number("height") * times };
                out.push(Mark::rect(rect, fill, line));
            }
            "circle" => {
                out.push(Mark::circle(place([number("cx"), number("cy")]), number("r") * times, fill, line));
            }
            "text" => {
                let anchor = match node.attribute("text-anchor") {
                    Some("middle") => Anchor::Middle,
                    Some("end") => Anchor::End,
                    _ => Anchor::Start,
                };
                out.push(Mark::Text {
                    at: place([number("x"), number("y")]),
                    anchor,
                    turned: 0.0,
                    size: letters * times,
                    weight: Weight::Regular,
                    colour: node.attribute("fill").and_then(colour).unwrap_or(Colour::INK),
                    halo: 0.0,
                    text: node.text().unwrap_or_default().to_owned(),
                });
            }
            _ => {}
        }
    }
    Ok(out)
}
