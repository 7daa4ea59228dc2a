//! What of a study is handed out.

use bothros_formats::{Crs, CrsKind, Transform};
use bothros_products::DirectionCodes;
use bothros_store::{LogLine, Record, Store};
use serde::{Deserialize, Serialize};

use crate::study::settings::change_settings;
use crate::{Error, Facts, ModelChoice, Result, Stage, TypedValue, boxed};

/// What of a study is handed out.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct HandoverChoice {
    /// the pour point whose catchment is handed out alone; none for all land
    pub alone: Option<i64>,
    /// layers are written as Shapefiles too
    pub shapefiles: bool,
    /// rasters are written as NetCDF too
    pub netcdf: bool,
    /// indices of the land are written as rasters
    pub indices: bool,
    /// shares of divided flow are written as rasters, one for each neighbour
    pub shares: bool,
    /// map sheets are written
    pub sheets: bool,
    /// the report is written
    pub report: bool,
    /// what names of files begin with; none for the first word of the study's name
    pub short_name: Option<String>,
    /// how flow directions are coded
    pub directions: DirectionCodes,
    /// CRS of GeoPackage and Shapefiles; none for the study's
    pub crs: Option<Crs>,
    /// parameters of the model scheme
    pub model: ModelChoice,
    /// parameters that were typed for single elements
    pub typed: Vec<TypedValue>,
}

/// A format that is written where it is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MoreFormat {
    /// layers as Shapefiles
    Shapefiles,
    /// rasters as NetCDF
    Netcdf,
    /// indices of the land as rasters
    Indices,
    /// shares of flow divided by MFD, as rasters
    Shares,
    /// map sheets
    Sheets,
    /// the report
    Report,
}

/// Makes a choice, as a change that can be undone, told in the same words in the log and to who undoes it.
async fn choose(
    store: &Store,
    study: i64,
    told: String,
    how: impl FnOnce(&mut HandoverChoice),
) -> Result<()> {
    let change = store.change(study).await?;
    let changed = change_settings(&change, |settings| {
        how(&mut settings.handover);
        Ok(())
    })
    .await?;
    let line = LogLine::new(Stage::Handover.title(), told.clone());
    change.commit(Record::log(line).undone_by(told, changed.undo)).await?;
    Ok(())
}

/// Chooses whether a format is written beside the usual ones. It can be undone.
///
/// # Errors
/// Those of the database.
#[boxed]
pub async fn add_format(store: &Store, study: i64, format: MoreFormat, wanted: bool) -> Result<()> {
    let told = match (format, wanted) {
        (MoreFormat::Shapefiles, true) => "Layers are handed out as Shapefiles too",
        (MoreFormat::Shapefiles, false) => "Layers are no longer handed out as Shapefiles",
        (MoreFormat::Netcdf, true) => "Rasters are handed out as NetCDF too",
        (MoreFormat::Netcdf, false) => "Rasters are no longer handed out as NetCDF",
        (MoreFormat::Indices, true) => "Indices of the land are handed out",
        (MoreFormat::Indices, false) => "Indices of the land are no longer handed out",
        (MoreFormat::Shares, true) => "Shares of flow are handed out",
        (MoreFormat::Shares, false) => "Shares of flow are no longer handed out",
        (MoreFormat::Sheets, true) => "Map sheets are handed out",
        (MoreFormat::Sheets, false) => "Map sheets are no longer handed out",
        (MoreFormat::Report, true) => "The report is handed out",
        (MoreFormat::Report, false) => "The report is no longer handed out",
    };
    choose(store, study, told.to_owned(), |handover| match format {
        MoreFormat::Shapefiles => handover.shapefiles = wanted,
        MoreFormat::Netcdf => handover.netcdf = wanted,
        MoreFormat::Indices => handover.indices = wanted,
        MoreFormat::Shares => handover.shares = wanted,
        MoreFormat::Sheets => handover.sheets = wanted,
        MoreFormat::Report => handover.report = wanted,
    })
    .await
}

/// Characters of a short name.
const SHORT: usize = 16;

/// Chooses what names of files begin with; an empty one means the first word of the study's name. It can be undone.
///
/// # Errors
/// [`Error::Refused`] for what is no name in every format.
#[boxed]
pub async fn set_short_name(store: &Store, study: i64, typed: &str) -> Result<()> {
    let name = typed.trim();
    let letters = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
    let fine = name.starts_with(|c: char| c.is_ascii_lowercase()) && name.chars().all(letters);
    if !(name.is_empty() || fine && name.len() <= SHORT) {
        return Err(Error::Refused(format!(
            "a short name has at most {SHORT} characters, small letters, digits and underscores, a letter first, so that every format and model takes it"
        )));
    }
    let told = match name {
        "" => "Files are named by the study’s first word".to_owned(),
        name => format!("Files are named {name}"),
    };
    choose(store, study, told, |handover| handover.short_name = (!name.is_empty()).then(|| name.to_owned()))
        .await
}

/// Chooses how flow directions are coded. It can be undone.
///
/// # Errors
/// Those of the database.
#[boxed]
pub async fn set_direction_codes(store: &Store, study: i64, codes: DirectionCodes) -> Result<()> {
    let told = format!("Flow directions are handed out as {}", codes.title());
    choose(store, study, told, |handover| handover.directions = codes).await
}

/// Chooses the CRS of layers; an empty definition means the study's. It can be undone.
///
/// # Errors
/// [`Error::Refused`] before the DEM is prepared; [`bothros_formats::Error::UnknownCrs`]; and where the study has no coordinates in it.
#[boxed]
pub async fn hand_out_in(store: &Store, study: i64, definition: &str) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let terrain = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
    let wanted = match definition.trim() {
        "" => None,
        text => Some(Crs::parse(text)?),
    };
    if let Some(wanted) = &wanted {
        if wanted.kind == CrsKind::Other {
            return Err(Error::Refused(format!("{} is neither projected nor geographic", wanted.label())));
        }
        let (to, frame) = (Transform::new(&terrain.crs, wanted)?, &terrain.frame);
        let (right, bottom) = (
            frame.left + frame.cols as f64 * frame.cell_size,
            frame.top - frame.rows as f64 * frame.cell_size,
        );
        for (x, y) in [(frame.left, frame.top), (right, frame.top), (frame.left, bottom), (right, bottom)] {
            to.point(x, y)?;
        }
    }
    let told = match &wanted {
        Some(crs) => format!("Layers are handed out in {}", crs.label()),
        None => "Layers are handed out in the study’s CRS".to_owned(),
    };
    choose(store, study, told, |handover| handover.crs = wanted).await
}

/// Chooses whether all land is handed out, or the catchment of one pour point alone. It can be undone.
///
/// # Errors
/// [`Error::Refused`] where the pour point has no catchment.
#[boxed]
pub async fn hand_out_alone(store: &Store, study: i64, alone: Option<i64>) -> Result<()> {
    let told = match alone {
        None => "All land is handed out".to_owned(),
        Some(point) => {
            let point = store.pour_point(study, point).await?;
            if point.catchment.is_none() {
                return Err(Error::Refused("the pour point has no catchment yet".into()));
            }
            format!("The catchment of {} is handed out alone", point.name)
        }
    };
    choose(store, study, told, |handover| handover.alone = alone).await
}
