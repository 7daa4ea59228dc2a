//! Packages that are kept: deleted, and compared with each other.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;
use std::path::Path;

use bothros_store::{LogLine, Record, Store};

use crate::{Error, Result, Stage, boxed};

/// Deletes a package. It cannot be undone.
///
/// # Errors
/// [`bothros_store::Error::NotFound`] where the study has none of that number.
#[boxed]
pub async fn delete_package(store: &Store, study: i64, id: i64) -> Result<()> {
    let file = store.kept_package(study, id).await?;
    let change = store.change(study).await?;
    change.drop_package(id).await?;
    let told = format!("Package of {} deleted", file.at.format("%Y-%m-%d %H:%M:%S"));
    change.commit(Record::log(LogLine::new(Stage::Handover.title(), told))).await?;
    Ok(())
}

/// A table of two packages.
#[derive(Debug, Clone, PartialEq)]
pub struct TableDifference {
    /// its name
    pub name: String,
    /// rows in the one; none where it has no such table
    pub one: Option<usize>,
    /// rows in the other
    pub other: Option<usize>,
}

/// How two packages differ.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct PackageDifference {
    /// lines of methods and settings that only the one has
    pub only_one: Vec<String>,
    /// those that only the other has
    pub only_other: Vec<String>,
    /// tables that are not the same
    pub tables: Vec<TableDifference>,
    /// other files that are not the same: name, and whether each has it
    pub files: Vec<(String, bool, bool)>,
    /// files that are the same in both
    pub same: usize,
}

/// A file of a package: checksum and size, with its content where that is compared too.
struct Held {
    sum: (u32, u64),
    text: Option<String>,
}

/// Largest text that is looked into, bytes.
const MOST_BYTES: u64 = 200 << 20;

/// The files of a package by the part of their names that follows the study's short name.
fn held(path: &Path) -> Result<BTreeMap<String, Held>> {
    let mut zip = zip::ZipArchive::new(std::fs::File::open(path)?)?;
    let mut all = BTreeMap::new();
    let short = |name: &str| name.split_once('_').map_or(name, |(_, rest)| rest).to_owned();
    for at in 0..zip.len() {
        let file = zip.by_index(at)?;
        let name = file.name()?.into_owned();
        let sum = (file.crc32(), file.size());
        let text = if name.ends_with(".csv") || name == "README.txt" {
            let mut text = Vec::new();
            file.take(MOST_BYTES).read_to_end(&mut text)?;
            Some(String::from_utf8_lossy(&text).into_owned())
        } else {
            None
        };
        all.insert(if name == "README.txt" { name } else { short(&name) }, Held { sum, text });
    }
    Ok(all)
}

/// The lines of a README about methods and settings.
fn settings(readme: &str) -> BTreeSet<&str> {
    let begin = readme.find("Methods and settings").unwrap_or(0);
    let end = readme.find("\nFiles\n").unwrap_or(readme.len());
    let lines = readme.get(begin..end.max(begin)).unwrap_or_default().lines().skip(2);
    let before = readme.get(..begin).unwrap_or_default().lines();
    before.filter(|l| ["CRS", "Layers", "Grid"].iter().any(|w| l.starts_with(w))).chain(lines).collect()
}

/// What changed from one package to another.
///
/// # Errors
/// [`Error::Zip`] and [`Error::Io`] for what is no zip.
pub fn compare_packages(one: &Path, other: &Path) -> Result<PackageDifference> {
    let (one, other) = (held(one)?, held(other)?);
    let mut found = PackageDifference::default();
    fn readme(of: &BTreeMap<String, Held>) -> BTreeSet<&str> {
        of.get("README.txt").and_then(|h| h.text.as_deref()).map_or(BTreeSet::new(), settings)
    }
    let (before, after) = (readme(&one), readme(&other));
    let only = |a: &BTreeSet<&str>, b: &BTreeSet<&str>| -> Vec<String> {
        a.difference(b).filter(|l| !l.trim().is_empty()).map(|l| (*l).to_owned()).collect()
    };
    (found.only_one, found.only_other) = (only(&before, &after), only(&after, &before));
    let rows = |held: &Held| -> Result<usize> {
        let text = held.text.as_deref().unwrap_or_default();
        let mut reader = csv::Reader::from_reader(text.as_bytes());
        let mut count = 0;
        for record in reader.records() {
            record.map_err(|e| Error::Refused(format!("a table of a package cannot be read: {e}")))?;
            count += 1;
        }
        Ok(count)
    };
    for name in one.keys().chain(other.keys()).collect::<BTreeSet<_>>() {
        let (a, b) = (one.get(name), other.get(name));
        if a.map(|h| h.sum) == b.map(|h| h.sum) {
            found.same += 1;
        } else if let Some(table) = name.strip_suffix(".csv") {
            let count = |held: Option<&Held>| held.map(rows).transpose();
            found.tables.push(TableDifference { name: table.to_owned(), one: count(a)?, other: count(b)? });
        } else if name != "README.txt" {
            found.files.push((name.clone(), a.is_some(), b.is_some()));
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    fn package(dir: &Path, name: &str, files: &[(&str, &str)]) -> std::path::PathBuf {
        let path = dir.join(name);
        let mut zip = zip::ZipWriter::new(std::fs::File::create(&path).unwrap());
        for (name, text) in files {
            zip.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
            zip.write_all(text.as_bytes()).unwrap();
        }
        zip.finish().unwrap();
        path
    }

    #[test]
    fn what_changed_is_told_by_settings_tables_and_files() {
        let dir = tempfile::tempdir().unwrap();
        let readme = |cells: u32| {
            format!(
                "Mill\n====\n\nCRS: a\n\nMethods and settings\n---\nStreams: {cells} cells.\nFill.\n\nFiles\n-----\nx\n\nLog\n"
            )
        };
        let (old, new) = (readme(100), readme(200));
        let one = package(
            dir.path(),
            "a.zip",
            &[
                ("README.txt", &old),
                ("mill_reaches.csv", "id\n1\n2\n"),
                ("mill_a.tif", "x"),
                ("mill_b.tif", "y"),
            ],
        );
        let other = package(
            dir.path(),
            "b.zip",
            // The study has another name since.
            &[
                ("README.txt", &new),
                ("weir_reaches.csv", "id\n1\n"),
                ("weir_a.tif", "z"),
                ("weir_b.tif", "y"),
            ],
        );
        let found = compare_packages(&one, &other).unwrap();
        assert_eq!(found.only_one, ["Streams: 100 cells."]);
        assert_eq!(found.only_other, ["Streams: 200 cells."]);
        let reaches = TableDifference { name: "reaches".into(), one: Some(2), other: Some(1) };
        assert_eq!(found.tables, [reaches]);
        assert_eq!(found.files, [("a.tif".to_owned(), true, true)]);
        assert_eq!(found.same, 1);
        let same = compare_packages(&one, &one).unwrap();
        assert_eq!(same, PackageDifference { same: 4, ..PackageDifference::default() });
        let no_zip = dir.path().join("c.zip");
        std::fs::write(&no_zip, "none").unwrap();
        assert!(compare_packages(&one, &no_zip).is_err());
    }
}
