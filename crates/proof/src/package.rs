//! Reading the tables of a package: a zip, or the directory that it was unpacked to.

use std::collections::HashMap;
use std::io::Read;
use std::path::Path;

use bothros_core::scheme::{Flowpath, Nexus, NexusKind, Part, Scheme, flaws};
use bothros_products::{FLOWPATHS, NEXUSES, SUBBASIN_PARAMETERS, Table};

use crate::{Error, Result};

/// A sub-basin as a package describes it.
#[derive(Debug, Clone, PartialEq)]
pub struct SubbasinIn {
    /// its number
    pub id: u32,
    /// the nexus that it drains to
    pub nexus: u32,
    /// area, km²
    pub area_km2: f64,
    /// time of concentration, hours
    pub tc_h: Option<f64>,
    /// curve number
    pub curve_number: Option<f64>,
    /// share whose rain runs off whole
    pub impervious: Option<f64>,
}

/// A flowpath as a package describes it.
#[derive(Debug, Clone, PartialEq)]
pub struct FlowpathIn {
    /// its number
    pub id: u32,
    /// the nexus it begins at
    pub from: u32,
    /// the nexus it ends at
    pub to: u32,
    /// the sub-basin that it crosses
    pub subbasin: u32,
    /// length, metres
    pub length_m: f64,
    /// fall, metres
    pub drop_m: f64,
    /// Manning's n
    pub roughness: f64,
    /// width of the bed, metres
    pub bottom_width_m: f64,
    /// horizontal metres to a metre of height of the banks
    pub side_slope: f64,
}

/// A nexus as a package describes it.
#[derive(Debug, Clone, PartialEq)]
pub struct NexusIn {
    /// its number
    pub id: u32,
    /// what it is
    pub kind: NexusKind,
    /// its name
    pub name: Option<String>,
    /// area of the water surface of a storage, km²
    pub pool_area_km2: Option<f64>,
    /// width of the spillway of a storage, metres
    pub spill_width_m: Option<f64>,
}

/// The model of a package.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Package {
    /// sub-basins
    pub subbasins: Vec<SubbasinIn>,
    /// flowpaths
    pub flowpaths: Vec<FlowpathIn>,
    /// nexuses
    pub nexuses: Vec<NexusIn>,
}

/// Largest table that is read, bytes.
const MOST_BYTES: u64 = 500 << 20;

/// Reads the model of a package.
///
/// # Errors
/// [`Error::Unreadable`], [`Error::Missing`], [`Error::Value`] with the line and the column.
pub fn read(path: &Path) -> Result<Package> {
    let texts = texts(path)?;
    let rows = |table: &'static Table| Rows::of(table, &texts);
    let mut package = Package::default();
    for row in rows(&SUBBASIN_PARAMETERS)? {
        package.subbasins.push(SubbasinIn {
            id: row.id("subbasin_id")?,
            nexus: row.id("nexus_id")?,
            area_km2: row.number("area_km2", 0.0, 1e8)?,
            tc_h: row.optional("tc_h", 0.0, 1e4)?,
            curve_number: row.optional("curve_number", 1.0, 100.0)?,
            impervious: row.optional("impervious_share", 0.0, 1.0)?,
        });
    }
    for row in rows(&FLOWPATHS)? {
        package.flowpaths.push(FlowpathIn {
            id: row.id("flowpath_id")?,
            from: row.id("from_nexus_id")?,
            to: row.id("to_nexus_id")?,
            subbasin: row.id("subbasin_id")?,
            length_m: row.number("length_m", 0.0, 1e8)?,
            drop_m: row.number("drop_m", -1e4, 1e4)?,
            roughness: row.number("roughness", 0.0, 10.0)?,
            bottom_width_m: row.number("bottom_width_m", 0.0, 1e5)?,
            side_slope: row.number("side_slope", 0.0, 1e3)?,
        });
    }
    for row in rows(&NEXUSES)? {
        let kind = row.text("kind").unwrap_or_default();
        package.nexuses.push(NexusIn {
            id: row.id("nexus_id")?,
            kind: NexusKind::from_name(kind)
                .ok_or_else(|| row.wrong("kind", format!("“{kind}” is not known")))?,
            name: row.text("name").map(str::to_owned),
            pool_area_km2: row.optional("pool_area_km2", 0.0, 1e6)?,
            spill_width_m: row.optional("spill_width_m", 0.0, 1e5)?,
        });
    }
    if package.subbasins.is_empty() {
        return Err(Error::Scheme("it has no sub-basins".into()));
    }
    Ok(package)
}

impl Package {
    /// How its elements are connected, numbers as they are.
    pub fn scheme(&self) -> Scheme {
        let nexus = |n: &NexusIn| Nexus {
            id: n.id,
            kind: n.kind,
            cell: 0,
            point: None,
            storage: None,
            flowpath: self.flowpaths.iter().find(|f| f.from == n.id).map(|f| f.id),
        };
        let flowpath = |f: &FlowpathIn| Flowpath {
            id: f.id,
            from: f.from,
            to: f.to,
            subbasin: f.subbasin,
            cells: Vec::new(),
            length_m: f.length_m,
            drop_m: f.drop_m,
        };
        Scheme {
            nexuses: self.nexuses.iter().map(nexus).collect(),
            flowpaths: self.flowpaths.iter().map(flowpath).collect(),
            subbasins: self.subbasins.iter().map(|s| Part { id: s.id, nexus: s.nexus, cells: 0 }).collect(),
            merged: 0,
        }
    }

    /// Places of the nexuses in an order in which each comes after all that lead to it.
    ///
    /// # Errors
    /// [`Error::Scheme`] where a model cannot be run on it, e.g. where water runs in a circle.
    pub fn order(&self) -> Result<Vec<usize>> {
        if let Some(flaw) = flaws(&self.scheme()).into_iter().find(|f| f.is_error()) {
            return Err(Error::Scheme(flaw.to_string()));
        }
        let at: HashMap<u32, usize> = self.nexuses.iter().enumerate().map(|(at, n)| (n.id, at)).collect();
        let mut waiting = vec![0u32; self.nexuses.len()];
        let mut next = vec![None; self.nexuses.len()];
        for f in &self.flowpaths {
            waiting[at[&f.to]] += 1;
            next[at[&f.from]] = Some(at[&f.to]);
        }
        let mut order: Vec<usize> = (0..waiting.len()).filter(|&n| waiting[n] == 0).collect();
        let mut done = 0;
        while let Some(&nexus) = order.get(done) {
            done += 1;
            if let Some(then) = next[nexus] {
                waiting[then] -= 1;
                if waiting[then] == 0 {
                    order.push(then);
                }
            }
        }
        Ok(order)
    }
}

/// The CSV files of a package by the end of their names.
fn texts(path: &Path) -> Result<HashMap<String, String>> {
    let unreadable = |what: String| Error::Unreadable { path: path.display().to_string(), what };
    let wanted = [&SUBBASIN_PARAMETERS, &FLOWPATHS, &NEXUSES].map(|t| format!("{}.csv", t.name));
    let of = |name: &str| {
        let own = name.rsplit('/').next().unwrap_or(name);
        wanted.iter().find(|w| own == w.as_str() || own.ends_with(&format!("_{w}"))).cloned()
    };
    let mut found = HashMap::new();
    if path.is_dir() {
        for entry in std::fs::read_dir(path).map_err(|e| unreadable(e.to_string()))? {
            let entry = entry.map_err(|e| unreadable(e.to_string()))?;
            if let Some(table) = of(&entry.file_name().to_string_lossy()) {
                let text = std::fs::read_to_string(entry.path()).map_err(|e| unreadable(e.to_string()))?;
                found.insert(table, text);
            }
        }
        return Ok(found);
    }
    let file = std::fs::File::open(path).map_err(|e| unreadable(e.to_string()))?;
    let mut archive = zip::ZipArchive::new(file).map_err(|e| unreadable(e.to_string()))?;
    for at in 0..archive.len() {
        let entry = archive.by_index(at).map_err(|e| unreadable(e.to_string()))?;
        let name = entry.name().map_err(|e| unreadable(e.to_string()))?.into_owned();
        if let Some(table) = of(&name) {
            let mut text = String::new();
            // A damaged or malicious archive may unpack to anything.
            entry.take(MOST_BYTES).read_to_string(&mut text).map_err(|e| unreadable(e.to_string()))?;
            found.insert(table, text);
        }
    }
    Ok(found)
}

/// A row of a table that is read.
struct Rows {
    table: &'static Table,
    line: u64,
    values: HashMap<String, String>,
}

impl Rows {
    fn of(table: &'static Table, texts: &HashMap<String, String>) -> Result<Vec<Self>> {
        let text = texts.get(&format!("{}.csv", table.name)).ok_or(Error::Missing(table.name))?;
        let mut reader = csv::Reader::from_reader(text.as_bytes());
        let broken = |e: csv::Error| Error::Unreadable { path: table.name.into(), what: e.to_string() };
        let header = reader.headers().map_err(broken)?.clone();
        let rows = reader.records().map(|record| {
            let record = record.map_err(broken)?;
            let values =
                header.iter().zip(&record).map(|(name, v)| (name.to_owned(), v.to_owned())).collect();
            Ok(Self { table, line: record.position().map_or(0, csv::Position::line), values })
        });
        rows.collect()
    }

    fn wrong(&self, column: &'static str, what: String) -> Error {
        Error::Value { table: self.table.name, line: self.line, column, what }
    }

    fn text(&self, column: &str) -> Option<&str> {
        self.values.get(column).map(String::as_str).filter(|t| !t.is_empty())
    }

    fn optional(&self, column: &'static str, least: f64, most: f64) -> Result<Option<f64>> {
        let Some(text) = self.text(column) else { return Ok(None) };
        let value: f64 = text.parse().map_err(|_| self.wrong(column, format!("“{text}” is not a number")))?;
        match (least..=most).contains(&value) {
            true => Ok(Some(value)),
            false => Err(self.wrong(column, format!("is {value}, outside {least} to {most}"))),
        }
    }

    fn number(&self, column: &'static str, least: f64, most: f64) -> Result<f64> {
        self.optional(column, least, most)?.ok_or_else(|| self.wrong(column, "has no value".into()))
    }

    fn id(&self, column: &'static str) -> Result<u32> {
        let text = self.text(column).unwrap_or_default();
        text.parse().map_err(|_| self.wrong(column, format!("“{text}” is not a number from 0 on")))
    }
}
