//! Laying a sheet out: from its parts and what its frames show to marks on paper.

mod frame;
mod furniture;
mod key;
mod text;

pub use key::all_entries;

use crate::labels::Spot;
use crate::{
    Content, Drawing, GeoReference, Mark, PageSize, Picture, Rect, Result, Role, Sheet, View, What, Words,
    missing_letters,
};

/// A sheet that was laid out.
#[derive(Debug, Clone, PartialEq)]
pub struct Laid {
    /// the page
    pub drawing: Drawing,
    /// what did not come out as it was meant, in words
    pub complaints: Vec<String>,
    /// frames with where they look, and where that lies on the earth
    pub frames: Vec<(u32, View, Option<GeoReference>)>,
    /// where labels of maps lie, mm
    pub labels: Vec<Spot>,
}

/// Whether the ends of strokes are round: those of a line that is not broken, and of dots.
fn rounded(dash_px: &[f64]) -> bool {
    dash_px.first().is_none_or(|first| *first == DOT_PX)
}

/// Strokes of a dotted line, pixels.
const DOT_PX: f64 = 1.5;

/// A scale in words, with the size of page that it holds for.
fn scale_of(sheet: &Sheet, view: &View) -> String {
    let on = match sheet.page.size {
        PageSize::A4 => "A4".into(),
        PageSize::A3 => "A3".into(),
        PageSize::Letter => "letter".into(),
        PageSize::Tabloid => "tabloid".into(),
        PageSize::Free { width_mm, height_mm } => format!("a page of {width_mm} × {height_mm} mm"),
    };
    format!("1:{} on {on}", crate::grid::apart(view.denominator.round(), 0))
}

/// Lays a sheet out. `contents` are those of its frames, `words` stand for the names in braces, `logos` are the pictures of
/// parts by their numbers.
///
/// # Errors
/// What [`Sheet::check`] finds.
pub fn lay(sheet: &Sheet, contents: &[Content], words: &Words, logos: &[(u32, Picture)]) -> Result<Laid> {
    sheet.check()?;
    let mut words = words.clone();
    if let Some(first) = contents.first() {
        words.all.push(("scale", scale_of(sheet, &first.view)));
    }
    let content = |id: u32| contents.iter().find(|content| content.frame == id);
    let mut out = Laid {
        drawing: Drawing {
            page: sheet.page.mm()?,
            title: String::new(),
            marks: Vec::new(),
            headings: Vec::new(),
        },
        complaints: Vec::new(),
        frames: contents.iter().map(|c| (c.frame, c.view, c.geo.clone())).collect(),
        labels: Vec::new(),
    };
    let places = furniture_places(sheet, &mut out.complaints);
    for part in sheet.parts.iter().filter(|part| !part.hidden) {
        let at = places.iter().find(|(id, _)| *id == part.id).map_or(part.at, |(_, at)| *at);
        let marks = match &part.what {
            What::Frame(frame) => match content(part.id) {
                Some(own) => {
                    // What stands in front of it.
                    let free: Vec<Rect> = sheet
                        .parts
                        .iter()
                        .skip_while(|p| p.id != part.id)
                        .skip(1)
                        .filter(|p| !p.hidden)
                        .map(|p| places.iter().find(|(id, _)| *id == p.id).map_or(p.at, |(_, at)| *at))
                        .filter(|p| p.meets(&at))
                        .collect();
                    let looked_at = frame.locates.and_then(content);
                    let drawn = frame::marks(part.id, frame, own, looked_at, &free)?;
                    out.labels.extend(drawn.labels);
                    out.complaints.extend(drawn.complaints);
                    vec![Mark::Group { role: Role::Figure(own.told.clone()), marks: drawn.marks }]
                }
                None => Vec::new(),
            },
            What::Title(given) => {
                let told = words.fill(&given.text);
                if out.drawing.title.is_empty() {
                    out.drawing.title = told.split_whitespace().collect::<Vec<_>>().join(" ");
                }
                let marks = text::marks(given, &told, at, &mut out.complaints);
                vec![Mark::Group { role: Role::Title, marks }]
            }
            What::Text(given) | What::Source(given) => {
                let marks = text::marks(given, &words.fill(&given.text), at, &mut out.complaints);
                vec![Mark::Group { role: Role::Words, marks }]
            }
            What::Key(given) => {
                let marks = key::marks(given, contents, at, &mut out.complaints);
                vec![Mark::Group { role: Role::Words, marks }]
            }
            What::Bar { frame, unit } => content(*frame).or(contents.first()).map_or(Vec::new(), |of| {
                let over = sheet.frames().any(|(p, _)| p.at.meets(&at));
                let told = "Scale bar".to_owned();
                vec![Mark::Group {
                    role: Role::Figure(told),
                    marks: furniture::bar(&of.view, *unit, at, over),
                }]
            }),
            What::North { frame } => content(*frame).or(contents.first()).map_or(Vec::new(), |of| {
                vec![Mark::Group { role: Role::Words, marks: furniture::north(of.north, at) }]
            }),
            What::Logo { .. } => match logos.iter().find(|(id, _)| *id == part.id) {
                Some((_, picture)) => {
                    let marks = vec![furniture::logo(picture, at)];
                    vec![Mark::Group { role: Role::Figure("Logo".into()), marks }]
                }
                None => Vec::new(),
            },
        };
        out.drawing.marks.extend(marks.into_iter().filter(|mark| match mark {
            Mark::Group { marks, .. } => !marks.is_empty(),
            _ => true,
        }));
    }
    let missing = missing_letters(&all_text(&out.drawing.marks));
    if !missing.is_empty() {
        let told: String = missing.iter().take(20).map(|c| format!(" {c}")).collect();
        out.complaints.push(format!(
            "The fonts that ship hold Latin, Greek and Cyrillic; these letters are drawn as empty boxes:{told}"
        ));
        print_boxes(&mut out.drawing.marks);
        out.drawing.title = crate::fonts::printable(&out.drawing.title);
    }
    Ok(out)
}

/// Puts boxes in the place of letters that the fonts do not hold.
pub(crate) fn print_boxes(marks: &mut [Mark]) {
    for mark in marks {
        match mark {
            Mark::Text { text, .. } => *text = crate::fonts::printable(text),
            Mark::Clip { marks, .. } | Mark::Group { marks, .. } => print_boxes(marks),
            Mark::Path { .. } | Mark::Image { .. } => {}
        }
    }
}

/// Where scale bars stand: inside the frame that they belong to wherever they would lie over two, or over another.
fn furniture_places(sheet: &Sheet, complaints: &mut Vec<String>) -> Vec<(u32, Rect)> {
    let mut out = Vec::new();
    for part in sheet.parts.iter().filter(|part| !part.hidden) {
        let What::Bar { frame, .. } = part.what else { continue };
        let met: Vec<&crate::Part> = sheet
            .frames()
            .filter(|(p, f)| f.locates.is_none() && p.at.meets(&part.at))
            .map(|(p, _)| p)
            .collect();
        let own = sheet.frames().map(|(p, _)| p).find(|p| p.id == frame);
        let inside = |r: &Rect| {
            part.at.x >= r.x
                && part.at.y >= r.y
                && part.at.x + part.at.width <= r.x + r.width + 1e-9
                && part.at.y + part.at.height <= r.y + r.height + 1e-9
        };
        match (met.as_slice(), own) {
            ([], _) => {}
            ([one], _) if one.id == frame && inside(&one.at) => {}
            (_, Some(own)) => {
                let there = Rect { x: part.at.x - own.at.x, y: part.at.y - own.at.y, ..part.at };
                let there = there.on((own.at.width, own.at.height));
                out.push((part.id, Rect { x: there.x + own.at.x, y: there.y + own.at.y, ..there }));
                complaints.push("The scale bar belongs to one map and was moved into it.".into());
            }
            _ => {}
        }
    }
    out
}

/// All that is written on a page.
pub(crate) fn all_text(marks: &[Mark]) -> String {
    let mut out = String::new();
    for mark in marks {
        match mark {
            Mark::Text { text, .. } => out.push_str(text),
            Mark::Clip { marks, .. } | Mark::Group { marks, .. } => out.push_str(&all_text(marks)),
            Mark::Path { .. } | Mark::Image { .. } => {}
        }
    }
    out
}

#[cfg(test)]
mod tests;
