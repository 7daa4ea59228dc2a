//! Pictures behind the map: read, placed by points, laid onto the study's ground.

use std::path::PathBuf;

use bothros_core::{Placing, TiePoint, place_picture};
use bothros_formats::{Crs, decode_png, encode_png, laid_extent, lay_picture, read_picture};
use bothros_store::{Backdrop, Change, FileSum, Inverse, Kept, LogLine, NewBackdrop, Record, Store, kept};
use serde::{Deserialize, Serialize};
use serde_json::json;

use crate::{Error, Facts, Provenance, Result, Stage, blocking, boxed};

/// Where a picture lies.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PicturePlace {
    /// the CRS, as WKT
    pub crs: String,
    /// left, column step, row step, top, column step, row step
    pub geo_transform: [f64; 6],
    /// the points that it was placed by; none where its file told its place
    #[serde(default)]
    pub points: Vec<TiePoint>,
    /// how far the points disagree, CRS units: root of the mean square
    #[serde(default)]
    pub rms: Option<f64>,
}

impl PicturePlace {
    /// Where a picture lies, if that is known.
    pub fn of(backdrop: &Backdrop) -> Result<Option<Self>> {
        Ok(kept::read_some(&backdrop.place)?)
    }

    /// West, south, east, north of the picture north up in a CRS.
    pub fn extent(&self, backdrop: &Backdrop, to: &Crs) -> Result<[f64; 4]> {
        let size = (backdrop.width as usize, backdrop.height as usize);
        Ok(laid_extent(size, self.geo_transform, &Crs::parse(&self.crs)?, to)?.0)
    }
}

/// A picture file.
#[derive(Debug, Clone)]
pub struct NewPicture {
    /// name of the file as the user knows it
    pub file: String,
    /// where it lies, a world file beside it where there is one
    pub path: PathBuf,
    /// where it comes from
    pub provenance: Provenance,
}

async fn study_crs(store: &Store, study: i64) -> Result<Crs> {
    let facts = Facts::of(&store.study(study).await?)?;
    let terrain = facts
        .terrain
        .ok_or_else(|| Error::Refused("prepare the DEM first: pictures are laid onto its ground".into()))?;
    Ok(terrain.crs)
}

/// Reads a picture and keeps it; returns a description. It can be undone.
///
/// # Errors
/// [`Error::Formats`] if it is not a picture; [`Error::Refused`] before the DEM is prepared.
#[boxed]
pub async fn add_backdrop(store: &Store, study: i64, new: NewPicture) -> Result<String> {
    let study_crs = study_crs(store, study).await?;
    let reading = new.clone();
    let (picture, png, sha256) = blocking(move || {
        let picture = read_picture(&reading.path, &reading.file)?;
        let png = encode_png(picture.width, picture.height, &picture.pixels)?;
        let (sha256, _) = FileSum::of(&reading.path)?;
        Ok((picture, png, sha256))
    })
    .await?;
    let mut told =
        format!("{}: a picture of {} x {} pixels", new.file, picture.original.0, picture.original.1);
    if picture.original != (picture.width, picture.height) {
        told += &format!(", kept at {} x {}", picture.width, picture.height);
    }
    let place = match picture.geo_transform {
        None => {
            told += "; it does not tell where it lies: place it by points";
            None
        }
        Some(geo_transform) => {
            let crs = match &picture.crs {
                Some(crs) => crs.wkt.clone(),
                None => {
                    told += &format!("; it does not tell its CRS, so {} is taken", study_crs.label());
                    study_crs.wkt.clone()
                }
            };
            let place = PicturePlace { crs, geo_transform, points: Vec::new(), rms: None };
            // A place that cannot be converted is found out now.
            let size = (picture.width, picture.height);
            laid_extent(size, geo_transform, &Crs::parse(&place.crs)?, &study_crs)?;
            Some(Kept::of(&place)?)
        }
    };
    let provenance = json!({ "file": new.file, "sha256": sha256, "source": new.provenance.source,
        "date": new.provenance.date, "scale": new.provenance.scale, "licence": new.provenance.licence });
    let name = new.file.rsplit_once('.').map_or(new.file.as_str(), |(stem, _)| stem).to_owned();
    let kept = NewBackdrop {
        name: name.clone(),
        width: picture.width,
        height: picture.height,
        place,
        provenance: provenance.clone(),
        picture: png,
    };
    let change = store.change(study).await?;
    let id = change.add_backdrop(kept).await?;
    let line = LogLine::new(Stage::Terrain.title(), told.clone()).with(provenance);
    change
        .commit(Record::log(line).undone_by(format!("{name} added"), Inverse::RemoveBackdrop { id }))
        .await?;
    Ok(told)
}

/// Places a picture by points on the ground, in the CRS of the study. It can be undone.
///
/// # Errors
/// [`Error::Core`] where the points do not place it.
#[boxed]
pub async fn place_backdrop(store: &Store, study: i64, id: i64, points: Vec<TiePoint>) -> Result<Placing> {
    let crs = study_crs(store, study).await?;
    let before = store.backdrop(study, id).await?;
    let placed = place_picture(&points)?;
    let place = PicturePlace {
        crs: crs.wkt.clone(),
        geo_transform: placed.geo_transform,
        points,
        rms: Some(placed.rms),
    };
    // It must be laid out before it is kept.
    place.extent(&before, &crs)?;
    let text = format!(
        "Placed {} by {} points, root mean square of the residuals {:.1} {}",
        before.name,
        place.points.len(),
        placed.rms,
        if crs.unit_m == 1.0 { "m" } else { crs.unit.as_str() }
    );
    let change = store.change(study).await?;
    let lay = change.place_backdrop(id, Some(Kept::of(&place)?)).await?;
    let line = LogLine::new(Stage::Terrain.title(), text).with(serde_json::to_value(&place)?);
    let undo = Inverse::PlaceBackdrop { id, placing: lay };
    change.commit(Record::log(line).undone_by(format!("{} placed", before.name), undo)).await?;
    Ok(placed)
}

/// Puts a picture back where it lay before, or says that it is not known.
///
/// # Errors
/// Those of the store.
pub(crate) async fn put_backdrop_back(
    change: &Change,
    id: i64,
    before: Option<serde_json::Value>,
) -> Result<()> {
    let place = kept::read_some::<PicturePlace>(&before)?;
    change.place_backdrop(id, place.map(|place| Kept::of(&place)).transpose()?).await?;
    Ok(())
}

/// Removes a picture. It can be undone.
///
/// # Errors
/// [`bothros_store::Error::NotFound`] where it was removed before.
#[boxed]
pub async fn remove_backdrop(store: &Store, study: i64, id: i64) -> Result<()> {
    let change = store.change(study).await?;
    let before = store.backdrop(study, id).await?;
    change.set_backdrop_deleted(id, true).await?;
    let line = LogLine::new(Stage::Terrain.title(), format!("Removed the picture {}", before.name));
    let undo = Inverse::RestoreBackdrop { id };
    let record = Record::log(line.with(before.provenance));
    change.commit(record.undone_by(format!("{} removed", before.name), undo)).await?;
    Ok(())
}

/// A picture north up on the study's ground, as PNG.
///
/// # Errors
/// [`Error::Refused`] where its place is not known.
#[boxed]
pub async fn laid_backdrop(store: &Store, study: i64, id: i64) -> Result<Vec<u8>> {
    let crs = study_crs(store, study).await?;
    let backdrop = store.backdrop(study, id).await?;
    let place = PicturePlace::of(&backdrop)?
        .ok_or_else(|| Error::Refused(format!("place {} by points first", backdrop.name)))?;
    let png = store.backdrop_picture(id).await?;
    blocking(move || {
        let picture = decode_png(&png)?;
        let laid = lay_picture(&picture, place.geo_transform, &Crs::parse(&place.crs)?, &crs)?;
        Ok(encode_png(laid.width, laid.height, &laid.pixels)?)
    })
    .await
}
