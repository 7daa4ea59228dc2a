//! Sheets laid out whole.

use std::sync::Arc;

use rstest::rstest;

use super::*;
use crate::{
    BarUnit, Colour, Entry, Feature, Fit, Geometry, Label, Layer, Layout, Page, Part, Sample, Stroke, Text,
    Weight, begin,
    pdf::{About, pdf},
    png, svg, width_mm,
};

/// A picture of one colour.
fn picture(width: usize, height: usize) -> Picture {
    Picture { width, height, rgba: Arc::new([0xDC, 0xD5, 0xC0, 255].repeat(width * height)) }
}

fn stroke() -> Stroke {
    Stroke { colour: Colour([15, 92, 99]), width_px: 2.0, dash_px: Vec::new() }
}

fn label(text: &str, matters: f64) -> Option<Label> {
    Some(Label { text: text.into(), size_px: 13.0, colour: Colour::INK, matters })
}

/// A study of 8 by 6 km: ground, streams that cross it, catchments, pour points.
fn content(frame: u32, at: Rect) -> Content {
    let view =
        View::fitted(at, [500_000.0, 4_760_000.0, 508_000.0, 4_766_000.0], 1.0, 0.02).unwrap().rounded();
    let line = |n: usize| -> Vec<[f64; 2]> {
        let y = 4_760_500.0 + 230.0 * n as f64;
        (0..80)
            .map(|i| [500_000.0 + 100.0 * f64::from(i), y + 90.0 * (f64::from(i) / 9.0 + n as f64).sin()])
            .collect()
    };
    let streams = (0..24).map(|n| Feature {
        geometry: Geometry::Lines(vec![line(n)]),
        stroke: Some(stroke()),
        fill: None,
        radius_px: 0.0,
        label: label(&format!("Order {}", n % 5), f64::from(n as u32 % 5)),
    });
    let point = |n: usize| Feature {
        geometry: Geometry::Point(
            [500_400.0 + 700.0 * (n % 10) as f64, 4_760_600.0 + 900.0 * (n / 10) as f64],
            4,
        ),
        stroke: None,
        fill: Some((Colour([180, 83, 42]), 1.0)),
        radius_px: 6.0,
        label: label(&format!("Gauge {n}"), 10.0),
    };
    let ring = vec![[501_000.0, 4_761_000.0], [506_000.0, 4_761_500.0], [504_000.0, 4_765_500.0]];
    let area = Feature {
        geometry: Geometry::Area(vec![ring.clone()]),
        stroke: Some(stroke()),
        fill: Some((Colour([185, 162, 122]), 0.3)),
        radius_px: 0.0,
        label: label("Marlpit", 20.0),
    };
    let entry =
        |name: &str, sample| Entry { name: name.into(), words: name.into(), group: "Network".into(), sample };
    Content {
        frame,
        view,
        layers: vec![
            Layer::Picture { picture: picture(320, 240), opacity: 1.0 },
            Layer::Features(vec![area]),
            Layer::Features(streams.collect()),
            Layer::Features((0..60).map(point).collect()),
        ],
        mask: None,
        entries: vec![
            entry("Order 1", Sample::Lines(vec![stroke()])),
            entry(
                "Elevation",
                Sample::Ramp {
                    colours: vec![Colour::PAPER, Colour::INK],
                    ends: vec!["112 m".into(), "640 m".into()],
                },
            ),
        ],
        north: Some(0.3),
        unit: "m",
        geo: None,
        told: "Map of the network".into(),
    }
}

fn sheet(layout: Layout, page: Page) -> (Sheet, Vec<Content>) {
    let sheet = begin(layout, page, &["relief".into(), "streams".into()], BarUnit::Metric, 1.3).unwrap();
    let contents = sheet.frames().map(|(part, _)| content(part.id, part.at)).collect();
    (sheet, contents)
}

const A4: Page = Page { size: PageSize::A4, across: true };

fn words() -> Words {
    Words { all: vec![("study", "Sorrel Water".into()), ("date", "28 November 2026".into())] }
}

fn texts(marks: &[Mark]) -> Vec<String> {
    let mut out = Vec::new();
    for mark in marks {
        match mark {
            Mark::Text { text, .. } => out.push(text.clone()),
            Mark::Clip { marks, .. } | Mark::Group { marks, .. } => out.extend(texts(marks)),
            _ => {}
        }
    }
    out
}

/// Colours of all letters.
fn letters(marks: &[Mark]) -> Vec<(String, Colour)> {
    let of = |mark: &Mark| match mark {
        Mark::Text { text, colour, .. } => vec![(text.clone(), *colour)],
        Mark::Clip { marks, .. } | Mark::Group { marks, .. } => letters(marks),
        _ => Vec::new(),
    };
    marks.iter().flat_map(of).collect()
}

#[test]
fn letters_stand_out_from_the_paper_and_from_their_rims() {
    // Contrast of text by WCAG 2.2, 1.4.3: at least 4.5 to 1. The rim of labels on maps is as light as the paper.
    let (sheet, contents) = sheet(Layout::Two, A4);
    let laid = lay(&sheet, &contents, &words(), &[]).unwrap();
    let all = letters(&laid.drawing.marks);
    assert!(all.len() > 40, "{}", all.len());
    for (text, colour) in all {
        let contrast = colour.contrast(Colour::PAPER);
        assert!(contrast >= 4.5, "“{text}”: {contrast:.1}");
    }
}

#[rstest]
#[case(Layout::One)]
#[case(Layout::Two)]
#[case(Layout::Four)]
#[case(Layout::Figure)]
fn every_layout_is_drawn_and_no_label_lies_over_another(#[case] layout: Layout) {
    let (sheet, contents) = sheet(layout, A4);
    let laid = lay(&sheet, &contents, &words(), &[]).unwrap();
    assert!(laid.labels.len() > 20, "{}", laid.labels.len());
    for (n, a) in laid.labels.iter().enumerate() {
        assert!(laid.labels[..n].iter().all(|b| !a.meets(b)), "{a:?}");
    }
    let told = texts(&laid.drawing.marks);
    if layout != Layout::Figure {
        assert!(told.contains(&"Sorrel Water".into()) && told.contains(&"Order 1".into()), "{told:?}");
        assert!(told.iter().any(|t| t == "true north 0.3° west"), "{told:?}");
        assert!(told.iter().any(|t| t.contains("on A4")), "{told:?}");
    }
    assert!(told.iter().any(|t| t.ends_with(" km")), "{told:?}");
    let about = About { title: "Sorrel Water".into(), made: (2026, 11, 28, 12, 0, 0) };
    let file = pdf(std::slice::from_ref(&laid.drawing), &about).unwrap();
    assert!(file.starts_with(b"%PDF-1.7"));
    let drawn = svg(&laid.drawing, true).unwrap();
    let read = roxmltree::Document::parse(&drawn).unwrap();
    assert_eq!(read.root_element().attribute("width"), Some("297mm"));
}

#[test]
fn a_png_has_the_size_and_the_resolution_that_was_asked_for() {
    let (sheet, contents) = sheet(Layout::Figure, A4);
    let laid = lay(&sheet, &contents, &words(), &[]).unwrap();
    let file = png(&laid.drawing, 100.0).unwrap();
    let mut reader = ::png::Decoder::new(std::io::Cursor::new(file)).read_info().unwrap();
    let info = reader.info();
    // 297 mm are 11.693 inches; 100 dots an inch are 3937 a metre.
    assert_eq!((info.width, info.height), (1169, 827));
    assert_eq!(info.pixel_dims.map(|d| (d.xppu, d.yppu)), Some((3937, 3937)));
    let mut dots = vec![0; reader.output_buffer_size().unwrap()];
    reader.next_frame(&mut dots).unwrap();
    // Ground in the middle of the map, letters in the ink of the page somewhere.
    assert!(dots.chunks(3).any(|p| p == [0xDC, 0xD5, 0xC0]));
    assert!(dots.chunks(3).any(|p| p[0] < 0x40 && p[1] < 0x50));
    for dpi in [0.0, -3.0, f64::NAN, 5000.0] {
        assert!(png(&laid.drawing, dpi).is_err());
    }
}

#[test]
fn a_scale_bar_never_spans_two_maps() {
    let (mut sheet, contents) = sheet(Layout::Two, A4);
    let frames: Vec<Rect> = sheet.frames().filter(|(_, f)| f.locates.is_none()).map(|(p, _)| p.at).collect();
    let bar = sheet.parts.iter_mut().find(|p| matches!(p.what, What::Bar { .. })).unwrap();
    bar.at.x = frames[0].x + frames[0].width - 20.0;
    let id = bar.id;
    let laid = lay(&sheet, &contents, &words(), &[]).unwrap();
    assert!(laid.complaints.iter().any(|c| c.contains("scale bar")), "{:?}", laid.complaints);
    let (_, place) = furniture_places(&sheet, &mut Vec::new()).into_iter().find(|(n, _)| *n == id).unwrap();
    assert!(place.x >= frames[0].x && place.x + place.width <= frames[0].x + frames[0].width + 1e-9);
}

#[test]
fn what_does_not_fit_is_told_and_nothing_is_lost() {
    let (mut sheet, mut contents) = sheet(Layout::One, A4);
    for n in 0..100 {
        let sample = Sample::Lines(vec![stroke()]);
        let entry =
            Entry { name: format!("e{n}"), words: format!("Entry number {n}"), group: "More".into(), sample };
        contents[0].entries.push(entry);
    }
    let title = Text {
        text: "河川 A name longer than the page ".repeat(30),
        size_pt: 20.0,
        bold: true,
        middle: false,
    };
    sheet.parts[0].what = What::Title(title);
    let laid = lay(&sheet, &contents, &words(), &[]).unwrap();
    let told = laid.complaints.join("\n");
    assert!(told.contains("entries of the key find no room"), "{told}");
    assert!(told.contains("does not fit its part") && told.contains("empty boxes: 河 川"), "{told}");
    let about = About { title: String::new(), made: (2026, 11, 28, 12, 0, 0) };
    pdf(&[laid.drawing], &about).unwrap();
}

#[test]
fn a_long_heading_of_the_key_is_broken() {
    let (mut sheet, mut contents) = sheet(Layout::One, A4);
    let group = "Catchment of the upper weir against the boundary that the survey of 1988 drew";
    for entry in contents.iter_mut().flat_map(|content| &mut content.entries) {
        entry.group = group.into();
    }
    let part = sheet.parts.iter_mut().find(|part| matches!(part.what, What::Key(_))).unwrap();
    let at = part.at;
    let laid = lay(&sheet, &contents, &words(), &[]).unwrap();
    let mut all: Vec<&Mark> = laid.drawing.marks.iter().collect();
    let mut told = Vec::new();
    while let Some(mark) = all.pop() {
        match mark {
            Mark::Group { marks, .. } | Mark::Clip { marks, .. } => all.extend(marks.iter().rev()),
            Mark::Text { at: [x, _], text, size, weight: Weight::Bold, .. } => {
                told.push((*x + width_mm(text, *size, Weight::Bold), text.clone()));
            }
            _ => {}
        }
    }
    let lines: Vec<(f64, String)> =
        told.into_iter().filter(|(_, text)| group.contains(text.as_str())).collect();
    assert!(lines.len() > 1, "{lines:?}");
    assert!(lines.iter().all(|(right, _)| *right <= at.x + at.width + 1e-6), "{lines:?}");
    assert_eq!(lines.iter().map(|(_, text)| text.as_str()).collect::<Vec<_>>().join(" "), group);
}

#[test]
fn nothing_drawn_is_an_empty_frame() {
    let (sheet, mut contents) = sheet(Layout::One, A4);
    for content in &mut contents {
        content.layers.clear();
        content.entries.clear();
    }
    let laid = lay(&sheet, &contents, &Words::default(), &[]).unwrap();
    assert!(laid.labels.is_empty());
    let nothing = lay(&Sheet { parts: Vec::new(), ..sheet }, &[], &Words::default(), &[]).unwrap();
    assert!(nothing.drawing.marks.is_empty());
    svg(&nothing.drawing, false).unwrap();
}

#[rstest]
#[case(0.0)]
#[case(1.0)]
#[case(-25_000.0)]
#[case(f64::NAN)]
fn a_scale_of_nothing_is_refused(#[case] denominator: f64) {
    let (mut sheet, contents) = sheet(Layout::One, A4);
    for part in &mut sheet.parts {
        if let What::Frame(frame) = &mut part.what {
            frame.fit = Fit::Place { x: 0.0, y: 0.0, denominator };
        }
    }
    let told = lay(&sheet, &contents, &words(), &[]).unwrap_err().to_string();
    assert!(told.contains("shows nothing of a landscape"), "{told}");
}

#[test]
fn a_sheet_is_read_as_it_was_kept() {
    let (mut sheet, _) = sheet(Layout::Four, A4);
    sheet.guides = (vec![20.0], vec![30.5]);
    sheet.parts.push(Part {
        id: sheet.next_id(),
        at: Rect { x: 1.0, y: 1.0, width: 9.0, height: 9.0 },
        hidden: true,
        what: What::Logo { sha256: Some("ab".into()) },
    });
    let kept = serde_json::to_value(&sheet).unwrap();
    assert_eq!(serde_json::from_value::<Sheet>(kept).unwrap(), sheet);
}
