//! The report of a study: what it rests on, what was done and why, what came out, and what that is worth; written from the
//! study as it is.

mod closing;
mod defence;
mod ground;
mod inputs;
mod of_run;
mod results;
mod written;

use std::collections::BTreeMap;

use bothros_products::Units;
use bothros_sheets::report::{Block, Report, Section, Tabled};
use bothros_store::{LogLine, Record, Store};
use futures::future::try_join_all;
use serde::{Deserialize, Serialize};

use crate::sheets::SheetSources;
use crate::study::settings::change_settings;
use crate::{Error, Facts, Result, quantity};

pub(crate) use of_run::report_of_run;
pub(crate) use written::write_as;
pub use written::{ReportFormat, write_report};

/// What the analyst chose of the report.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct ReportChoice {
    /// sections in their order, by name; those not named follow in the usual one
    pub order: Vec<String>,
    /// sections that are left out
    pub left_out: Vec<String>,
    /// the analyst's own words in sections
    pub own: BTreeMap<String, String>,
}

/// The sections, by name, in the usual order.
pub const SECTIONS: [(&str, &str); 10] = [
    ("inputs", "Inputs"),
    ("ground", "The DEM, and what was done to it"),
    ("crossings", "Barriers"),
    ("evidence", "Evidence for the threshold"),
    ("trials", "Trials and the choice"),
    ("shortfalls", "Where the network falls short"),
    ("network", "The network"),
    ("catchments", "Catchments"),
    ("methods", "Methods, limits and sources"),
    ("log", "Log"),
];

/// The longest own words of a section, letters.
const LONGEST: usize = 20_000;

impl ReportChoice {
    /// All sections, by name and title, in the order of the report, with whether each is in it.
    pub fn sections(&self) -> Vec<(&'static str, &'static str, bool)> {
        let mut all: Vec<(&str, &str, bool)> =
            SECTIONS.map(|(key, title)| (key, title, !self.left_out.iter().any(|k| k == key))).to_vec();
        all.sort_by_key(|(key, ..)| self.order.iter().position(|k| k == key).unwrap_or(usize::MAX));
        all
    }
}

/// Changes what is chosen of the report, as one change that can be undone.
///
/// # Errors
/// [`Error::Refused`] for a section that there is none of, and for words that are too long.
pub async fn change_report(
    store: &Store,
    study: i64,
    told: &str,
    how: impl FnOnce(&mut ReportChoice),
) -> Result<()> {
    let change = store.change(study).await?;
    let changed = change_settings(&change, |settings| {
        how(&mut settings.report);
        let report = &settings.report;
        let known = |key: &String| SECTIONS.iter().any(|(k, _)| k == key);
        if !report.order.iter().chain(&report.left_out).chain(report.own.keys()).all(known) {
            return Err(Error::Refused("the report has no such section".into()));
        }
        if report.own.values().any(|text| text.chars().count() > LONGEST) {
            return Err(Error::Refused(format!(
                "a section has room for {} letters of your own",
                quantity::whole(LONGEST as u64)
            )));
        }
        Ok(())
    })
    .await?;
    let told = format!("Report: {told}");
    change.commit(Record::log(LogLine::new("Report", told.clone())).undone_by(told, changed.undo)).await?;
    Ok(())
}

/// Rows of a table that are shown on pages.
const SHOWN: usize = 40;

/// A table of a report.
fn table(
    name: &str,
    caption: impl Into<String>,
    heads: &[(&str, bool)],
    rows: Vec<Vec<String>>,
) -> Option<Block> {
    (!rows.is_empty()).then(|| {
        Block::Table(Tabled {
            name: name.into(),
            caption: caption.into(),
            heads: heads.iter().map(|(head, _)| (*head).to_owned()).collect(),
            numbers: heads.iter().map(|(_, number)| *number).collect(),
            rows,
            most: SHOWN,
        })
    })
}

fn words(text: impl Into<String>) -> Block {
    Block::Words(text.into())
}

fn fact(name: &str, value: impl Into<String>) -> (String, String) {
    (name.to_owned(), value.into())
}

/// The report of a study in units.
///
/// # Errors
/// [`Error::Refused`] before there is a prepared DEM.
pub async fn report(from: SheetSources<'_>, study: i64, units: Units) -> Result<Report> {
    Box::pin(quantity::scoped(units, made(from, study))).await
}

async fn section(from: SheetSources<'_>, facts: &Facts, (key, title): (&str, &str)) -> Result<Section> {
    let mut blocks = match key {
        "inputs" => inputs::inputs(from.store, facts).await?,
        "ground" => ground::ground(from, facts).await?,
        "crossings" => ground::crossings(from, facts).await?,
        "evidence" => defence::evidence(from, facts).await?,
        "trials" => defence::tried(from.store, facts).await?,
        "shortfalls" => defence::shortfalls(from, facts).await?,
        "network" => results::network(from, facts).await?,
        "catchments" => results::catchments(from, facts).await?,
        "methods" => closing::methods(facts, true),
        _ => closing::log(from.store, facts.study).await?,
    };
    if let Some(own) = facts.settings.report.own.get(key).filter(|own| !own.trim().is_empty()) {
        blocks.insert(0, Block::Own(own.clone()));
    }
    Ok(Section { key: key.into(), title: title.into(), level: 1, blocks })
}

async fn made(from: SheetSources<'_>, study: i64) -> Result<Report> {
    let row = from.store.study(study).await?;
    let facts = Facts::of(&row)?;
    let terrain = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
    let wanted = facts.settings.report.sections().into_iter().filter(|(.., shown)| *shown);
    // Side by side: while one reads what is kept, another computes.
    let sections = try_join_all(wanted.map(|(key, title, _)| section(from, &facts, (key, title)))).await?;
    let mut about = vec![
        fact("CRS", terrain.crs.label()),
        fact(
            "Grid",
            format!(
                "{} × {} cells of {}",
                quantity::whole(terrain.frame.cols as u64),
                quantity::whole(terrain.frame.rows as u64),
                quantity::size(terrain.frame.cell_m())
            ),
        ),
    ];
    if let Some(network) = facts.network {
        about.push(fact("Threshold", closing::threshold(network.threshold, &terrain.frame)));
    }
    if !row.description.is_empty() {
        about.insert(0, fact("What for", row.description));
    }
    about.push(fact("Written", bothros_store::now().format("%-d %B %Y, %H:%M UTC").to_string()));
    Ok(Report { title: facts.name.clone(), about, sections })
}
