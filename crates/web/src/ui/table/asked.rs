//! What of a table is asked for, as an address tells it.

use std::collections::HashMap;

use crate::http::error::{Result, WebError};

/// What of a table is asked for.
#[derive(Debug, Clone, Default)]
pub struct Asked {
    pub(super) sort: Option<String>,
    pub(super) down: bool,
    pub(super) columns: Option<Vec<String>>,
    pub(super) from: usize,
    pub(super) row: Option<String>,
    pub(super) near: Option<[f64; 3]>,
    pub(super) find: String,
    pub(super) filters: HashMap<String, String>,
    pub(super) form: Form,
}

/// What is made of a table.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(super) enum Form {
    #[default]
    Html,
    Csv,
    Text,
    Card,
}

impl Asked {
    /// Reads the query of an address: `sort`, `down`, `columns` (names with commas), `from`, `row`, `find`, `as` (csv, text, card),
    /// `near` (easting, northing and how far, map units: the row nearest to a place), and for filters `where.` with a
    /// column's name.
    ///
    /// # Errors
    /// A sentence for what cannot be read.
    pub fn of(query: HashMap<String, String>) -> Result<Self> {
        let mut asked = Self::default();
        for (key, value) in query {
            match key.as_str() {
                "sort" => asked.sort = Some(value).filter(|s| !s.is_empty()),
                "down" => asked.down = value == "true",
                "columns" => {
                    let named = value.split(',').filter(|c| !c.is_empty()).map(str::to_owned);
                    asked.columns = Some(named.collect::<Vec<_>>()).filter(|c| !c.is_empty());
                }
                "from" => {
                    asked.from =
                        value.parse().map_err(|_| WebError::refused("“from” is the number of a row"))?
                }
                "row" => asked.row = Some(value).filter(|r| !r.is_empty()),
                "near" => {
                    let numbers: Vec<f64> = value.split(',').filter_map(|v| v.parse().ok()).collect();
                    let near = <[f64; 3]>::try_from(numbers);
                    asked.near =
                        Some(near.map_err(|_| WebError::refused("“near” is a place and a distance"))?)
                }
                "find" => asked.find = value.trim().to_lowercase(),
                "as" => {
                    asked.form = crate::ui::form::choice(
                        "“as”",
                        &value,
                        &[
                            ("html", Form::Html),
                            ("csv", Form::Csv),
                            ("text", Form::Text),
                            ("card", Form::Card),
                        ],
                    )?
                }
                key => {
                    if let Some(column) = key.strip_prefix("where.").filter(|_| !value.trim().is_empty()) {
                        asked.filters.insert(column.to_owned(), value);
                    }
                }
            }
        }
        Ok(asked)
    }
}
