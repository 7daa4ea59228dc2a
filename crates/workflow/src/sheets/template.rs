//! Sheets as files: a sheet with all that it needs to be laid out for another study, or by a recipe.

use std::collections::BTreeMap;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use bothros_sheets::{Fit, Sheet, What};
use bothros_store::{Kept, Record, Store, Versioned, kept};
use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::kept::{add, fit_to, picture, sheet};
use crate::{Error, Facts, Result, boxed};

/// A sheet as a file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SheetFile {
    /// what it is called
    pub name: String,
    /// names of the pour points whose catchments its maps look at, by the numbers that stand in it
    #[serde(default)]
    pub catchments: BTreeMap<i64, String>,
    /// pictures that were given for it: the sum that names one in the sheet, and the PNG in Base64 (RFC 4648)
    #[serde(default)]
    pub pictures: BTreeMap<String, String>,
    /// how the layers were drawn, for a recipe: a study draws them by its own styles
    #[serde(default)]
    pub style: Value,
    /// what stands on it
    pub sheet: Sheet,
}

impl Versioned for SheetFile {
    const WHAT: &'static str = "the sheet’s file";
}

/// The largest file of a sheet that is taken, bytes.
pub const LARGEST_SHEET_FILE: usize = 32 << 20;

impl SheetFile {
    /// Reads a file.
    ///
    /// # Errors
    /// [`Error::Refused`] for what is no sheet's file, and one that a later version wrote.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        let refused = |why: String| Error::Refused(format!("this is not the file of a map sheet: {why}"));
        if bytes.len() > LARGEST_SHEET_FILE {
            return Err(refused(format!("it is larger than {} MB", LARGEST_SHEET_FILE >> 20)));
        }
        let document: Value = serde_json::from_slice(bytes).map_err(|e| refused(e.to_string()))?;
        if document.get("sheet").is_none() {
            return Err(refused("it holds no sheet".into()));
        }
        let file: Self = kept::read(document).map_err(|e| refused(e.to_string()))?;
        file.sheet.check()?;
        Ok(file)
    }

    /// The file of a sheet of a study.
    ///
    /// # Errors
    /// [`bothros_store::Error::NotFound`] where the study has no such sheet.
    #[boxed]
    pub async fn of(store: &Store, study: i64, id: i64) -> Result<Self> {
        let facts = Facts::of(&store.study(study).await?)?;
        let mut kept = sheet(store, study, id).await?;
        let points = store.pour_points(study).await?;
        let (mut catchments, mut pictures) = (BTreeMap::new(), BTreeMap::new());
        for part in &mut kept.sheet.parts {
            match &mut part.what {
                What::Frame(frame) => {
                    let fitted = match frame.fit {
                        Fit::Catchment { point } => Some(point),
                        _ => None,
                    };
                    for id in fitted.into_iter().chain(frame.alone) {
                        if let Some(point) = points.iter().find(|p| p.id == id) {
                            catchments.insert(id, point.name.clone());
                        }
                    }
                    // Numbers of other studies and of trials mean nothing elsewhere.
                    frame.shown.study = None;
                    frame.shown.trial = None;
                    frame.shown.candidate = None;
                }
                What::Logo { sha256: Some(sha256) } if !pictures.contains_key(sha256) => {
                    let png = store.sheet_picture(study, sha256).await?;
                    pictures.insert(sha256.clone(), BASE64.encode(png));
                }
                _ => {}
            }
        }
        Ok(Self { name: kept.name, catchments, pictures, style: facts.settings.style, sheet: kept.sheet })
    }

    /// The bytes of the file: JSON.
    ///
    /// # Errors
    /// Those of the encoder.
    pub fn bytes(&self) -> Result<Vec<u8>> {
        Ok(serde_json::to_vec_pretty(Kept::of(self)?.document())?)
    }

    /// A picture that stands in it, as PNG.
    ///
    /// # Errors
    /// [`Error::Refused`] where it is damaged or not there.
    pub(crate) fn png(&self, sha256: &str) -> Result<Vec<u8>> {
        let none = || Error::Refused("a picture in the sheet’s file is damaged or not there".into());
        let png = BASE64.decode(self.pictures.get(sha256).ok_or_else(none)?).map_err(|_| none())?;
        picture(&png).map_err(|_| none())?;
        Ok(png)
    }
}

/// Adds a sheet from a file to a study: its catchments are found by their names, as where a sheet is copied from another study.
///
/// # Errors
/// Those of [`SheetFile::read`]; [`Error::Refused`] where the study keeps too many sheets.
#[boxed]
pub async fn add_sheet_from(store: &Store, study: i64, file: SheetFile) -> Result<i64> {
    let mut sheet = file.sheet.clone();
    let points = store.pour_points(study).await?;
    fit_to(&mut sheet, |id| {
        let name = file.catchments.get(&id)?;
        points.iter().find(|p| p.name == *name).map(|p| p.id)
    });
    let mut pictures = Vec::new();
    for part in &mut sheet.parts {
        if let What::Logo { sha256: Some(sha256) } = &mut part.what {
            pictures.push((sha256.clone(), file.png(sha256)?));
        }
    }
    for (sha256, png) in pictures {
        let change = store.change(study).await?;
        change.put_sheet_picture(&sha256, png).await?;
        change.commit(Record::default()).await?;
    }
    add(store, study, &file.name, sheet, "added from a file").await
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_sheets::{Layout, Page, PageSize, begin};

    #[test]
    fn a_file_is_read_as_it_was_written_and_others_are_refused_in_words() {
        let page = Page { size: PageSize::A4, across: true };
        let sheet = begin(Layout::One, page, &["relief".into()], Default::default(), 1.0).unwrap();
        let file = SheetFile {
            name: "Overview".into(),
            catchments: [(7, "Weir".into())].into(),
            pictures: BTreeMap::new(),
            style: serde_json::json!({ "relief": { "low": 3.0 } }),
            sheet,
        };
        assert_eq!(SheetFile::read(&file.bytes().unwrap()).unwrap(), file);
        let told = |bytes: &[u8]| SheetFile::read(bytes).unwrap_err().to_string();
        assert!(told(b"P6 1 1").contains("this is not the file of a map sheet"));
        assert!(told(b"{}").contains("it holds no sheet"));
        let later = String::from_utf8(file.bytes().unwrap()).unwrap().replace("\"v\": 1", "\"v\": 9");
        assert!(told(later.as_bytes()).contains("a later version"), "{}", told(later.as_bytes()));
    }
}
