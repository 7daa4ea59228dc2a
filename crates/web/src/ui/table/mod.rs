//! Tables on a page: columns from `products`, sorted, filtered, in pages, with the columns that were chosen; as CSV, and as
//! text to copy. Rows know their places on the map.

mod asked;
mod condition;

use std::cmp::Ordering;

use askama::Template;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use bothros_formats::Value;
use bothros_products::{Column, Quantity, Row, ShownUnit, Table, Units};

pub use self::asked::Asked;
use self::asked::Form;
use self::condition::Condition;
use crate::http::error::{Result, WebError};
use crate::ui::{page, quantity};

/// A row with what a page needs of it.
#[derive(Debug, Clone)]
pub struct Entry {
    /// tells it from others, in addresses and on the map
    pub key: String,
    /// where it is, map coordinates
    pub at: Option<[f64; 2]>,
    /// its values, in the order of the columns
    pub row: Row,
    /// what can be done with it, as HTML
    pub acts: String,
}

/// A table with its rows.
pub struct Listing {
    /// what its columns are
    pub table: &'static Table,
    /// its rows, in their own order
    pub entries: Vec<Entry>,
    /// columns that are not shown at first
    pub hidden: &'static [&'static str],
    /// head of the column of what can be done; none where nothing can
    pub acts: Option<&'static str>,
    /// a column whose values are keys of other rows of the table
    pub links: Option<&'static str>,
    /// columns whose values can be typed
    pub settable: Vec<&'static str>,
    /// what is said of the rows, and of those that are left out
    pub note: Option<String>,
    /// what stands there where there is no row
    pub empty: String,
}

/// Returns a single value in the unit that fits it; “–” if there is none.
pub fn alone(column: &Column, value: &Value) -> String {
    match value {
        Value::Null => "–".into(),
        Value::Real(v) => quantity::told(column.quantity, *v),
        Value::Integer(v) => quantity::whole(*v),
        Value::Text(t) => t.clone(),
        Value::Boolean(yes) => if *yes { "yes" } else { "no" }.into(),
    }
}

/// Rows shown at once.
const PAGE: usize = 100;

/// A column as it is shown.
struct Shown {
    at: usize,
    column: &'static Column,
    unit: ShownUnit,
    decimals: usize,
}

impl Shown {
    fn of(listing: &Listing, at: usize) -> Self {
        let column = &listing.table.columns[at];
        let number = |e: &Entry| number(&e.row[at]);
        let largest = listing.entries.iter().filter_map(number).map(f64::abs).fold(0.0, f64::max);
        let unit = column.quantity.shown(quantity::units(), largest);
        let decimals = match column.quantity {
            Quantity::Share | Quantity::Ratio | Quantity::Slope => unit.most,
            _ => unit.decimals(largest),
        };
        Self { at, column, unit, decimals }
    }

    fn head(&self) -> String {
        match self.unit.symbol {
            "" => self.column.title.to_owned(),
            symbol => format!("{}, {symbol}", self.column.title),
        }
    }

    fn cell(&self, row: &Row) -> String {
        match &row[self.at] {
            Value::Null => String::new(),
            Value::Text(text) => text.clone(),
            Value::Boolean(true) => "yes".into(),
            Value::Boolean(false) => "no".into(),
            Value::Integer(v) if self.column.quantity == Quantity::Identifier => v.to_string(),
            Value::Integer(v) if self.unit.symbol.is_empty() => quantity::whole(*v),
            Value::Integer(v) => Units::in_column(&self.unit, self.decimals, *v as f64),
            Value::Real(v) => Units::in_column(&self.unit, self.decimals, *v),
        }
    }

    fn is_text(&self) -> bool {
        self.column.quantity == Quantity::Text
    }
}

fn number(value: &Value) -> Option<f64> {
    match value {
        Value::Integer(v) => Some(*v as f64),
        Value::Real(v) => Some(*v),
        _ => None,
    }
}

/// The order of two values of one column; nothing comes last.
fn compare(a: &Value, b: &Value, down: bool) -> Ordering {
    let order = match (a, b) {
        (Value::Null, Value::Null) => return Ordering::Equal,
        (Value::Null, _) => return Ordering::Greater,
        (_, Value::Null) => return Ordering::Less,
        (Value::Text(a), Value::Text(b)) => a.to_lowercase().cmp(&b.to_lowercase()),
        (Value::Boolean(a), Value::Boolean(b)) => a.cmp(b),
        (a, b) => number(a).unwrap_or(f64::NAN).total_cmp(&number(b).unwrap_or(f64::NAN)),
    };
    if down { order.reverse() } else { order }
}

/// A column that can be shown or hidden.
struct Choosable {
    name: &'static str,
    title: &'static str,
    shown: bool,
}

/// The head of a column.
struct Head {
    name: &'static str,
    text: String,
    meaning: &'static str,
    filter: String,
    sorted: Option<&'static str>,
    is_text: bool,
}

/// A cell of a row.
struct Cell {
    text: String,
    is_text: bool,
    link: bool,
    /// the column, where its value can be typed
    set: Option<&'static str>,
}

/// A row that is shown.
struct Line<'a> {
    entry: &'a Entry,
    cells: Vec<Cell>,
    chosen: bool,
}

#[derive(Template)]
#[template(path = "ui/table.html")]
struct Part<'a> {
    listing: &'a Listing,
    choosable: Vec<Choosable>,
    heads: Vec<Head>,
    lines: Vec<Line<'a>>,
    /// in words: which rows of how many
    told: String,
    /// the first row that is shown
    from: usize,
    earlier: Option<usize>,
    later: Option<usize>,
    find: String,
    has_text: bool,
    narrowed: bool,
    /// columns that can be typed: name, head
    settable: Vec<(&'static str, String)>,
    /// rows that are listed, on all pages
    listed: usize,
    /// formats that the table can be saved in as a layer: end of the name, and what it is
    formats: &'static [(&'static str, &'static str)],
}

/// Formats of layers.
const FORMATS: &[(&str, &str)] = &[("gpkg", "GeoPackage"), ("geojson", "GeoJSON"), ("zip", "Shapefile")];

/// One row, for a click on the map.
#[derive(Template)]
#[template(path = "ui/card.html")]
struct Card<'a> {
    listing: &'a Listing,
    entry: &'a Entry,
    values: Vec<(String, String)>,
}

impl Listing {
    /// A plain table; `empty` is its text when it has no rows.
    pub fn plain(table: &'static Table, entries: Vec<Entry>, empty: &str) -> Self {
        Self {
            table,
            entries,
            hidden: &[],
            acts: None,
            links: None,
            settable: Vec::new(),
            note: None,
            empty: empty.into(),
        }
    }

    /// The row that is asked for by its key, or by its place.
    fn wanted(&self, asked: &Asked) -> Option<&Entry> {
        if let Some(key) = &asked.row {
            return self.entries.iter().find(|e| &e.key == key);
        }
        let [x, y, within] = asked.near?;
        let away = |e: &Entry| e.at.map_or(f64::INFINITY, |at| (at[0] - x).hypot(at[1] - y));
        let nearest = self.entries.iter().min_by(|a, b| away(a).total_cmp(&away(b)));
        nearest.filter(|e| away(e) <= within)
    }

    fn card(&self, asked: &Asked, shown: &[Shown]) -> Result<Response> {
        let Some(entry) = self.wanted(asked) else { return Ok(StatusCode::NO_CONTENT.into_response()) };
        let value = |s: &Shown| {
            let text = s.cell(&entry.row);
            (!text.is_empty()).then(|| (s.head(), text))
        };
        page(&Card { listing: self, entry, values: shown.iter().filter_map(value).collect() })
    }

    /// The place of a column.
    fn index(&self, name: &str) -> Result<usize> {
        let found = self.table.columns.iter().position(|c| c.name == name);
        found.ok_or_else(|| {
            WebError::refused(format!(
                "the table of {} has no column “{name}”",
                self.table.title.to_lowercase()
            ))
        })
    }

    /// The rows that are asked for, on all pages, sorted.
    fn listed(&self, asked: &Asked) -> Result<Vec<&Entry>> {
        let mut conditions = Vec::new();
        for (name, text) in &asked.filters {
            let column = Shown::of(self, self.index(name)?);
            conditions
                .push((column.at, Condition::read(text, column.column, &column.unit, column.decimals)?));
        }
        let texts: Vec<usize> = (0..self.table.columns.len())
            .filter(|&at| self.table.columns[at].quantity == Quantity::Text)
            .collect();
        let found = |e: &Entry| {
            asked.find.is_empty()
                || texts.iter().any(|&at| match &e.row[at] {
                    Value::Text(text) => text.to_lowercase().contains(&asked.find),
                    _ => false,
                })
        };
        let fits = |e: &&Entry| conditions.iter().all(|(at, c)| c.holds(&e.row[*at])) && found(e);
        let mut entries: Vec<&Entry> = self.entries.iter().filter(fits).collect();
        if let Some(name) = &asked.sort {
            let at = self.index(name)?;
            entries.sort_by(|a, b| compare(&a.row[at], &b.row[at], asked.down));
        }
        Ok(entries)
    }

    /// The keys of the rows that are asked for: the one that is named, or all that fit.
    ///
    /// # Errors
    /// A sentence for a condition that cannot be read.
    pub fn keys(&self, asked: &Asked) -> Result<Vec<&str>> {
        let listed = match &asked.row {
            Some(_) => self.wanted(asked).into_iter().collect(),
            None => self.listed(asked)?,
        };
        Ok(listed.into_iter().map(|e| e.key.as_str()).collect())
    }

    /// A value of a column as it is typed: in the unit that the column shows; nothing for an empty one.
    ///
    /// # Errors
    /// A sentence for a column that cannot be typed, and for what is no number, or outside `limits` in the column's own unit.
    pub fn typed(&self, column: &str, text: &str, limits: (f64, f64)) -> Result<Option<f64>> {
        let shown = Shown::of(self, self.index(column)?);
        if !self.settable.contains(&column) {
            return Err(WebError::refused(format!("{} cannot be typed", shown.column.title)));
        }
        if text.trim().is_empty() {
            return Ok(None);
        }
        let typed = crate::ui::form::number(text, shown.column.title)?;
        let value = shown.unit.back(typed);
        if (limits.0..=limits.1).contains(&value) {
            return Ok(Some(value));
        }
        let [least, most] = [limits.0, limits.1].map(|own| quantity::plain(shown.unit.of(own)));
        let told = format!("{} lies between {least} and {most} {}", shown.column.title, shown.unit.symbol);
        Err(WebError::refused(format!("{}: {typed} does not", told.trim_end())))
    }

    /// Returns the requested form of the table: a part of the page, CSV of all columns, or text of those shown.
    ///
    /// # Errors
    /// A sentence for a column that is not there, or a condition that cannot be read.
    pub fn answer(&self, asked: &Asked) -> Result<Response> {
        let entries = self.listed(asked)?;
        let chosen: Vec<usize> = match &asked.columns {
            Some(names) => names.iter().map(|n| self.index(n)).collect::<Result<_>>()?,
            None => (0..self.table.columns.len()).filter(|&at| self.is_shown_first(at)).collect(),
        };
        let shown: Vec<Shown> = chosen.iter().map(|&at| Shown::of(self, at)).collect();
        match asked.form {
            Form::Card => self.card(asked, &shown),
            Form::Csv => self.csv(&entries),
            Form::Text => Ok(text(&shown, &entries).into_response()),
            Form::Html => self.html(asked, &shown, &entries),
        }
    }

    /// A column is shown at first unless it is hidden, or none of its rows has a value.
    fn is_shown_first(&self, at: usize) -> bool {
        let column = &self.table.columns[at];
        let empty = column.nullable && self.entries.iter().all(|e| e.row[at] == Value::Null);
        let empty = empty && !self.settable.contains(&column.name);
        !self.hidden.contains(&column.name) && (!empty || self.entries.is_empty())
    }

    fn csv(&self, entries: &[&Entry]) -> Result<Response> {
        let rows = entries.iter().map(|e| e.row.clone());
        let csv = self.table.csv(rows).map_err(|e| WebError::from(std::io::Error::other(e)))?;
        let file = format!("attachment; filename=\"{}.csv\"", self.table.name);
        let headers = [
            (header::CONTENT_TYPE, "text/csv; charset=utf-8".to_owned()),
            (header::CONTENT_DISPOSITION, file),
        ];
        Ok((headers, csv).into_response())
    }

    fn html(&self, asked: &Asked, shown: &[Shown], entries: &[&Entry]) -> Result<Response> {
        let wanted = self.wanted(asked).map(|e| &e.key);
        let found = wanted.and_then(|key| entries.iter().position(|e| &e.key == key));
        let from = found.map_or(asked.from, |at| at - at % PAGE).min(entries.len().saturating_sub(1));
        let to = (from + PAGE).min(entries.len());
        let all = self.entries.len() as u64;
        let narrowed = !asked.filters.is_empty() || !asked.find.is_empty();
        let told = match (entries.len(), narrowed) {
            (0, true) => format!("None of {} is like that", quantity::whole(all)),
            (0, false) => String::new(),
            (n, _) => {
                let range = match n > PAGE {
                    true => {
                        format!("{} to {} of ", quantity::whole(from as u64 + 1), quantity::whole(to as u64))
                    }
                    false => String::new(),
                };
                let of = if narrowed { format!(" of {}", quantity::whole(all)) } else { String::new() };
                format!("{range}{}{of}", quantity::whole(n as u64))
            }
        };
        let heads = shown.iter().map(|s| Head {
            name: s.column.name,
            text: s.head(),
            meaning: s.column.meaning,
            filter: asked.filters.get(s.column.name).cloned().unwrap_or_default(),
            sorted: (asked.sort.as_deref() == Some(s.column.name)).then_some(if asked.down {
                "descending"
            } else {
                "ascending"
            }),
            is_text: s.is_text(),
        });
        let line = |entry: &&'_ Entry| -> Vec<Cell> {
            let cell = |s: &Shown| {
                let text = s.cell(&entry.row);
                Cell {
                    link: self.links == Some(s.column.name) && !text.is_empty(),
                    set: self.settable.iter().find(|&&c| c == s.column.name).copied(),
                    is_text: s.is_text(),
                    text,
                }
            };
            shown.iter().map(cell).collect()
        };
        let choosable = (0..self.table.columns.len()).map(|at| Choosable {
            name: self.table.columns[at].name,
            title: self.table.columns[at].title,
            shown: shown.iter().any(|s| s.at == at),
        });
        page(&Part {
            listing: self,
            choosable: choosable.collect(),
            heads: heads.collect(),
            lines: entries[from..to]
                .iter()
                .map(|entry| Line { entry, cells: line(entry), chosen: wanted == Some(&entry.key) })
                .collect(),
            told,
            from,
            earlier: (from > 0).then(|| from.saturating_sub(PAGE)),
            later: (to < entries.len()).then_some(to),
            find: asked.find.clone(),
            has_text: self.table.columns.iter().any(|c| c.quantity == Quantity::Text),
            narrowed,
            settable: self
                .settable
                .iter()
                .filter_map(|name| self.table.columns.iter().position(|c| c.name == *name))
                .map(|at| (self.table.columns[at].name, Shown::of(self, at).head()))
                .collect(),
            listed: entries.len(),
            formats: if bothros_workflow::LAYERS.iter().any(|t| t.name == self.table.name) {
                FORMATS
            } else {
                &[]
            },
        })
    }
}

/// Rows as a spreadsheet takes them from the clipboard: columns apart by tabs, as they are shown.
fn text(shown: &[Shown], entries: &[&Entry]) -> String {
    let plain =
        |text: String| text.replace(['\t', '\n', '\r'], " ").replace('\u{202F}', "").replace('−', "-");
    let mut out = shown.iter().map(|s| plain(s.head())).collect::<Vec<_>>().join("\t");
    for entry in entries {
        out.push('\n');
        out += &shown.iter().map(|s| plain(s.cell(&entry.row))).collect::<Vec<_>>().join("\t");
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ui::quantity::in_units;
    use axum::body::to_bytes;
    use bothros_products::REACHES;
    use rstest::rstest;
    use std::collections::HashMap;

    fn listing() -> Listing {
        let reach = |id: u32, next: Option<u32>, order: u8, length: f64, area: f64| -> Row {
            vec![
                id.into(),
                next.into(),
                order.into(),
                1u32.into(),
                length.into(),
                1.0.into(),
                0.012.into(),
                1.1.into(),
                area.into(),
                false.into(),
                Value::Null,
            ]
        };
        let rows = [
            reach(1, Some(3), 1, 1250.0, 0.5),
            reach(2, Some(3), 1, 80.5, 0.25),
            reach(3, None, 2, 12_400.0, 12.5),
        ];
        let entry = |row: Row| Entry {
            key: number(&row[0]).unwrap().to_string(),
            at: Some([1.0, 2.0]),
            row,
            acts: String::new(),
        };
        Listing {
            table: &REACHES,
            entries: rows.map(entry).into(),
            hidden: &["shreve"],
            acts: None,
            links: Some("downstream_reach_id"),
            settable: vec!["length_m"],
            note: None,
            empty: "No reach.".into(),
        }
    }

    async fn told(asked: &[(&str, &str)]) -> std::result::Result<String, String> {
        let asked = asked.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect();
        let answer = Asked::of(asked).and_then(|a| listing().answer(&a)).map_err(|e| e.message)?;
        Ok(String::from_utf8(to_bytes(answer.into_body(), 1 << 20).await.unwrap().to_vec()).unwrap())
    }

    /// The first column of the rows that are told.
    async fn keys(asked: &[(&str, &str)]) -> String {
        let asked = [asked, &[("as", "text")]].concat();
        let text = told(&asked).await.unwrap();
        text.lines().skip(1).filter_map(|l| l.split('\t').next()).collect::<Vec<_>>().join(" ")
    }

    #[rstest]
    #[case(&[], "1 2 3")]
    #[case(&[("sort", "length_m")], "2 1 3")]
    #[case(&[("sort", "length_m"), ("down", "true")], "3 1 2")]
    #[case(&[("sort", "downstream_reach_id"), ("down", "true")], "1 2 3")]
    #[case(&[("where.strahler", "1")], "1 2")]
    #[case(&[("where.strahler", ">1")], "3")]
    #[case(&[("where.length_m", "1..2")], "1")]
    #[case(&[("where.contributing_area_km2", "<0.3")], "2")]
    #[case(&[("where.downstream_reach_id", "none")], "3")]
    #[case(&[("where.strahler", "1"), ("where.length_m", ">1")], "1")]
    #[tokio::test]
    async fn rows_are_sorted_and_filtered(#[case] asked: &[(&str, &str)], #[case] expected: &str) {
        assert_eq!(keys(asked).await, expected);
    }

    #[rstest]
    #[case(&[("sort", "depth")], "the table of reaches has no column “depth”")]
    #[case(&[("where.depth", "1")], "has no column “depth”")]
    #[case(&[("where.length_m", ">long")], "must be a number, not “long”")]
    #[case(&[("columns", "reach_id,colour")], "has no column “colour”")]
    #[case(&[("from", "x")], "“from” is the number of a row")]
    #[case(&[("as", "pdf")], "must be one of html, csv, text, card, not “pdf”")]
    #[tokio::test]
    async fn what_cannot_be_read_is_refused(#[case] asked: &[(&str, &str)], #[case] expected: &str) {
        let said = told(asked).await.unwrap_err();
        assert!(said.contains(expected), "{said}");
    }

    #[tokio::test]
    async fn a_column_has_one_unit_and_text_is_ready_for_a_spreadsheet() {
        let text = told(&[("as", "text"), ("columns", "reach_id,length_m,slope")]).await.unwrap();
        assert_eq!(text, "Reach\tLength, km\tSlope, %\n1\t1.250\t1.20\n2\t0.081\t1.20\n3\t12.400\t1.20");
    }

    #[test]
    fn the_unit_is_that_of_the_page_but_files_are_metric() {
        let asked = |form: &str| Asked::of(HashMap::from([("as".to_owned(), form.to_owned())])).unwrap();
        let body = |form: &str| {
            let answer = in_units(Units::UsCustomary, || listing().answer(&asked(form)).unwrap());
            let bytes = futures::executor::block_on(to_bytes(answer.into_body(), 1 << 20)).unwrap();
            String::from_utf8(bytes.to_vec()).unwrap()
        };
        assert!(body("text").contains("Length, mi") && body("html").contains("Area, mi²"));
        assert!(
            body("csv").starts_with("reach_id,downstream_reach_id,strahler")
                && body("csv").contains("12400.00")
        );
    }

    #[test]
    fn what_is_typed_has_the_unit_of_its_column_and_rows_are_those_that_are_listed() {
        let asked = |of: &[(&str, &str)]| {
            Asked::of(of.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect()).unwrap()
        };
        let all = listing();
        assert_eq!(all.keys(&asked(&[("where.strahler", "1")])).unwrap(), ["1", "2"]);
        assert_eq!(all.keys(&asked(&[("where.strahler", "1"), ("row", "3")])).unwrap(), ["3"]);
        // The column shows kilometres.
        assert_eq!(all.typed("length_m", "1.25", (0.0, 1e4)).unwrap(), Some(1250.0));
        assert_eq!(all.typed("length_m", " ", (0.0, 1e4)).unwrap(), None);
        for (column, text) in [("length_m", "long"), ("slope", "1"), ("depth", "1")] {
            assert!(all.typed(column, text, (0.0, 1e4)).is_err(), "{column}");
        }
        let told = all.typed("length_m", "20", (0.0, 1e4)).unwrap_err().message;
        assert_eq!(told, "Length lies between 0 and 10 km: 20 does not");
    }

    #[tokio::test]
    async fn a_row_that_is_looked_for_is_shown_and_a_hidden_column_is_not() {
        let html = told(&[("row", "3")]).await.unwrap();
        assert!(html.contains("data-key=\"3\" class=\"chosen\""), "{html}");
        assert!(!html.contains("data-column=\"shreve\"") && html.contains("value=\"shreve\""), "{html}");
        // A column without any value is not shown at first, but can be.
        assert!(!html.contains("data-column=\"catchment_id\""));
        assert!(told(&[("columns", "catchment_id")]).await.unwrap().contains("data-column=\"catchment_id\""));
    }
}
