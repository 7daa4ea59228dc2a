//! Elevations from an archive: looked for around a boundary, fetched, read as if they had been given.

use std::path::{Path, PathBuf};
use std::time::Instant;

use bothros_archive::{Archive, Collection, Extent, Offer};
use bothros_core::conditioning::Polygons;
use bothros_core::{Monitor, Part, Quiet};
use bothros_formats::{Crs, CrsKind, Transform, fetch_part, utm_zone};
use bothros_store::{
    Job, JobHandle, JobKind, Kept, LayerRole, LogLine, Record, Store, Study, StudyPart, kept,
};
use futures::StreamExt;
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json, json};

use crate::terrain::import::{put_files, read_in, source_of};
use crate::terrain::sources::source_in;
use crate::{
    Clip, Error, Facts, GridCache, NewDemFile, NewLayer, NewStudy, Preparing, Provenance, Result, Stage,
    TerrainFacts, add_layer, blocking, boxed,
};

/// More cells than that are not fetched at once.
const MOST_CELLS: f64 = 1e9;
/// Files that are fetched at once: an archive far away is waited for.
const AT_ONCE: usize = 4;
/// Metres to a degree of latitude: 6,371 km x pi / 180.
const METRES_A_DEGREE: f64 = 111_195.0;
/// Larger margins are rejected as typing errors.
const WIDEST_MARGIN_M: f64 = 200_000.0;

/// The outline of what a study is about.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Boundary {
    /// its name: that of a file, or what was drawn
    pub name: String,
    /// polygons in longitude and latitude (WGS 84)
    pub polygons: Polygons,
}

impl Boundary {
    /// The box around it and its margin.
    ///
    /// # Errors
    /// [`Error::Refused`] if the outline or the margin is invalid.
    pub fn extent(&self, margin_m: f64) -> Result<Extent> {
        let [mut west, mut south, mut east, mut north] =
            [f64::INFINITY, f64::INFINITY, f64::NEG_INFINITY, f64::NEG_INFINITY];
        for &[x, y] in self.polygons.iter().flatten().flatten() {
            (west, east) = (west.min(x), east.max(x));
            (south, north) = (south.min(y), north.max(y));
        }
        if !(west < east && south < north) {
            return Err(Error::Refused(
                "the boundary has no area: draw it, or choose a file of polygons".into(),
            ));
        }
        if west < -180.0 || east > 180.0 || south < -85.0 || north > 85.0 {
            return Err(Error::Refused(
                "the boundary must lie between 85° S and 85° N, in degrees: check the CRS of its file".into(),
            ));
        }
        if !(0.0..=WIDEST_MARGIN_M).contains(&margin_m) {
            return Err(Error::Refused(format!(
                "the margin must be between 0 and {:.0} km",
                WIDEST_MARGIN_M / 1000.0
            )));
        }
        // A little more, so that values between cells are known right up to the edge.
        let dy = (margin_m * 1.02 + 100.0) / METRES_A_DEGREE;
        let dx = dy / north.abs().max(south.abs()).to_radians().cos();
        Ok([west - dx, south - dy, east + dx, north + dy])
    }
}

/// What is to be fetched.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Fetch {
    /// address of the archive
    pub archive: String,
    /// which of its collections
    pub collection: Collection,
    /// around what
    pub boundary: Boundary,
    /// margin around it, metres
    pub margin_m: f64,
    /// whether the DEM at work is parked for it; otherwise the study has none yet
    pub candidate: bool,
}

/// What an archive has for a wish.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct FetchPlan {
    /// the files
    pub offers: Vec<Offer>,
    /// the box that is fetched
    pub extent: Extent,
    /// cells in it, about; `None` where the archive does not tell
    pub cells: Option<f64>,
    /// share of the box that the files cover, 0 to 1
    pub covered: f64,
}

/// The share of a box that others cover, from points spread over it.
fn covered(extent: &Extent, by: &[Offer]) -> f64 {
    const ALONG: usize = 64;
    let mut inside = 0;
    for row in 0..ALONG {
        for col in 0..ALONG {
            let at = |from: f64, to: f64, n: usize| from + (to - from) * (n as f64 + 0.5) / ALONG as f64;
            let (x, y) = (at(extent[0], extent[2], col), at(extent[1], extent[3], row));
            inside += usize::from(
                by.iter()
                    .any(|o| x >= o.extent[0] && x <= o.extent[2] && y >= o.extent[1] && y <= o.extent[3]),
            );
        }
    }
    inside as f64 / (ALONG * ALONG) as f64
}

/// Searches the archive.
///
/// # Errors
/// [`Error::Archive`]; [`Error::Refused`] if it has nothing there, or more than can be handled.
#[boxed]
pub async fn plan_fetch(wish: &Fetch) -> Result<FetchPlan> {
    let extent = wish.boundary.extent(wish.margin_m)?;
    let archive = Archive::new(&wish.archive)?;
    let offers = archive.search(&wish.collection.id, extent).await?;
    if offers.is_empty() {
        return Err(Error::Refused(format!(
            "{} has no elevations there: choose another set, or another place",
            wish.collection.title
        )));
    }
    let cells: Option<f64> = offers.iter().map(|o| o.cells_within(&extent)).sum();
    if cells.is_some_and(|cells| cells > MOST_CELLS) {
        return Err(Error::Refused(format!(
            "that would be {:.1} billion cells: choose a smaller area, or a coarser set",
            cells.unwrap_or_default() / 1e9
        )));
    }
    let covered = covered(&extent, &offers);
    Ok(FetchPlan { offers, extent, cells, covered })
}

/// Makes a study around a boundary, and asks for its elevations to be fetched.
///
/// # Errors
/// Those of [`plan_fetch`]; then no study is made.
#[boxed]
pub async fn begin_from_boundary(
    store: &Store,
    name: &str,
    description: &str,
    wish: &Fetch,
) -> Result<(Study, Job)> {
    plan_fetch(wish).await?;
    let change = store.create_study(name, description, None).await?;
    let study = change.study().clone();
    let job = change.commit(Record::job(JobKind::Fetch, Kept::of(wish)?)).await?;
    Ok((study, job.ok_or(bothros_store::Error::NotFound("job"))?))
}

/// Asks for another DEM of the study's area.
///
/// # Errors
/// Those of [`plan_fetch`]; [`Error::Refused`] for a study without a DEM.
#[boxed]
pub async fn fetch_candidate(
    store: &Store,
    study: i64,
    archive: &str,
    collection: Collection,
    margin_m: f64,
) -> Result<Job> {
    let facts = Facts::of(&store.study(study).await?)?;
    let terrain = facts.terrain.ok_or_else(|| Error::Refused("prepare the DEM at work first".into()))?;
    let ring = outline(&terrain)?;
    let boundary = Boundary { name: "the extent of the DEM before".into(), polygons: vec![vec![ring]] };
    let wish = Fetch { archive: archive.into(), collection, boundary, margin_m, candidate: true };
    plan_fetch(&wish).await?;
    Ok(store.enqueue(study, JobKind::Fetch, Kept::of(&wish)?).await?)
}

/// The outline of a DEM in longitude and latitude.
fn outline(terrain: &TerrainFacts) -> Result<Vec<[f64; 2]>> {
    let [west, south, east, north] = terrain.frame.extent();
    let to_wgs84 = Transform::to_wgs84(&terrain.crs)?;
    let corners = [[west, south], [east, south], [east, north], [west, north], [west, south]];
    let point = |[x, y]: [f64; 2]| to_wgs84.point(x, y).map(|(lon, lat)| [lon, lat]);
    Ok(corners.into_iter().map(point).collect::<std::result::Result<_, _>>()?)
}

/// Asks once more for what could not be fetched, at the address where the archive is now.
///
/// # Errors
/// [`Error::Refused`] where the study's last job was none of these.
#[boxed]
pub async fn fetch_again(store: &Store, study: i64, archive: &str) -> Result<Job> {
    let last = store.last_job(study).await?.filter(|j| j.kind == JobKind::Fetch.name() && !j.is_active());
    let last = last.ok_or_else(|| Error::Refused("nothing was left unfetched".into()))?;
    // The simulated archive, and a real one that has moved, answer elsewhere than before.
    let wish = Fetch { archive: archive.into(), ..kept::read(last.parameters)? };
    Ok(store.enqueue(study, JobKind::Fetch, Kept::of(&wish)?).await?)
}

pub(crate) async fn run(
    store: &Store,
    grids: &GridCache,
    study: i64,
    request: &Json,
    handle: &JobHandle,
) -> Result<String> {
    let begun = Instant::now();
    let wish: Fetch = kept::read(request.clone())?;
    handle.say("asking the archive");
    let plan = plan_fetch(&wish).await?;
    let dir = tempfile::tempdir()?;
    let files = fetch_all(&plan, dir.path(), handle).await?;
    let provenance = |offer: &Offer| Provenance {
        source: format!("{}, {} ({})", wish.collection.source, wish.collection.title, offer.address),
        date: offer.date.clone(),
        scale: wish.collection.resolution_m.map(|m| format!("{m} m")).unwrap_or_default(),
        licence: wish.collection.licence.clone(),
        datum: String::new(),
    };
    let Some(((first, offer), rest)) = files.split_first() else {
        return Err(Error::Refused(format!("{} has no elevations there", wish.collection.title)));
    };
    let new = NewStudy {
        name: "",
        description: "",
        file: &first.file,
        path: &first.path,
        projection: None,
        more: rest.iter().map(|(file, _)| file.clone()).collect(),
        provenance: provenance(offer),
    };
    let mut source = source_of(&new).await?;
    for (file, (_, offer)) in source.more.iter_mut().zip(rest) {
        file.provenance = provenance(offer);
    }
    if source.band.is_none() {
        return Err(Error::Refused(format!(
            "{} has {} bands; elevations have one: choose another set",
            first.file,
            source.info.bands.len()
        )));
    }
    // In degrees nothing can be computed, so the CRS of the place is taken; it can be changed afterwards.
    let crs = match &source.crs {
        Some(crs) if crs.kind == CrsKind::Projected => None,
        _ => {
            let [west, south, east, north] = wish.boundary.extent(0.0)?;
            utm_zone((west + east) / 2.0, (south + north) / 2.0)?.epsg.map(|code| format!("EPSG:{code}"))
        }
    };
    let clip = Clip {
        name: wish.boundary.name.clone(),
        polygons: wish.boundary.polygons.clone(),
        crs: Crs::parse("EPSG:4326")?.wkt,
        margin_m: wish.margin_m,
    };
    let how = Preparing { crs, clip: (!wish.candidate).then_some(clip), ..Default::default() };
    let text = format!(
        "Fetched {} file{} of {} from the elevation archive at {}",
        files.len(),
        if files.len() == 1 { "" } else { "s" },
        wish.collection.title,
        Archive::new(&wish.archive)?.host()
    );
    let settings = json!({ "archive": wish.archive, "collection": wish.collection.id, "margin_m": wish.margin_m,
        "files": plan.offers.iter().map(|o| &o.address).collect::<Vec<_>>(), "boundary": wish.boundary.name });
    let change = store.change(study).await?;
    if wish.candidate {
        let now = source_in(&change)?.title();
        change.begin_candidate(&now, Kept::of(&source)?).await?;
    } else {
        change.set(vec![(StudyPart::Source, Some(Kept::of(&source)?))]).await?;
    }
    put_files(&change, &new).await?;
    let line = LogLine::new(Stage::Terrain.title(), text.clone()).with(settings).taking(begun.elapsed());
    change.commit(Record::log(line)).await?;
    let read = read_in((store, grids), study, how, &handle.part(0.5, 1.0)).await?;
    if !wish.candidate {
        keep_boundary(store, study, &wish.boundary).await?;
    }
    Ok(format!("{text}. {read}"))
}

/// Fetches what is offered into a directory, some files at once; files that turn out to hold nothing there are left out.
async fn fetch_all<'a>(
    plan: &'a FetchPlan,
    dir: &Path,
    handle: &JobHandle,
) -> Result<Vec<(NewDemFile, &'a Offer)>> {
    let count = plan.offers.len();
    let mut fetching = Vec::new();
    for (number, offer) in plan.offers.iter().enumerate() {
        let say = format!("fetching {} ({} of {count})", offer.id, number + 1);
        // What the archive calls a file never becomes a path.
        let path = dir.join(format!("{number}.tif"));
        fetching.push(fetch_one(say, offer.clone(), plan.extent, path, count == 1, handle.clone()));
    }
    let mut arriving = futures::stream::iter(fetching)
        .buffered(AT_ONCE)
        .zip(futures::stream::iter(&plan.offers))
        .enumerate();
    let mut files = Vec::new();
    while let Some((number, (got, offer))) = arriving.next().await {
        files.extend(got?.map(|file| (file, offer)));
        handle.progress(0.5 * (number + 1) as f64 / count as f64);
    }
    Ok(files)
}

/// Fetches a file; nothing where it holds nothing within the extent. Of one that is `alone` progress is told, of several each is a
/// step.
async fn fetch_one(
    say: String,
    offer: Offer,
    extent: Extent,
    path: PathBuf,
    alone: bool,
    handle: JobHandle,
) -> Result<Option<NewDemFile>> {
    if handle.is_cancelled() {
        return Err(bothros_core::Error::Cancelled.into());
    }
    handle.say(&say);
    blocking(move || {
        let name = file_name(&offer.id);
        let (part, quiet) = (Part::new(&handle, 0.0, 0.5), Quiet(&handle));
        let monitor: &dyn Monitor = if alone { &part } else { &quiet };
        let got = fetch_part(&offer.address, &name, extent, &path, monitor)?;
        Ok(got.map(|_| NewDemFile { file: name, path }))
    })
    .await
}

/// A name for a file as people see it.
fn file_name(id: &str) -> String {
    let plain = |c: char| if c.is_alphanumeric() || "._-".contains(c) { c } else { '_' };
    format!("{}.tif", id.chars().map(plain).take(80).collect::<String>())
}

/// The boundary stays with the study as a layer.
async fn keep_boundary(store: &Store, study: i64, boundary: &Boundary) -> Result<()> {
    let dir = tempfile::tempdir()?;
    let path = dir.path().join("boundary.geojson");
    let shape = json!({ "type": "MultiPolygon", "coordinates": boundary.polygons });
    let features = json!([{ "type": "Feature", "properties": { "name": boundary.name }, "geometry": shape }]);
    std::fs::write(&path, json!({ "type": "FeatureCollection", "features": features }).to_string())?;
    let new = NewLayer {
        role: LayerRole::Boundaries,
        file: format!("{}.geojson", boundary.name),
        path,
        layer: None,
        crs: None,
        source: "what the study was begun with".into(),
        date: String::new(),
        scale: String::new(),
        licence: String::new(),
    };
    add_layer(store, study, new).await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn square(west: f64, south: f64, side: f64) -> Boundary {
        let (east, north) = (west + side, south + side);
        let ring = vec![[west, south], [east, south], [east, north], [west, north], [west, south]];
        Boundary { name: "square".into(), polygons: vec![vec![ring]] }
    }

    #[test]
    fn a_margin_is_as_wide_east_as_north() {
        let [west, south, east, north] = square(-17.0, 60.0, 0.1).extent(5000.0).unwrap();
        let up = (north - 60.1) * METRES_A_DEGREE;
        let right = (east + 16.9) * METRES_A_DEGREE * (60.1f64).to_radians().cos();
        assert!((up - right).abs() < 1.0 && up > 5000.0 && up < 5300.0, "{up} {right}");
        assert!(west < -17.0 && south < 60.0);
    }

    #[test]
    fn boundaries_of_no_use_are_refused() {
        for (boundary, margin) in [
            (square(0.0, 0.0, 0.0), 0.0),
            (square(500_000.0, 4_000_000.0, 100.0), 0.0),
            (square(0.0, 0.0, 1.0), -1.0),
            (square(0.0, 0.0, 1.0), f64::NAN),
        ] {
            assert!(boundary.extent(margin).is_err(), "{boundary:?} {margin}");
        }
    }

    #[test]
    fn cover_is_a_share() {
        let offer = |extent: Extent| Offer {
            id: String::new(),
            date: String::new(),
            extent,
            address: String::new(),
            shape: None,
            crs: None,
        };
        let left = offer([0.0, 0.0, 1.0, 2.0]);
        assert!((covered(&[0.0, 0.0, 2.0, 2.0], std::slice::from_ref(&left)) - 0.5).abs() < 0.02);
        assert_eq!(covered(&[0.0, 0.0, 2.0, 2.0], &[left, offer([0.5, -1.0, 3.0, 3.0])]), 1.0);
    }
}
