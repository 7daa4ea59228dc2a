//! A report laid out and written whole.

use super::*;
use crate::{About, Page, PageSize, pdf};

const CHART: &str = "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 350 190\" font-size=\"11\">\
    <line stroke=\"#D8D0C2\" x1=\"30\" x2=\"340\" y1=\"100\" y2=\"100\"/><path stroke=\"#0F5C63\" fill=\"none\" stroke-width=\"1.6\" d=\"M30 150 L100 90.5 M200 40 L340 20\"/>\
    <rect fill=\"#5B7F3B\" opacity=\"0.14\" x=\"50\" y=\"10\" width=\"40\" height=\"150\"/><circle fill=\"#0F5C63\" cx=\"100\" cy=\"90.5\" r=\"3\"/>\
    <text fill=\"#5D6B68\" x=\"340\" y=\"185\" text-anchor=\"end\">threshold, km²</text></svg>";

fn section(title: &str, level: u8, blocks: Vec<Block>) -> Section {
    Section { key: title.to_lowercase().replace(' ', "-"), title: title.into(), level, blocks }
}

fn report() -> Report {
    let rows = (1..=132).map(|n| {
        vec![
            format!("Order {}", n % 5),
            n.to_string(),
            "a remark of some length that is broken within its cell where the column is narrow".into(),
        ]
    });
    let table = Tabled {
        name: "reaches".into(),
        caption: "Reaches by order".into(),
        heads: vec!["Order".into(), "Reaches".into(), "Remark".into()],
        numbers: vec![false, true, false],
        rows: rows.collect(),
        most: 120,
    };
    let chart = Figured {
        caption: "Agreement over thresholds".into(),
        told: String::new(),
        drawn: Drawn::Chart(CHART.into()),
    };
    Report {
        title: "Sorrel Water: the network and its defence".into(),
        about: vec![("CRS".into(), "EPSG:32628".into()), ("Threshold".into(), "0.42 km²".into())],
        sections: vec![
            section(
                "Inputs",
                1,
                vec![
                    Block::Words("The DEM was surveyed. ".repeat(40)),
                    Block::List(vec!["one".into(), "two".into()]),
                ],
            ),
            section("What was done", 2, vec![Block::Table(table)]),
            section(
                "Evidence",
                1,
                vec![Block::Figure(chart), Block::Own("My own words.\n\nAnd more of <them>.".into())],
            ),
        ],
    }
}

const A4: Page = Page { size: PageSize::A4, across: false };

fn texts(marks: &[crate::Mark]) -> Vec<(String, [f64; 2])> {
    let mut out = Vec::new();
    for mark in marks {
        match mark {
            crate::Mark::Text { text, at, .. } => out.push((text.clone(), *at)),
            crate::Mark::Clip { marks, .. } | crate::Mark::Group { marks, .. } => out.extend(texts(marks)),
            _ => {}
        }
    }
    out
}

#[test]
fn pages_are_numbered_and_contents_tell_where_sections_stand() {
    let book = book(&report(), A4).unwrap();
    let count = book.pages.len();
    assert!(count >= 4, "{count}");
    for (n, page) in book.pages.iter().enumerate() {
        let told = texts(&page.marks);
        assert!(told.iter().any(|(t, _)| *t == format!("{} of {count}", n + 1)));
        // Nothing stands beyond the margins.
        assert!(
            told.iter().all(|(_, [x, y])| (24.0..=186.0).contains(x) && (15.0..=290.0).contains(y)),
            "{n}"
        );
    }
    let on =
        |words: &str| book.pages.iter().position(|p| p.headings.iter().any(|h| h.title == words)).unwrap();
    let contents = texts(&book.pages[0].marks);
    for title in ["1 Inputs", "1.1 What was done", "2 Evidence"] {
        let (_, [_, y]) = contents.iter().find(|(t, _)| t == title).unwrap();
        let number =
            contents.iter().find(|(t, [x, at])| at == y && *x > 150.0 && t.parse::<usize>().is_ok()).unwrap();
        assert_eq!(number.0, (on(title) + 1).to_string(), "{title}");
    }
    // The head of a table stands on each of its pages; figures and tables are numbered.
    let heads = book.pages.iter().filter(|p| texts(&p.marks).iter().any(|(t, _)| t == "Reaches")).count();
    assert!(heads >= 3, "{heads}");
    let all: Vec<String> = book.pages.iter().flat_map(|p| texts(&p.marks)).map(|(t, _)| t).collect();
    for words in [
        "Table 1. Reaches by order",
        "Figure 1. Agreement over thresholds",
        "12 more rows are in reaches.csv.",
        "threshold, km²",
    ] {
        assert!(all.iter().any(|t| t == words), "{words}");
    }
}

#[test]
fn words_of_a_table_stay_whole_while_there_is_room_for_them() {
    let heads = ["Trial", "Threshold", "Agreement", "Modelled near mapped", "Remark"];
    let row = [
        "sorrel_streams_12ha",
        "12.0 ha",
        "92 %",
        "88 %",
        "Conditioning of the second survey, made again in May",
    ];
    let own = |all: &[&str]| all.iter().map(|t| (*t).to_owned()).collect::<Vec<String>>();
    let table = Tabled {
        name: "trials".into(),
        caption: "Trials".into(),
        heads: own(&heads),
        numbers: vec![false; 5],
        rows: vec![own(&row); 3],
        most: 40,
    };
    let report = Report {
        title: "Words".into(),
        about: Vec::new(),
        sections: vec![section("Trials", 1, vec![Block::Table(table)])],
    };
    let book = book(&report, A4).unwrap();
    let told: Vec<String> = book.pages.iter().flat_map(|p| texts(&p.marks)).map(|(t, _)| t).collect();
    for word in heads.iter().chain(&row).flat_map(|cell| cell.split_whitespace()) {
        assert!(told.iter().any(|t| t.split_whitespace().any(|w| w == word)), "{word}: {told:?}");
    }
}

#[test]
fn a_report_is_written_as_a_pdf_that_can_be_read_aloud() {
    let book = book(&report(), A4).unwrap();
    let about = About { title: report().title, made: (2026, 11, 28, 12, 0, 0) };
    let file = pdf(&book.pages, &about).unwrap();
    assert!(file.starts_with(b"%PDF-1.7") && file.len() > 20_000);
}

#[test]
fn html_holds_the_same_and_nothing_from_elsewhere() {
    let text = html(&report()).unwrap();
    for words in [
        "Table 1. Reaches by order",
        "Figure 1. Agreement over thresholds",
        "1.1 What was done",
        "And more of &lt;them&gt;.",
        "href=\"#evidence\"",
    ] {
        assert!(text.contains(words), "{words}");
    }
    assert!(!text.contains("src=\"http") && !text.contains("href=\"http"));
}

#[test]
fn a_chart_has_its_marks_where_it_had_them() {
    let at = crate::Rect { x: 10.0, y: 20.0, width: 70.0, height: 38.0 };
    let marks = chart::marks(CHART, at).unwrap();
    assert_eq!(marks.len(), 5);
    let crate::Mark::Path { lines, line: Some(line), .. } = &marks[1] else { panic!("{:?}", marks[1]) };
    assert_eq!(lines.len(), 2);
    assert_eq!(lines[0][0], [10.0 + 30.0 / 5.0, 20.0 + 150.0 / 5.0]);
    assert!((line.width - 0.32).abs() < 1e-9);
    assert!(chart::marks("<svg/>", at).is_err() && chart::marks("no chart", at).is_err());
}
