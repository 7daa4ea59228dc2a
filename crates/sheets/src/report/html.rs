//! A report as one HTML file: nothing is fetched, and it prints as it stands.

use std::fmt::Write as _;

use super::{Block, Drawn, Numbers, Report, Tabled, numbered};
use crate::Result;
use crate::svg::{escaped, svg};

const STYLE: &str = "body{max-width:46rem;margin:2rem auto;padding:0 1rem;font:16px/1.5 'Source Sans 3',sans-serif;color:#22302e;\
background:#fffdf8}h1{font-size:2rem}h2{margin-top:2.5rem}table{border-collapse:collapse;font-size:.85rem;width:100%}caption{\
text-align:left;font-weight:600;padding:.3rem 0}th{text-align:left;border-bottom:1px solid #5d6b68}td,th{padding:.15rem .8rem .15rem 0;\
vertical-align:top}td.n,th.n{text-align:right;font-variant-numeric:tabular-nums}figure{margin:1.5rem 0}figure svg{width:100%;height:auto}\
figcaption{font-weight:600;font-size:.9rem}dt{font-weight:600}dd{margin:0 0 .4rem}a{color:#0f5c63}nav ol{list-style:none;padding:0}\
nav .part{padding-left:1.5rem}@media print{body{margin:0;max-width:none}}";

fn table(out: &mut String, of: &Tabled, numbers: &mut Numbers) {
    let class = |n: usize| if of.numbers.get(n).copied().unwrap_or(false) { " class=\"n\"" } else { "" };
    let _ = write!(out, "<table><caption>{}. {}</caption><thead><tr>", numbers.table(), escaped(&of.caption));
    for (n, head) in of.heads.iter().enumerate() {
        let _ = write!(out, "<th scope=\"col\"{}>{}</th>", class(n), escaped(head));
    }
    out.push_str("</tr></thead><tbody>");
    let (shown, more) = of.shown();
    for row in shown {
        out.push_str("<tr>");
        for (n, cell) in row.iter().enumerate() {
            let _ = write!(out, "<td{}>{}</td>", class(n), escaped(cell));
        }
        out.push_str("</tr>");
    }
    out.push_str("</tbody></table>");
    if more > 0 {
        let _ = write!(out, "<p>{more} more rows are in {}.csv.</p>", escaped(&of.name));
    }
}

fn facts(out: &mut String, all: &[(String, String)]) {
    out.push_str("<dl>");
    for (name, value) in all {
        let _ = write!(out, "<dt>{}</dt><dd>{}</dd>", escaped(name), escaped(value));
    }
    out.push_str("</dl>");
}

/// Writes a report as HTML.
///
/// # Errors
/// [`crate::Error::Written`] where a picture cannot be encoded.
pub fn html(report: &Report) -> Result<String> {
    Ok(format!(
        "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">\
         <title>{}</title><style>{STYLE}</style></head><body>{}</body></html>",
        escaped(&report.title),
        html_body(report)?
    ))
}

/// What such a file shows, without its styles, for a page that has its own.
///
/// # Errors
/// [`crate::Error::Written`] where a picture cannot be encoded.
pub fn html_body(report: &Report) -> Result<String> {
    let sections = numbered(&report.sections);
    let mut out = format!("<header><h1>{}</h1>", escaped(&report.title));
    facts(&mut out, &report.about);
    out.push_str("</header><nav aria-label=\"Contents\"><h2>Contents</h2><ol>");
    for (section, number) in report.sections.iter().zip(&sections) {
        let class = if section.level > 1 { " class=\"part\"" } else { "" };
        let (key, title) = (escaped(&section.key), escaped(&section.title));
        let _ = write!(out, "<li{class}><a href=\"#{key}\">{number} {title}</a></li>");
    }
    out.push_str("</ol></nav><main>");
    let mut numbers = Numbers::default();
    for (section, number) in report.sections.iter().zip(&sections) {
        let level = section.level.clamp(1, 2) + 1;
        let (key, title) = (escaped(&section.key), escaped(&section.title));
        let _ = write!(
            out,
            "<section aria-labelledby=\"{key}\"><h{level} id=\"{key}\">{number} {title}</h{level}>"
        );
        for block in &section.blocks {
            match block {
                Block::Words(text) => {
                    let _ = write!(out, "<p>{}</p>", escaped(text));
                }
                Block::Own(text) => {
                    for part in text.split("\n\n").map(str::trim).filter(|part| !part.is_empty()) {
                        let _ = write!(
                            out,
                            "<p>{}</p>",
                            part.lines().map(escaped).collect::<Vec<_>>().join("<br>")
                        );
                    }
                }
                Block::List(points) => {
                    out.push_str("<ul>");
                    for point in points {
                        let _ = write!(out, "<li>{}</li>", escaped(point));
                    }
                    out.push_str("</ul>");
                }
                Block::Facts(all) => facts(&mut out, all),
                Block::Table(of) => table(&mut out, of, &mut numbers),
                Block::Figure(of) => {
                    let drawn = match &of.drawn {
                        Drawn::Chart(svg) => svg.clone(),
                        Drawn::Map(drawing) => svg(drawing, false)?,
                    };
                    let number = numbers.figure();
                    let _ = write!(
                        out,
                        "<figure>{drawn}<figcaption>{number}. {}</figcaption></figure>",
                        escaped(&of.caption)
                    );
                }
            }
        }
        out.push_str("</section>");
    }
    out.push_str("</main>");
    Ok(out)
}
