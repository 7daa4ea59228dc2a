//! Descriptions of tables for other programs and for people: a Frictionless Data Package, and a data dictionary.

use bothros_formats::FieldKind;
use serde_json::{Value, json};

use crate::{Column, Key, TABLES, Table, Unit};

impl Column {
    /// The type of its values in Table Schema and in JSON Schema.
    pub fn json_type(&self) -> &'static str {
        match self.quantity.kind() {
            FieldKind::Integer => "integer",
            FieldKind::Real => "number",
            FieldKind::Boolean => "boolean",
            FieldKind::Text => "string",
        }
    }
}

/// The schema of a table, with foreign keys to tables that are in the package.
fn schema(table: &Table, there: &[&Table]) -> Value {
    let field = |c: &Column| {
        let mut field =
            json!({ "name": c.name, "title": c.title, "type": c.json_type(), "description": c.meaning });
        if c.quantity.unit() != Unit::One {
            field["unit"] = c.quantity.unit().symbol().into();
        }
        // A text that is not known is empty, which readers take for missing.
        if !c.nullable && c.quantity.kind() != FieldKind::Text {
            field["constraints"] = json!({ "required": true });
        }
        if c.quantity.kind() == FieldKind::Boolean {
            field["trueValues"] = json!(["true"]);
            field["falseValues"] = json!(["false"]);
        }
        field
    };
    let mut schema = json!({
        "fields": table.columns.iter().map(field).collect::<Vec<_>>(),
        "missingValues": [""],
    });
    let primary = table.columns.iter().filter(|c| c.key == Key::Primary).map(|c| c.name);
    let primary: Vec<&str> = primary.collect();
    if !primary.is_empty() {
        schema["primaryKey"] = json!(primary);
    }
    let foreign = table.columns.iter().filter_map(|c| match c.key {
        Key::Foreign(other, column) if there.iter().any(|t| t.name == other) => Some(json!({
            "fields": [c.name],
            // A table that refers to itself has no name there.
            "reference": { "resource": if other == table.name { "" } else { other }, "fields": [column] },
        })),
        _ => None,
    });
    let foreign: Vec<Value> = foreign.collect();
    if !foreign.is_empty() {
        schema["foreignKeys"] = json!(foreign);
    }
    schema
}

/// Describes a package whose tables are CSV files, named by `path`, in the form of Frictionless Data Package v1.
///
/// # Source
/// Data Package, Tabular Data Resource and Table Schema, version 1 (specs.frictionlessdata.io).
pub fn datapackage(name: &str, title: &str, tables: &[&Table], path: &dyn Fn(&Table) -> String) -> Value {
    let resource = |table: &&Table| {
        json!({
            "name": table.name,
            "title": table.title,
            "description": table.meaning,
            "path": path(table),
            "profile": "tabular-data-resource",
            "format": "csv",
            "mediatype": "text/csv",
            "encoding": "utf-8",
            "schema": schema(table, tables),
        })
    };
    json!({
        "profile": "tabular-data-package",
        "name": name,
        "title": title,
        "resources": tables.iter().map(resource).collect::<Vec<_>>(),
    })
}

/// All tables and layers as a document in Markdown: names, units, meanings, keys.
pub fn dictionary() -> String {
    let mut out = String::from(
        "# Tables and layers\n\nWritten from the definitions in the crate `products`; a test keeps it current. Layers are in \
         `*_network.gpkg` and as GeoJSON, tables are CSV.\n",
    );
    for table in TABLES {
        out += &format!("\n## {}\n{}", table.name, table.meaning);
        out += match table.shape {
            Some(bothros_formats::Shape::Point) => " Layer of points.",
            Some(bothros_formats::Shape::Line) => " Layer of lines.",
            Some(bothros_formats::Shape::Polygons) => " Layer of polygons.",
            None => "",
        };
        out += "\n\n| column | type | unit | meaning |\n| --- | --- | --- | --- |\n";
        for c in table.columns {
            let key = match c.key {
                Key::Primary => " Primary key.".to_owned(),
                Key::Foreign(other, column) => format!(" Refers to {other}.{column}."),
                Key::None => String::new(),
            };
            let null = if c.nullable { ", may be empty" } else { "" };
            let unit = c.quantity.unit().symbol();
            out += &format!("| {} | {}{null} | {unit} | {}{key} |\n", c.name, c.json_type(), c.meaning);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{CATCHMENTS, FLOWPATHS, NEXUSES, SUBBASINS};

    #[test]
    fn keys_lead_to_tables_of_the_package_only() {
        let told =
            datapackage("sorrel", "Sorrel Water", &[&FLOWPATHS, &NEXUSES, &SUBBASINS], &|t| t.name.into());
        let flowpaths = &told["resources"][0]["schema"];
        let keys = flowpaths["foreignKeys"].as_array().unwrap();
        assert_eq!(keys.len(), 3, "{keys:?}");
        assert_eq!(flowpaths["primaryKey"], json!(["flowpath_id"]));
        let subbasins = &told["resources"][2]["schema"]["foreignKeys"];
        // Catchments are not there; a sub-basin's downstream one is in the same table.
        assert!(!subbasins.to_string().contains(CATCHMENTS.name), "{subbasins}");
        assert!(subbasins.to_string().contains("\"resource\":\"\""), "{subbasins}");
    }

    #[test]
    fn the_dictionary_is_current() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/handover.md");
        if std::env::var("INSTA_UPDATE").is_ok_and(|v| v == "always") {
            std::fs::write(path, dictionary()).unwrap();
        }
        let kept = std::fs::read_to_string(path).unwrap();
        assert!(
            kept == dictionary(),
            "docs/handover.md is behind: INSTA_UPDATE=always cargo test -p bothros-products"
        );
    }
}
