//! Sheets as they are kept: added, changed, named, copied, deleted; each can be undone.

use std::path::Path;
use std::sync::Arc;

use bothros_formats::{decode_png, encode_png, read_picture};
use bothros_sheets::{BarUnit, Fit, Frame, Layout, Page, Part, Picture, Sheet, What, begin};
use bothros_store::{Change, Inverse, Kept, LogLine, Record, SheetRow, Store, Versioned, kept};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::{Error, Facts, Result, boxed};

/// A sheet as it is kept.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
struct Document(Sheet);

impl Versioned for Document {
    const WHAT: &'static str = "a map sheet";
}

/// A sheet with its name.
#[derive(Debug, Clone, PartialEq)]
pub struct KeptSheet {
    /// number
    pub id: i64,
    /// what it is called
    pub name: String,
    /// what stands on it
    pub sheet: Sheet,
    /// counts changes
    pub version: i32,
}

/// What a new sheet begins with.
#[derive(Debug, Clone, PartialEq)]
pub struct SheetLook {
    /// its layout
    pub layout: Layout,
    /// its page
    pub page: Page,
    /// what its maps show, the lowest first
    pub layers: Vec<String>,
    /// in what lengths are told
    pub unit: BarUnit,
}

fn read(row: SheetRow) -> Result<KeptSheet> {
    let Document(sheet) = kept::read(row.sheet)?;
    Ok(KeptSheet { id: row.id, name: row.name, sheet, version: row.version })
}

/// The sheets of a study, the oldest first.
///
/// # Errors
/// Those of the store.
#[boxed]
pub async fn sheets(store: &Store, study: i64) -> Result<Vec<KeptSheet>> {
    store.sheets(study).await?.into_iter().map(read).collect()
}

/// One sheet.
///
/// # Errors
/// [`bothros_store::Error::NotFound`] where the study has no such sheet.
#[boxed]
pub async fn sheet(store: &Store, study: i64, id: i64) -> Result<KeptSheet> {
    read(store.sheet(study, id).await?)
}

/// The longest name of a sheet, letters.
const LONGEST: usize = 120;
/// More sheets than this are no list any more.
const MOST_SHEETS: usize = 500;

fn named(name: &str) -> Result<String> {
    let name: String = name.trim().chars().filter(|c| !c.is_control()).collect();
    match name.chars().count() {
        0 => Err(Error::Refused("give the sheet a name".into())),
        n if n > LONGEST => Err(Error::Refused(format!("the name of a sheet has {LONGEST} letters at most"))),
        _ => Ok(name),
    }
}

/// A name that no sheet of the study has.
fn free_name(wanted: &str, taken: &[SheetRow]) -> String {
    let is_free = |name: &str| taken.iter().all(|row| row.name != name);
    let numbered = (2..).map(|n| format!("{wanted} {n}"));
    std::iter::once(wanted.to_owned()).chain(numbered).find(|name| is_free(name)).unwrap_or_default()
}

pub(super) async fn add(store: &Store, study: i64, name: &str, sheet: Sheet, told: &str) -> Result<i64> {
    let taken = store.sheets(study).await?;
    if taken.len() >= MOST_SHEETS {
        return Err(Error::Refused(format!("a study keeps {MOST_SHEETS} sheets at most: delete some first")));
    }
    let name = free_name(&named(name)?, &taken);
    let change = store.change(study).await?;
    let id = change.add_sheet(&name, Kept::of(&Document(sheet.tidied()?))?).await?;
    let told = format!("Map sheet “{name}” {told}");
    let record =
        Record::log(LogLine::new("Sheets", told.clone())).undone_by(told, Inverse::RemoveSheet { id });
    change.commit(record).await?;
    Ok(id)
}

/// Adds a sheet of a layout; returns its number.
///
/// # Errors
/// [`Error::Refused`] before there is a prepared DEM, [`Error::Sheets`] for a page that no printer takes.
#[boxed]
pub async fn add_sheet(store: &Store, study: i64, name: &str, look: &SheetLook) -> Result<i64> {
    let facts = Facts::of(&store.study(study).await?)?;
    let none = || Error::Refused("a sheet shows what a study holds: prepare the DEM first".into());
    let frame = facts.terrain.as_ref().ok_or_else(none)?.frame;
    let aspect = frame.cols as f64 / frame.rows.max(1) as f64;
    let sheet = begin(look.layout, look.page, &look.layers, look.unit, aspect)?;
    add(store, study, name, sheet, "added").await
}

/// Adds a copy of a sheet, of the same study or another; what it was fitted to by number is found by name.
///
/// # Errors
/// [`bothros_store::Error::NotFound`] where there is no such sheet.
#[boxed]
pub async fn copy_sheet(store: &Store, from: (i64, i64), to: i64) -> Result<i64> {
    let KeptSheet { name, mut sheet, .. } = self::sheet(store, from.0, from.1).await?;
    if from.0 != to {
        adapt(store, from.0, to, &mut sheet).await?;
        for part in &sheet.parts {
            if let What::Logo { sha256: Some(sha256) } = &part.what {
                let png = store.sheet_picture(from.0, sha256).await?;
                let change = store.change(to).await?;
                change.put_sheet_picture(sha256, png).await?;
                change.commit(Record::default()).await?;
            }
        }
    }
    add(store, to, &name, sheet, "copied").await
}

/// Makes a sheet of one study fit another: catchments are found by their names, and others show all of the study.
async fn adapt(store: &Store, from: i64, to: i64, sheet: &mut Sheet) -> Result<()> {
    let (old, new) = (store.pour_points(from).await?, store.pour_points(to).await?);
    let found = |id: i64| {
        let name = &old.iter().find(|p| p.id == id)?.name;
        new.iter().find(|p| p.name == *name).map(|p| p.id)
    };
    let shows_other = |part: &Part| match &part.what {
        What::Frame(frame) => frame.shown.study.is_some_and(|study| study != to),
        _ => false,
    };
    // Those that showed another study go on showing it.
    let others: Vec<(u32, Part)> =
        sheet.parts.iter().filter(|p| shows_other(p)).map(|p| (p.id, p.clone())).collect();
    fit_to(sheet, found);
    for (id, was) in others {
        *sheet.part_mut(id)? = was;
    }
    Ok(())
}

/// Makes a sheet fit another study, whose pour points are `found` from those of its own.
pub(super) fn fit_to(sheet: &mut Sheet, found: impl Fn(i64) -> Option<i64>) {
    for part in &mut sheet.parts {
        let What::Frame(frame) = &mut part.what else { continue };
        let Frame { shown, fit, alone, .. } = &mut **frame;
        shown.study = None;
        shown.trial = None;
        shown.candidate = None;
        *alone = alone.and_then(&found);
        *fit = match *fit {
            Fit::Catchment { point } => found(point).map_or(Fit::Study, |point| Fit::Catchment { point }),
            Fit::Study => Fit::Study,
            // Another place on the earth: what was typed means nothing there.
            Fit::Box { .. } | Fit::Place { .. } => Fit::Study,
        };
    }
}

/// Changes what stands on a sheet. What cannot be laid out is refused, and nothing changes.
///
/// # Errors
/// What `how` and [`Sheet::check`] find; [`bothros_store::Error::NotFound`] where the study has no such sheet.
pub async fn change_sheet(
    store: &Store,
    study: i64,
    id: i64,
    told: &str,
    how: impl FnOnce(&mut Sheet) -> Result<()>,
) -> Result<KeptSheet> {
    let change = store.change(study).await?;
    let row = change.sheet(id).await?;
    let before = row.sheet.clone();
    let KeptSheet { name, mut sheet, version, .. } = read(row)?;
    let was = sheet.clone();
    how(&mut sheet)?;
    let sheet = sheet.tidied()?;
    if sheet == was {
        return Ok(KeptSheet { id, name, sheet, version });
    }
    change.set_sheet(id, &name, Kept::of(&Document(sheet.clone()))?).await?;
    let undo = Inverse::SetSheet { id, name: name.clone(), sheet: before };
    let record = Record { undo: Some((format!("Sheet “{name}”: {told}"), undo)), ..Record::default() };
    change.commit(record).await?;
    Ok(KeptSheet { id, name, sheet, version: version + 1 })
}

/// Names a sheet.
///
/// # Errors
/// [`Error::Refused`] for no name.
#[boxed]
pub async fn rename_sheet(store: &Store, study: i64, id: i64, name: &str) -> Result<()> {
    let name = named(name)?;
    let change = store.change(study).await?;
    let row = change.sheet(id).await?;
    let before = row.name.clone();
    let undo = Inverse::SetSheet { id, name: before.clone(), sheet: row.sheet.clone() };
    let sheet = read(row)?.sheet;
    change.set_sheet(id, &name, Kept::of(&Document(sheet))?).await?;
    let told = format!("Map sheet “{before}” named “{name}”");
    change.commit(Record::log(LogLine::new("Sheets", told.clone())).undone_by(told, undo)).await?;
    Ok(())
}

/// Deletes a sheet; it can be brought back by undo.
///
/// # Errors
/// [`bothros_store::Error::NotFound`] where the study has no such sheet.
#[boxed]
pub async fn delete_sheet(store: &Store, study: i64, id: i64) -> Result<()> {
    let change = store.change(study).await?;
    let name = change.sheet(id).await?.name;
    change.set_sheet_deleted(id, true).await?;
    let told = format!("Map sheet “{name}” deleted");
    let record =
        Record::log(LogLine::new("Sheets", told.clone())).undone_by(told, Inverse::RestoreSheet { id });
    change.commit(record).await?;
    Ok(())
}

/// Puts a sheet back to what it was.
pub(crate) async fn put_sheet_back(
    change: &Change,
    id: i64,
    name: &str,
    sheet: serde_json::Value,
) -> Result<()> {
    let document: Document = kept::read(sheet)?;
    change.set_sheet(id, name, Kept::of(&document)?).await?;
    Ok(())
}

/// Gives a part of a sheet a picture: PNG, JPEG or any other that can be read; large ones are reduced.
///
/// # Errors
/// [`Error::Formats`] for a file that is no picture.
#[boxed]
pub async fn put_logo(
    store: &Store,
    study: i64,
    id: i64,
    part: u32,
    file: &Path,
    name: &str,
) -> Result<KeptSheet> {
    let (path, name) = (file.to_owned(), name.to_owned());
    let (sha256, png) = crate::blocking(move || {
        let picture = read_picture(&path, &name)?;
        let sha256: String =
            Sha256::digest(std::fs::read(&path)?).iter().map(|b| format!("{b:02x}")).collect();
        Ok((sha256, encode_png(picture.width, picture.height, &picture.pixels)?))
    })
    .await?;
    let change = store.change(study).await?;
    change.put_sheet_picture(&sha256, png).await?;
    change.commit(Record::default()).await?;
    change_sheet(store, study, id, "picture given", move |sheet| {
        match &mut sheet.part_mut(part)?.what {
            What::Logo { sha256: now } => *now = Some(sha256),
            _ => return Err(Error::Refused("only a logo holds a picture".into())),
        }
        Ok(())
    })
    .await
}

/// A picture as it was kept.
pub(super) fn picture(png: &[u8]) -> Result<Picture> {
    let read = decode_png(png)?;
    Ok(Picture { width: read.width, height: read.height, rgba: Arc::new(read.pixels) })
}
