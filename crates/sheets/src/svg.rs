//! Writing SVG 1.1: millimetres, text as text with its fonts in the file.

use std::fmt::Write as _;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

use crate::fonts::{FAMILY, file};
use crate::picture::encoded;
use crate::{Anchor, Drawing, Line, Mark, Picture, Result, Role, Weight};

/// Where the pictures of a drawing are.
pub(crate) enum Pictures<'a> {
    /// in the file
    Within,
    /// named by their number, and put into a list
    Beside(&'a mut Vec<Picture>),
}

/// Writes a page as SVG; `fonts` tells whether the fonts are put into the file.
///
/// # Errors
/// [`crate::Error::Written`] where a picture cannot be encoded.
pub fn svg(drawing: &Drawing, fonts: bool) -> Result<String> {
    written(drawing, fonts, &mut Pictures::Within)
}

pub(crate) fn written(drawing: &Drawing, fonts: bool, pictures: &mut Pictures) -> Result<String> {
    let (width, height) = drawing.page;
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" xmlns:xlink=\"http://www.w3.org/1999/xlink\" version=\"1.1\" \
         width=\"{width}mm\" height=\"{height}mm\" viewBox=\"0 0 {width} {height}\"><title>{}</title>",
        escaped(&drawing.title)
    );
    if fonts {
        out.push_str("<style>");
        for (weight, number) in [(Weight::Regular, 400), (Weight::Bold, 600)] {
            let data = STANDARD.encode(file(weight));
            let _ = write!(
                out,
                "@font-face{{font-family:'{FAMILY}';font-weight:{number};src:url(data:font/ttf;base64,{data})}}"
            );
        }
        out.push_str("</style>");
    }
    let _ = write!(out, "<rect width=\"{width}\" height=\"{height}\" fill=\"#FFFFFF\"/>");
    let mut clips = 0;
    marks(&drawing.marks, &mut out, &mut clips, pictures)?;
    out.push_str("</svg>");
    Ok(out)
}

fn marks(all: &[Mark], out: &mut String, clips: &mut usize, pictures: &mut Pictures) -> Result<()> {
    for mark in all {
        match mark {
            Mark::Path { lines, closed, fill, line } => {
                let d = path(lines, *closed);
                if d.is_empty() {
                    continue;
                }
                let _ = write!(out, "<path d=\"{d}\"");
                match fill {
                    Some((colour, opacity)) => {
                        let _ = write!(out, " fill=\"{colour}\" fill-rule=\"evenodd\"");
                        if *opacity < 1.0 {
                            let _ = write!(out, " fill-opacity=\"{opacity}\"");
                        }
                    }
                    None => out.push_str(" fill=\"none\""),
                }
                if let Some(line) = line {
                    stroke(line, out);
                }
                out.push_str("/>");
            }
            Mark::Image { at, picture, opacity } => {
                let address = match pictures {
                    Pictures::Within => {
                        format!("data:image/png;base64,{}", STANDARD.encode(encoded(picture)?))
                    }
                    Pictures::Beside(list) => {
                        list.push(picture.clone());
                        format!("picture:{}", list.len() - 1)
                    }
                };
                let _ = write!(
                    out,
                    "<image x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\" preserveAspectRatio=\"none\"",
                    short(at.x),
                    short(at.y),
                    short(at.width),
                    short(at.height)
                );
                if *opacity < 1.0 {
                    let _ = write!(out, " opacity=\"{opacity}\"");
                }
                let _ = write!(out, " xlink:href=\"{address}\"/>");
            }
            Mark::Text { at: [x, y], anchor, turned, size, weight, colour, halo, text } => {
                let (x, y) = (short(*x), short(*y));
                let _ = write!(
                    out,
                    "<text x=\"{x}\" y=\"{y}\" font-family=\"'{FAMILY}'\" font-size=\"{}\"",
                    short(*size)
                );
                if *weight == Weight::Bold {
                    out.push_str(" font-weight=\"600\"");
                }
                match anchor {
                    Anchor::Start => {}
                    Anchor::Middle => out.push_str(" text-anchor=\"middle\""),
                    Anchor::End => out.push_str(" text-anchor=\"end\""),
                }
                if *turned != 0.0 {
                    let _ = write!(out, " transform=\"rotate({} {x} {y})\"", short(*turned));
                }
                let _ = write!(out, " fill=\"{colour}\"");
                let told = escaped(text);
                if *halo > 0.0 {
                    // Once as a rim, once over it: readers without paint-order draw it alike.
                    let begin = out.rfind("<text").unwrap_or(0);
                    let twice = out[begin..].to_owned();
                    let _ = write!(
                        out,
                        " stroke=\"#FFFFFF\" stroke-width=\"{}\" stroke-linejoin=\"round\" aria-hidden=\"true\">{told}</text>{twice}",
                        short(2.0 * halo)
                    );
                }
                let _ = write!(out, ">{told}</text>");
            }
            Mark::Clip { area, marks: within } => {
                let id = *clips;
                *clips += 1;
                let _ = write!(
                    out,
                    "<clipPath id=\"clip{id}\"><path clip-rule=\"evenodd\" d=\"{}\"/></clipPath><g clip-path=\"url(#clip{id})\">",
                    path(area, true)
                );
                marks(within, out, clips, pictures)?;
                out.push_str("</g>");
            }
            Mark::Group { role, marks: within } => {
                match role {
                    Role::Figure(told) => {
                        let _ = write!(out, "<g role=\"img\" aria-label=\"{}\">", escaped(told));
                    }
                    Role::Aside => out.push_str("<g aria-hidden=\"true\">"),
                    _ => out.push_str("<g>"),
                }
                marks(within, out, clips, pictures)?;
                out.push_str("</g>");
            }
        }
    }
    Ok(())
}

fn stroke(line: &Line, out: &mut String) {
    let _ = write!(out, " stroke=\"{}\" stroke-width=\"{}\"", line.colour, short(line.width));
    if line.round {
        out.push_str(" stroke-linecap=\"round\" stroke-linejoin=\"round\"");
    }
    if !line.dash.is_empty() {
        let dash: Vec<String> = line.dash.iter().map(|d| short(*d)).collect();
        let _ = write!(out, " stroke-dasharray=\"{}\"", dash.join(" "));
    }
}

/// A length to a micrometre.
fn short(mm: f64) -> String {
    let text = format!("{mm:.3}");
    let text = text.trim_end_matches('0').trim_end_matches('.');
    if text == "-0" { "0".into() } else { text.to_owned() }
}

fn path(lines: &[Vec<[f64; 2]>], closed: bool) -> String {
    let mut d = String::new();
    for line in lines.iter().filter(|line| line.len() > 1) {
        for (n, [x, y]) in line.iter().enumerate() {
            let _ = write!(d, "{}{} {}", if n == 0 { "M" } else { "L" }, short(*x), short(*y));
        }
        if closed {
            d.push('Z');
        }
    }
    d
}

/// Text for XML; letters that no document may hold are left out.
pub(crate) fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for letter in text.chars() {
        match letter {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\t' => out.push(' '),
            c if c.is_control() || matches!(c, '\u{FFFE}' | '\u{FFFF}') => {}
            c => out.push(c),
        }
    }
    out
}
