//! A report on pages: title and contents, sections with numbered tables and figures, page numbers, links.

use super::{Block, Drawn, Figured, Numbers, Report, Tabled, chart, numbered};
use crate::fonts::{POINT, broken};
use crate::mark::{Heading, Target};
use crate::{
    Anchor, Colour, Drawing, Line, Mark, Page, Rect, Result, Role, Weight, missing_letters, width_mm,
};

/// A report on pages.
#[derive(Debug, Clone, PartialEq)]
pub struct Book {
    /// its pages
    pub pages: Vec<Drawing>,
    /// what did not come out as it was meant
    pub complaints: Vec<String>,
}

/// Margins: left and right, top, bottom, mm.
const SIDE: f64 = 25.0;
const TOP: f64 = 22.0;
const BOTTOM: f64 = 24.0;
/// Letters, points.
const BODY: f64 = 10.0;
const SMALL: f64 = 8.5;
const CELLS: f64 = 8.0;
const HEADS: [f64; 2] = [16.0, 12.0];
/// A line of text beside the height of its letters.
const LEADING: f64 = 1.4;
/// A map takes so much of the page's height at most.
const TALLEST: f64 = 0.45;
/// A pixel of a chart, mm: its letters are as large as those of tables and text.
const CHART: f64 = 0.3;

/// A page that is being filled.
struct Flow {
    page: (f64, f64),
    y: f64,
    pages: Vec<Drawing>,
    /// how many pages stand before these
    before: usize,
}

impl Flow {
    fn new(page: (f64, f64), before: usize) -> Self {
        let mut flow = Self { page, y: TOP, pages: Vec::new(), before };
        flow.turn();
        flow
    }

    fn width(&self) -> f64 {
        self.page.0 - 2.0 * SIDE
    }

    fn bottom(&self) -> f64 {
        self.page.1 - BOTTOM
    }

    /// Begins another page.
    fn turn(&mut self) {
        let title = String::new();
        self.pages.push(Drawing { page: self.page, title, marks: Vec::new(), headings: Vec::new() });
        self.y = TOP;
    }

    /// Makes room for so many mm; what is taller than a page begins at its top.
    fn need(&mut self, mm: f64) {
        if self.y + mm > self.bottom() && self.y > TOP {
            self.turn();
        }
    }

    fn put(&mut self, mark: Mark) {
        if let Some(page) = self.pages.last_mut() {
            page.marks.push(mark);
        }
    }

    /// Lines of text that belong together, one after the other; pages are turned between lines.
    fn text(&mut self, text: &str, size_pt: f64, weight: Weight, role: &Role, indent: f64) {
        let size = size_pt * POINT;
        let high = size * LEADING;
        let mut marks = Vec::new();
        for line in broken(text, self.width() - indent, size, weight) {
            if self.y + high > self.bottom() {
                let done = std::mem::take(&mut marks);
                if !done.is_empty() {
                    self.put(Mark::Group { role: role.clone(), marks: done });
                }
                self.turn();
            }
            marks.push(words([SIDE + indent, self.y + size], Anchor::Start, size, weight, &line));
            self.y += high;
        }
        if !marks.is_empty() {
            self.put(Mark::Group { role: role.clone(), marks });
        }
    }

    fn space(&mut self, mm: f64) {
        self.y += mm;
    }
}

fn words(at: [f64; 2], anchor: Anchor, size: f64, weight: Weight, text: &str) -> Mark {
    let colour = Colour::INK;
    Mark::Text { at, anchor, turned: 0.0, size, weight, colour, halo: 0.0, text: text.to_owned() }
}

fn rule(from: [f64; 2], to: [f64; 2]) -> Mark {
    Mark::line(vec![from, to], Line { round: false, ..Line::solid(Colour([0xD8, 0xD0, 0xC2]), 0.2) })
}

fn facts(flow: &mut Flow, all: &[(String, String)]) {
    let size = BODY * POINT;
    let name = all.iter().map(|(name, _)| width_mm(name, size, Weight::Bold)).fold(0.0, f64::max);
    let indent = name.min(flow.width() * 0.35) + 4.0;
    for (name, value) in all {
        flow.need(size * LEADING);
        let at = [SIDE, flow.y + size];
        // A name that is wider than its column stands above what it names.
        let marks = vec![words(at, Anchor::Start, size, Weight::Bold, name)];
        flow.put(Mark::Group { role: Role::Words, marks });
        if width_mm(name, size, Weight::Bold) > indent {
            flow.space(size * LEADING);
        }
        flow.text(if value.is_empty() { "–" } else { value }, BODY, Weight::Regular, &Role::Words, indent);
    }
    flow.space(2.0);
}

/// Widths of the columns of a table, mm: as wide as their cells; where they do not fit, what is more than their longest words
/// is narrowed alike.
fn widths(table: &Tabled, room: f64, size: f64, gap: f64) -> Vec<f64> {
    let wide = |text: &str, weight| width_mm(text, size, weight);
    let longest =
        |text: &String, weight| text.split_whitespace().map(|w| wide(w, weight)).fold(0.0, f64::max);
    let column = |n: usize, of: &dyn Fn(&String, Weight) -> f64| {
        let head = table.heads.get(n).map_or(0.0, |h| of(h, Weight::Bold));
        let cells = table.rows.iter().filter_map(|row| row.get(n)).map(|c| of(c, Weight::Regular));
        (head, cells.fold(5.0, f64::max))
    };
    let all = 0..table.heads.len().max(1);
    let least: Vec<f64> = all
        .clone()
        .map(|n| {
            let (head, cells) = column(n, &longest);
            // A hair more than the word, so that it is not broken for the rounding of its width.
            head.max(cells) + gap + 0.1
        })
        .collect();
    let own: Vec<f64> = all
        .map(|n| {
            let (head, cells) = column(n, &|text, weight| wide(text, weight));
            (head.min(24.0).max(cells) + gap).max(least[n])
        })
        .collect();
    let sum = |of: &[f64]| of.iter().sum::<f64>();
    if sum(&own) <= room {
        return own;
    }
    if sum(&least) >= room {
        // Words are broken.
        return least.iter().map(|w| w * room / sum(&least)).collect();
    }
    let share = (room - sum(&least)) / (sum(&own) - sum(&least));
    own.iter().zip(&least).map(|(own, least)| least + (own - least) * share).collect()
}

fn table(flow: &mut Flow, table: &Tabled, numbers: &mut Numbers) {
    let size = CELLS * POINT;
    let (high, gap) = (size * 1.3, 3.0);
    let widths = widths(table, flow.width(), size, gap);
    let caption = format!("{}. {}", numbers.table(), table.caption);
    // A caption does not stand alone at the foot of a page.
    flow.need(SMALL * POINT * LEADING + 4.0 * high);
    flow.text(&caption, SMALL, Weight::Bold, &Role::Words, 0.0);
    flow.space(0.8);
    let cells = |row: &[String], weight| -> Vec<Vec<String>> {
        let cell = |(n, text): (usize, &String)| {
            broken(text, (widths[n.min(widths.len() - 1)] - gap).max(3.0), size, weight)
        };
        row.iter().take(widths.len()).enumerate().map(cell).collect()
    };
    let tall =
        |cells: &[Vec<String>]| cells.iter().map(Vec::len).max().unwrap_or(1).max(1) as f64 * high + 0.8;
    let drawn = |cells: &[Vec<String>], top: f64, weight: Weight, role: &Role| -> Mark {
        let mut x = SIDE;
        let mut row = Vec::new();
        for (n, lines) in cells.iter().enumerate() {
            let right = table.numbers.get(n).copied().unwrap_or(false);
            let line = |(at, text): (usize, &String)| {
                let y = top + size + high * at as f64;
                match right {
                    true => words([x + widths[n] - gap, y], Anchor::End, size, weight, text),
                    false => words([x, y], Anchor::Start, size, weight, text),
                }
            };
            let marks = lines.iter().enumerate().map(line).collect();
            row.push(Mark::Group { role: role.clone(), marks });
            x += widths[n];
        }
        Mark::Group { role: Role::Row, marks: row }
    };
    let heads = cells(&table.heads, Weight::Bold);
    let right = SIDE + widths.iter().sum::<f64>();
    let mut rows: Vec<Mark> = Vec::new();
    let mut rules: Vec<Mark> = Vec::new();
    let begin = |flow: &mut Flow, rows: &mut Vec<Mark>, rules: &mut Vec<Mark>| {
        rows.push(drawn(&heads, flow.y, Weight::Bold, &Role::Head));
        flow.space(tall(&heads));
        rules.push(rule([SIDE, flow.y - 0.4], [right, flow.y - 0.4]));
    };
    begin(flow, &mut rows, &mut rules);
    let (shown, more) = table.shown();
    for row in shown {
        let told = cells(row, Weight::Regular);
        if flow.y + tall(&told) > flow.bottom() && rows.len() > 1 {
            flow.put(Mark::Group { role: Role::Table, marks: std::mem::take(&mut rows) });
            flow.put(Mark::Group { role: Role::Aside, marks: std::mem::take(&mut rules) });
            flow.turn();
            begin(flow, &mut rows, &mut rules);
        }
        rows.push(drawn(&told, flow.y, Weight::Regular, &Role::Cell));
        flow.space(tall(&told));
    }
    rules.push(rule([SIDE, flow.y], [right, flow.y]));
    flow.put(Mark::Group { role: Role::Table, marks: rows });
    flow.put(Mark::Group { role: Role::Aside, marks: rules });
    if more > 0 {
        flow.space(0.8);
        let told = format!("{more} more rows are in {}.csv.", table.name);
        flow.text(&told, SMALL, Weight::Regular, &Role::Words, 0.0);
    }
    flow.space(4.0);
}

/// Marks moved and scaled about the upper left corner of a page.
fn moved(marks: &[Mark], [dx, dy]: [f64; 2], times: f64) -> Vec<Mark> {
    let place = |p: &[f64; 2]| [dx + p[0] * times, dy + p[1] * times];
    let thin = |line: &Line| Line {
        width: line.width * times,
        dash: line.dash.iter().map(|d| d * times).collect(),
        ..line.clone()
    };
    let one = |mark: &Mark| match mark {
        Mark::Path { lines, closed, fill, line } => Mark::Path {
            lines: lines.iter().map(|l| l.iter().map(place).collect()).collect(),
            closed: *closed,
            fill: *fill,
            line: line.as_ref().map(thin),
        },
        Mark::Image { at, picture, opacity } => {
            let [x, y] = place(&[at.x, at.y]);
            let at = Rect { x, y, width: at.width * times, height: at.height * times };
            Mark::Image { at, picture: picture.clone(), opacity: *opacity }
        }
        Mark::Text { at, anchor, turned, size, weight, colour, halo, text } => Mark::Text {
            at: place(at),
            anchor: *anchor,
            turned: *turned,
            size: size * times,
            weight: *weight,
            colour: *colour,
            halo: halo * times,
            text: text.clone(),
        },
        Mark::Clip { area, marks } => Mark::Clip {
            area: area.iter().map(|ring| ring.iter().map(place).collect()).collect(),
            marks: moved(marks, [dx, dy], times),
        },
        // Parts of a figure are no parts of the text.
        Mark::Group { role, marks } => {
            Mark::Group { role: role.clone(), marks: moved(marks, [dx, dy], times) }
        }
    };
    marks.iter().map(one).collect()
}

fn figure(flow: &mut Flow, figure: &Figured, numbers: &mut Numbers) -> Result<()> {
    let caption = format!("{}. {}", numbers.figure(), figure.caption);
    let below =
        broken(&caption, flow.width(), SMALL * POINT, Weight::Bold).len() as f64 * SMALL * POINT * LEADING;
    let (width, height) = match &figure.drawn {
        Drawn::Chart(svg) => {
            let (w, h) = chart::size(svg)?;
            let times = CHART.min(flow.width() / w);
            (w * times, h * times)
        }
        Drawn::Map(drawing) => {
            let (w, h) = drawing.page;
            let times = (flow.width() / w).min(flow.page.1 * TALLEST / h);
            (w * times, h * times)
        }
    };
    flow.need(height + below + 3.0);
    let at = Rect { x: SIDE, y: flow.y, width, height };
    let marks = match &figure.drawn {
        Drawn::Chart(svg) => chart::marks(svg, at)?,
        Drawn::Map(drawing) => moved(&drawing.marks, [at.x, at.y], width / drawing.page.0),
    };
    let told = if figure.told.is_empty() { figure.caption.clone() } else { figure.told.clone() };
    flow.put(Mark::Group { role: Role::Figure(told), marks });
    flow.space(height + 1.5);
    flow.text(&caption, SMALL, Weight::Bold, &Role::Words, 0.0);
    flow.space(4.0);
    Ok(())
}

fn block(flow: &mut Flow, block: &Block, numbers: &mut Numbers) -> Result<()> {
    match block {
        Block::Words(text) => {
            flow.text(text, BODY, Weight::Regular, &Role::Words, 0.0);
            flow.space(2.0);
        }
        Block::Own(text) => {
            for part in text.split("\n\n").map(str::trim).filter(|part| !part.is_empty()) {
                flow.text(part, BODY, Weight::Regular, &Role::Words, 0.0);
                flow.space(2.0);
            }
        }
        Block::List(points) => {
            for point in points {
                let size = BODY * POINT;
                flow.need(size * LEADING);
                let dot = words([SIDE + 1.0, flow.y + size], Anchor::Start, size, Weight::Regular, "•");
                flow.put(Mark::Group { role: Role::Aside, marks: vec![dot] });
                flow.text(point, BODY, Weight::Regular, &Role::Words, 4.5);
                flow.space(0.6);
            }
            flow.space(1.5);
        }
        Block::Facts(all) => facts(flow, all),
        Block::Table(of) => table(flow, of, numbers),
        Block::Figure(of) => figure(flow, of, numbers)?,
    }
    Ok(())
}

/// A heading with the place it stands at.
struct Stands {
    level: u8,
    told: String,
    page: usize,
    y: f64,
}

/// The sections on pages, `before` pages after the first; and where their headings stand.
fn body(report: &Report, page: (f64, f64), before: usize) -> Result<(Vec<Drawing>, Vec<Stands>)> {
    let mut flow = Flow::new(page, before);
    let mut numbers = Numbers::default();
    let mut stands = Vec::new();
    for (section, number) in report.sections.iter().zip(numbered(&report.sections)) {
        let level = section.level.clamp(1, 2);
        let size_pt = HEADS[usize::from(level) - 1];
        // Room for the heading and a few lines under it.
        flow.need(size_pt * POINT * LEADING + 25.0);
        if flow.y > TOP {
            flow.space(if level == 1 { 6.0 } else { 3.0 });
        }
        let told = format!("{number} {}", section.title);
        let (at, on) = (flow.y, flow.before + flow.pages.len() - 1);
        flow.text(&told, size_pt, Weight::Bold, &Role::Heading(level, told.clone()), 0.0);
        if let Some(page) = flow.pages.last_mut() {
            page.headings.push(Heading { level, title: told.clone(), y: at });
        }
        stands.push(Stands { level, told, page: on, y: at });
        flow.space(2.0);
        for one in &section.blocks {
            block(&mut flow, one, &mut numbers)?;
        }
    }
    Ok((flow.pages, stands))
}

/// Title and contents.
fn front(report: &Report, page: (f64, f64), stands: &[Stands]) -> Vec<Drawing> {
    let mut flow = Flow::new(page, 0);
    flow.space(18.0);
    flow.text(&report.title, 24.0, Weight::Bold, &Role::Title, 0.0);
    flow.space(6.0);
    facts(&mut flow, &report.about);
    flow.space(8.0);
    flow.text("Contents", HEADS[0], Weight::Bold, &Role::Heading(1, "Contents".into()), 0.0);
    flow.space(2.0);
    for stand in stands {
        let size = BODY * POINT;
        let high = size * LEADING;
        let indent = if stand.level == 1 { 0.0 } else { 6.0 };
        flow.need(high);
        let weight = if stand.level == 1 { Weight::Bold } else { Weight::Regular };
        let number = (stand.page + 1).to_string();
        let room = flow.width() - indent - 14.0;
        let told = broken(&stand.told, room, size, weight).into_iter().next().unwrap_or_default();
        let (y, right) = (flow.y + size, page.0 - SIDE);
        let at = Rect { x: SIDE + indent, y: flow.y, width: right - SIDE - indent, height: high };
        let marks = vec![
            words([at.x, y], Anchor::Start, size, weight, &told),
            words([right, y], Anchor::End, size, Weight::Regular, &number),
        ];
        let to = Target::Page { page: stand.page, y: stand.y };
        flow.put(Mark::Group { role: Role::Link { at, to, told: format!("{told}, page {number}") }, marks });
        flow.space(high);
    }
    flow.pages
}

/// Lays a report out on pages.
///
/// # Errors
/// [`crate::Error`] for a page that no printer takes, or a chart that is none.
pub fn book(report: &Report, page: Page) -> Result<Book> {
    let size = page.mm()?;
    // How many pages the contents take does not depend on what stands in them.
    let (_, stands) = body(report, size, 0)?;
    let before = front(report, size, &stands).len();
    let (rest, stands) = body(report, size, before)?;
    let mut pages = front(report, size, &stands);
    pages.extend(rest);
    let count = pages.len();
    for (n, page) in pages.iter_mut().enumerate() {
        let y = size.1 - BOTTOM / 2.0;
        let (left, right) = (SIDE, size.0 - SIDE);
        let small = SMALL * POINT;
        let title = broken(&report.title, (right - left) * 0.75, small, Weight::Regular).into_iter().next();
        let mut marks = vec![rule([left, y - small * 1.3], [right, y - small * 1.3])];
        marks.push(words([left, y], Anchor::Start, small, Weight::Regular, &title.unwrap_or_default()));
        let number = format!("{} of {count}", n + 1);
        marks.push(words([right, y], Anchor::End, small, Weight::Regular, &number));
        page.marks.push(Mark::Group { role: Role::Aside, marks });
        page.title = report.title.clone();
    }
    let mut complaints = Vec::new();
    let all: String = pages.iter().map(|page| crate::lay::all_text(&page.marks)).collect();
    let missing = missing_letters(&all);
    if !missing.is_empty() {
        let told: String = missing.iter().take(20).map(|c| format!(" {c}")).collect();
        complaints
            .push(format!("The fonts that ship do not hold these letters, which are drawn as boxes:{told}"));
        pages.iter_mut().for_each(|page| crate::lay::print_boxes(&mut page.marks));
    }
    Ok(Book { pages, complaints })
}
