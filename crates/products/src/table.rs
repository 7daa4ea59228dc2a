//! Tables and layers: their columns, and writing rows so that they keep to them.

use bothros_formats::{Field, FieldKind, Geometry, Layer, Shape, Value};

use crate::Quantity;

/// What can go wrong in putting rows together.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// a row does not keep to its table
    #[error("{table}: column {column} of row {row} {what}")]
    Row {
        /// the table
        table: &'static str,
        /// the column, or how many values there are
        column: String,
        /// the row, from 1
        row: usize,
        /// what is wrong
        what: &'static str,
    },
    /// writing CSV
    #[error("a table cannot be written: {0}")]
    Csv(#[from] csv::Error),
    /// from the computation
    #[error("{0}")]
    Core(#[from] bothros_core::Error),
}

/// The result of putting rows together.
pub type Result<T> = std::result::Result<T, Error>;

/// What a column is to the keys of tables.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Key {
    /// nothing
    None,
    /// its values tell rows from each other
    Primary,
    /// its values are those of a column of another table
    Foreign(&'static str, &'static str),
}

/// A column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Column {
    /// name in files
    pub name: &'static str,
    /// name on screens
    pub title: &'static str,
    /// what its values are
    pub quantity: Quantity,
    /// what they mean, in one sentence
    pub meaning: &'static str,
    /// whether a row may have none
    pub nullable: bool,
    /// primary or foreign key
    pub key: Key,
}

impl Column {
    pub(crate) const fn new(
        name: &'static str,
        title: &'static str,
        quantity: Quantity,
        meaning: &'static str,
    ) -> Self {
        Self { name, title, quantity, meaning, nullable: false, key: Key::None }
    }
    pub(crate) const fn nullable(mut self) -> Self {
        self.nullable = true;
        self
    }
    pub(crate) const fn primary(mut self) -> Self {
        self.key = Key::Primary;
        self
    }
    pub(crate) const fn of(mut self, table: &'static str, column: &'static str) -> Self {
        self.key = Key::Foreign(table, column);
        self
    }

    /// Whether the column can hold a value, or what is wrong with it.
    fn fits(&self, value: &Value) -> std::result::Result<(), &'static str> {
        match (value, self.quantity.kind()) {
            (Value::Null, _) if self.nullable => Ok(()),
            (Value::Null, _) => Err("has no value"),
            (Value::Integer(_), FieldKind::Integer)
            | (Value::Text(_), FieldKind::Text)
            | (Value::Boolean(_), FieldKind::Boolean) => Ok(()),
            (Value::Real(v), FieldKind::Real) if v.is_finite() => Ok(()),
            (Value::Real(_), FieldKind::Real) => Err("is no number"),
            _ => Err("is of another kind"),
        }
    }
}

/// The values of a row, in the order of the columns.
pub type Row = Vec<Value>;

/// A table; a layer where its rows have shapes.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Table {
    /// name in files
    pub name: &'static str,
    /// name on screens
    pub title: &'static str,
    /// what a row is, in one sentence
    pub meaning: &'static str,
    /// what shape rows have, if they have one
    pub shape: Option<Shape>,
    /// the columns, in their order
    pub columns: &'static [Column],
}

impl Table {
    /// The column of a name.
    pub fn column(&self, name: &str) -> Option<&'static Column> {
        self.columns.iter().find(|c| c.name == name)
    }

    /// A row that keeps to the columns, its numbers with their digits.
    fn kept(&self, row: Row, at: usize) -> Result<Row> {
        let wrong = |column: String, what| Error::Row { table: self.name, column, row: at + 1, what };
        if row.len() != self.columns.len() {
            return Err(wrong(row.len().to_string(), "is not the last"));
        }
        let keep = |(column, value): (&Column, Value)| {
            column.fits(&value).map_err(|what| wrong(column.name.into(), what))?;
            Ok(match value {
                Value::Real(v) => Value::Real(column.quantity.round(v)),
                other => other,
            })
        };
        self.columns.iter().zip(row).map(keep).collect()
    }

    /// A layer of features.
    ///
    /// # Errors
    /// [`Error::Row`] for a feature that does not keep to the columns.
    pub fn layer(&self, features: impl IntoIterator<Item = (Geometry, Row)>) -> Result<Layer> {
        let keep = |(at, (shape, row)): (usize, (Geometry, Row))| Ok((shape, self.kept(row, at)?));
        Ok(Layer {
            name: self.name.into(),
            fields: self
                .columns
                .iter()
                .map(|c| Field { name: c.name.into(), kind: c.quantity.kind() })
                .collect(),
            features: features.into_iter().enumerate().map(keep).collect::<Result<_>>()?,
            shape: self.shape.unwrap_or(Shape::Point),
        })
    }

    /// The table as CSV (RFC 4180). A text that a spreadsheet would take for a formula begins with an apostrophe.
    ///
    /// # Errors
    /// [`Error::Row`] for a row that does not keep to the columns.
    pub fn csv(&self, rows: impl IntoIterator<Item = Row>) -> Result<Vec<u8>> {
        let mut out = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
        out.write_record(self.columns.iter().map(|c| c.name))?;
        for (at, row) in rows.into_iter().enumerate() {
            let cells = self.columns.iter().zip(self.kept(row, at)?).map(|(column, value)| match value {
                Value::Null => String::new(),
                Value::Integer(v) => v.to_string(),
                Value::Real(v) => format!("{v:.*}", column.quantity.decimals()),
                Value::Text(text) => harmless(text),
                Value::Boolean(v) => v.to_string(),
            });
            out.write_record(cells)?;
        }
        Ok(out.into_inner().map_err(|e| csv::Error::from(e.into_error()))?)
    }
}

/// A text that no spreadsheet takes for a formula.
fn harmless(text: String) -> String {
    if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{text}") } else { text }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::TABLES;
    use rstest::rstest;

    const TABLE: Table = Table {
        name: "weirs",
        title: "Weirs",
        meaning: "A weir.",
        shape: Some(Shape::Point),
        columns: &[
            Column::new("weir_id", "Number", Quantity::Identifier, "Number of the weir.").primary(),
            Column::new("name", "Name", Quantity::Text, "Its name.").nullable(),
            Column::new("crest_m", "Crest", Quantity::Length, "Length of its crest."),
        ],
    };

    fn row(name: Option<&str>, crest: f64) -> Row {
        vec![1u32.into(), name.map(str::to_owned).into(), crest.into()]
    }

    #[rstest]
    #[case("Mill", "Mill")]
    #[case("weir, \"old\"", "\"weir, \"\"old\"\"\"")]
    #[case("two\nlines", "\"two\nlines\"")]
    #[case("=1+1", "'=1+1")]
    #[case("+1", "'+1")]
    #[case("-2", "'-2")]
    #[case("@SUM(A1)", "'@SUM(A1)")]
    #[case("\tx", "'\tx")]
    #[case("=HYPERLINK(\"http://a\",\"b\")", "\"'=HYPERLINK(\"\"http://a\"\",\"\"b\"\")\"")]
    fn csv_is_quoted_and_holds_no_formula(#[case] name: &str, #[case] written: &str) {
        let csv = String::from_utf8(TABLE.csv([row(Some(name), 2.0)]).unwrap()).unwrap();
        assert_eq!(csv, format!("weir_id,name,crest_m\r\n1,{written},2.00\r\n"));
    }

    #[test]
    fn nothing_is_an_empty_cell_and_numbers_have_their_digits() {
        let csv = String::from_utf8(TABLE.csv([row(None, 1.0 / 3.0)]).unwrap()).unwrap();
        assert_eq!(csv, "weir_id,name,crest_m\r\n1,,0.33\r\n");
        let layer = TABLE.layer([(Geometry::Point([0.0, 0.0]), row(None, 1.0 / 3.0))]).unwrap();
        assert_eq!(layer.features[0].1[2], Value::Real(0.33));
    }

    #[rstest]
    #[case(vec![1u32.into(), "a".into()], "2 of row 1 is not the last")]
    #[case(vec![Value::Null, "a".into(), 1.0.into()], "weir_id of row 1 has no value")]
    #[case(vec![1u32.into(), "a".into(), f64::NAN.into()], "crest_m of row 1 is no number")]
    #[case(vec![1u32.into(), 2.0.into(), 1.0.into()], "name of row 1 is of another kind")]
    fn rows_that_do_not_keep_to_the_columns_are_refused(#[case] row: Row, #[case] what: &str) {
        let told = TABLE.csv([row]).unwrap_err().to_string();
        assert!(told.starts_with("weirs: ") && told.contains(what), "{told}");
    }

    /// Every definition is whole: names that every format can hold, units in the names, keys that lead somewhere.
    #[test]
    fn definitions_are_whole() {
        let plain = |name: &str| {
            name.starts_with(|c: char| c.is_ascii_lowercase())
                && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_')
        };
        for table in TABLES {
            assert!(plain(table.name) && table.meaning.ends_with('.'), "{}", table.name);
            for column in table.columns {
                let told = format!("{}.{}", table.name, column.name);
                assert!(plain(column.name) && !column.title.is_empty(), "{told}");
                assert!(column.meaning.ends_with('.') && column.meaning.len() > 8, "{told}");
                assert!(column.name.ends_with(column.quantity.unit().suffix()), "{told}");
                assert_eq!(table.columns.iter().filter(|c| c.name == column.name).count(), 1, "{told}");
                match column.key {
                    Key::Foreign(other, key) => {
                        let there = TABLES.iter().find(|t| t.name == other).and_then(|t| t.column(key));
                        assert_eq!(there.map(|c| c.quantity), Some(column.quantity), "{told}");
                    }
                    Key::Primary => assert!(!column.nullable, "{told}"),
                    Key::None => {}
                }
            }
        }
    }

    /// Others read these names: they change by intention only.
    #[test]
    fn the_schema_is_what_was_promised() {
        let mut schema = String::new();
        for table in TABLES {
            schema += &format!("{} ({:?})\n", table.name, table.shape);
            for c in table.columns {
                let null = if c.nullable { ", may be null" } else { "" };
                let key = match c.key {
                    Key::None => String::new(),
                    Key::Primary => ", primary".into(),
                    Key::Foreign(table, column) => format!(", of {table}.{column}"),
                };
                schema += &format!("  {}: {:?}{null}{key}\n", c.name, c.quantity);
            }
        }
        insta::assert_snapshot!(schema);
    }
}
