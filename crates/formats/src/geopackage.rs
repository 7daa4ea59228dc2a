//! Refuses GeoPackages that hold more than data.
//!
//! A GeoPackage is a database of SQLite, and what it says of its tables is run when it is read: a view may be endless,
//! a virtual table may read another file. The standard (OGC 12-128r18) needs neither: of virtual tables only those of
//! its spatial index, and triggers that keep that index.

use std::path::Path;

use rusqlite::config::DbConfig;
use rusqlite::{Connection, OpenFlags};

use crate::{Error, Result};

/// Whether a file begins as databases of SQLite do.
pub(crate) fn is_sqlite(path: &Path) -> Result<bool> {
    // One that is not there is told by the reader.
    let Ok(file) = std::fs::File::open(path) else { return Ok(false) };
    let mut head = Vec::new();
    std::io::Read::read_to_end(&mut std::io::Read::take(file, 16), &mut head)?;
    Ok(head == b"SQLite format 3\0")
}

/// Beginnings of names of triggers that the standard, or what keeps counts of features, adds to tables.
const TRIGGERS: [&str; 4] =
    ["rtree_", "gpkg_", "trigger_insert_feature_count_", "trigger_delete_feature_count_"];
/// The most tables that a collection of layers may have.
const MOST_TABLES: usize = 10_000;

/// Refuses a database that holds views, virtual tables or triggers beyond the standard's own.
///
/// # Errors
/// [`Error::Hostile`] with what was found; [`Error::Damaged`] where its list of tables cannot be read.
pub(crate) fn refuse_more_than_data(path: &Path, name: &str) -> Result<()> {
    let damaged = |e: rusqlite::Error| Error::Damaged { name: name.to_owned(), detail: e.to_string() };
    let hostile = |what: String| Error::Hostile {
        name: name.to_owned(),
        what: format!("{what}, and a GeoPackage of data has none. Export its layers into a new GeoPackage"),
    };
    let database = open(path).map_err(damaged)?;
    // Nothing of what is listed is run: the list is a table like any other.
    let mut listed =
        database.prepare("SELECT type, name, coalesce(sql, '') FROM sqlite_master").map_err(damaged)?;
    let mut rows = listed.query([]).map_err(damaged)?;
    let mut tables = 0;
    while let Some(row) = rows.next().map_err(damaged)? {
        let text = |at: usize| -> Result<String> {
            // Whatever type stands there, it is looked at as text.
            let bytes = row.get_ref(at).map_err(damaged)?;
            Ok(bytes.as_bytes().map(|b| String::from_utf8_lossy(b).into_owned()).unwrap_or_default())
        };
        let (kind, called, sql) = (text(0)?, text(1)?, text(2)?);
        let shown: String = called.chars().take(60).collect();
        tables += 1;
        if tables > MOST_TABLES {
            return Err(hostile(format!("it has more than {MOST_TABLES} tables and indexes")));
        }
        match kind.as_str() {
            "index" => {}
            "table" if words(&sql).starts_with("create virtual table") => {
                let of_index = called.to_lowercase().starts_with("rtree_") && is_rtree(&sql);
                if !of_index {
                    return Err(hostile(format!("it has a virtual table, “{shown}”")));
                }
            }
            "table" => {
                // The standard's tables have plain columns only.
                if words(&sql).contains("generated always") {
                    return Err(hostile(format!("its table “{shown}” has computed columns")));
                }
            }
            "trigger" if TRIGGERS.iter().any(|t| called.to_lowercase().starts_with(t)) => {}
            "trigger" => return Err(hostile(format!("it has a trigger, “{shown}”"))),
            "view" => return Err(hostile(format!("it has a view, “{shown}”"))),
            _ => return Err(hostile(format!("it has something that is neither table nor index, “{shown}”"))),
        }
    }
    Ok(())
}

fn open(path: &Path) -> rusqlite::Result<Connection> {
    // As a URI, so that it can be said that nobody changes it: no journal beside it is looked at.
    let mut uri = String::from("file:");
    for byte in path.as_os_str().as_encoded_bytes() {
        match byte {
            b'/' | b'.' | b'-' | b'_' | b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' => uri.push(*byte as char),
            other => uri.push_str(&format!("%{other:02X}")),
        }
    }
    uri.push_str("?mode=ro&immutable=1");
    let flags =
        OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let database = Connection::open_with_flags(uri, flags)?;
    database.set_db_config(DbConfig::SQLITE_DBCONFIG_DEFENSIVE, true)?;
    database.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_TRIGGER, false)?;
    database.execute_batch("PRAGMA trusted_schema = OFF; PRAGMA cell_size_check = ON")?;
    Ok(database)
}

/// SQL in lower case without comments, each run of spaces as one.
fn words(sql: &str) -> String {
    let mut plain = String::with_capacity(sql.len());
    let mut rest = sql;
    while let Some(at) = rest.find(['-', '/']) {
        let (before, from) = rest.split_at(at);
        plain.push_str(before);
        rest = if let Some(comment) = from.strip_prefix("--") {
            plain.push(' ');
            comment.split_once('\n').map_or("", |(_, after)| after)
        } else if let Some(comment) = from.strip_prefix("/*") {
            plain.push(' ');
            comment.split_once("*/").map_or("", |(_, after)| after)
        } else {
            plain.push_str(&from[..1]);
            &from[1..]
        };
    }
    plain.push_str(rest);
    plain.to_lowercase().split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Whether a virtual table is a spatial index.
fn is_rtree(sql: &str) -> bool {
    let sql = words(sql);
    sql.split_once(" using ").is_some_and(|(_, module)| {
        module.strip_prefix("rtree").is_some_and(|rest| rest.trim_start().starts_with('('))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn with(sql: &str) -> Result<()> {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a ü?.gpkg");
        Connection::open(&path).unwrap().execute_batch(sql).unwrap();
        assert!(is_sqlite(&path).unwrap());
        refuse_more_than_data(&path, "a.gpkg")
    }

    /// Puts a line into the list of tables that SQLite itself would not make here.
    fn smuggled(kind: &str, called: &str, sql: &str) -> String {
        format!(
            "CREATE TABLE a (x); PRAGMA writable_schema = ON;
             INSERT INTO sqlite_master (type, name, tbl_name, rootpage, sql)
             VALUES ('{kind}', '{called}', '{called}', 0, '{}'); PRAGMA writable_schema = OFF;",
            sql.replace('\'', "''")
        )
    }

    #[test]
    fn only_data_is_let_in() {
        with("CREATE TABLE a (x); CREATE INDEX i ON a (x)").unwrap();
        with("CREATE VIRTUAL TABLE \"rtree_a_geom\" USING rtree(id, minx, maxx, miny, maxy)").unwrap();
        with("CREATE TABLE a (x); CREATE TRIGGER rtree_a_geom_insert AFTER INSERT ON a BEGIN SELECT 1; END")
            .unwrap();
        let told = |sql: &str| with(sql).unwrap_err().to_string();
        assert!(told("CREATE TABLE a (x); CREATE VIEW v AS SELECT * FROM a").contains("a view, “v”"));
        assert!(
            told("CREATE TABLE a (x); CREATE TRIGGER t AFTER INSERT ON a BEGIN SELECT 1; END")
                .contains("trigger")
        );
        assert!(told("CREATE VIRTUAL TABLE f USING fts5(x)").contains("virtual table, “f”"));
        assert!(told("CREATE TABLE a (x, y GENERATED ALWAYS AS (x + 1))").contains("computed"));
        for sql in [
            "CREATE VIRTUAL TABLE rtree_x USING VirtualText('/etc/passwd', 'UTF-8', 0, COMMA, NONE, ';')",
            "create/**/virtual -- a\n table rtree_x using VirtualText('rtree (')",
        ] {
            assert!(told(&smuggled("table", "rtree_x", sql)).contains("virtual table"), "{sql}");
        }
        assert!(matches!(
            with(&smuggled(
                "view",
                "endless",
                "CREATE VIEW endless AS WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x FROM c) SELECT x FROM c"
            )),
            Err(Error::Hostile { .. })
        ));
    }
}
