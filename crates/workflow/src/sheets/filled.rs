//! Filling the frames of a sheet with what studies hold, and laying the sheet out.

use std::sync::Arc;

use bothros_formats::{Crs, CrsKind, Transform};
use bothros_maps::Maps;
use bothros_products::Units;
use bothros_sheets::{
    BarUnit, Content, Entry, Fit, Frame, GeoReference, Laid, Layer, Part, Picture, Sheet, View, What, Words,
    all_entries, lay,
};
use bothros_store::Store;

use super::compared::is_comparison;
use super::dots::over;
use super::features::threshold_told;
use super::ground::{SERVER, raster};
use super::source::MapSource;
use super::views::{Looking, views};
use crate::{Calibration, Error, Facts, GridCache, LayerCache, Result};

/// Where sheets take what they show from.
#[derive(Clone, Copy)]
pub struct SheetSources<'a> {
    /// the store
    pub store: &'a Store,
    /// grids in memory
    pub grids: &'a GridCache,
    /// layers in memory
    pub layers: &'a LayerCache,
    /// comparisons in memory
    pub calibration: &'a Calibration,
    /// map servers that may be asked; none in jobs
    pub maps: Option<&'a Maps>,
}

/// A frame that is being filled.
#[derive(Clone)]
pub(super) struct Looked {
    pub facts: Arc<Facts>,
    pub view: View,
    pub dpi: f64,
    /// what it draws
    pub layers: Vec<String>,
    /// what labels of streams say, where that is not what the map's style asks for
    pub streams: Option<String>,
}

impl Looked {
    /// The same as finely as lines need it: cells below a quarter of a millimetre are not seen.
    pub fn finely(&self) -> Self {
        Self { dpi: 25.4 / 0.25, ..self.clone() }
    }

    /// What is seen, and how finely.
    pub fn lens(&self) -> Lens {
        Lens { view: self.view, dpi: self.dpi }
    }
}

/// What a picture of a frame shows, and how finely.
#[derive(Debug, Clone, Copy)]
pub(super) struct Lens {
    pub view: View,
    pub dpi: f64,
}

impl Lens {
    /// Dots across and down.
    pub fn dots(&self) -> (usize, usize) {
        let of = |mm: f64| ((mm / 25.4 * self.dpi).round() as usize).max(1);
        (of(self.view.frame.width), of(self.view.frame.height))
    }

    /// Width and height of a dot on the ground, CRS units.
    pub fn step(&self) -> (f64, f64) {
        let [west, south, east, north] = self.view.ground();
        let (width, height) = self.dots();
        ((east - west) / width as f64, (north - south) / height as f64)
    }
}

/// More dots than this in a frame take too much memory.
const MOST_DOTS: f64 = 120e6;

/// The frames of a sheet with the studies that they show, and what of it is gone.
async fn looking<'a>(
    from: &impl MapSource,
    study: i64,
    sheet: &'a Sheet,
) -> Result<(Vec<Looking<'a>>, Vec<String>)> {
    sheet.check()?;
    let own = Arc::new(from.facts(study).await?);
    let (mut all, mut complaints) = (Vec::new(), Vec::new());
    for (part, frame) in sheet.frames() {
        let facts = match frame.shown.study.filter(|id| *id != study) {
            Some(id) => Arc::new(from.facts(id).await.map_err(|_| {
                Error::Refused("a map shows another study that is gone: choose what it shows again".into())
            })?),
            None => Arc::clone(&own),
        };
        let facts = match frame.shown.candidate {
            Some(dem) => Arc::new(from.with_dem(Facts::clone(&facts), dem).await?),
            None => facts,
        };
        if facts.terrain.is_none() {
            return Err(Error::Refused(format!(
                "a DEM of the study “{}” that a map shows is not prepared yet: there is nothing to show",
                facts.name
            )));
        }
        let catchment = match frame.fit {
            Fit::Catchment { point } => from.catchment(facts.study, point).await?,
            _ => None,
        };
        if matches!(frame.fit, Fit::Catchment { .. }) && catchment.is_none() {
            let told =
                "A map is fitted to a catchment that is gone or not delineated: it shows all of the study.";
            complaints.push(told.into());
        }
        all.push(Looking { part, frame, facts, catchment });
    }
    Ok((all, complaints))
}

/// Where the frames of a sheet look, by the numbers of their parts.
///
/// # Errors
/// Those of [`laid`].
pub async fn sheet_views(from: SheetSources<'_>, study: i64, sheet: &Sheet) -> Result<Vec<(u32, View)>> {
    let (all, _) = looking(&from, study, sheet).await?;
    let found = views(sheet, &all)?;
    Ok(all.iter().map(|l| l.part.id).zip(found).collect())
}

/// Lays a sheet of a study out, its pictures drawn at a resolution in dots an inch.
///
/// # Errors
/// [`Error::Refused`] for what it shows and is not there any more; [`Error::Sheets`] for a sheet that cannot be laid out.
pub async fn laid(from: SheetSources<'_>, study: i64, sheet: &Sheet, dpi: f64) -> Result<Laid> {
    laid_from(&from, study, sheet, dpi).await
}

/// Lays a sheet out with what maps are drawn from.
pub(super) async fn laid_from(from: &impl MapSource, study: i64, sheet: &Sheet, dpi: f64) -> Result<Laid> {
    if !(30.0..=1200.0).contains(&dpi) {
        return Err(bothros_sheets::Error::Resolution { dpi }.into());
    }
    let own = from.facts(study).await?;
    let (looking, mut complaints) = looking(from, study, sheet).await?;
    let views = views(sheet, &looking)?;
    let units = units_of(sheet);
    let mut contents = Vec::new();
    for (looking, view) in looking.iter().zip(views) {
        let (content, told) =
            content(from, looking.part, looking.frame, &looking.facts, view, dpi, units).await?;
        contents.push(content);
        complaints.extend(told);
    }
    let words = from.words(&own, sheet, units).await?;
    let mut logos = Vec::new();
    for part in sheet.parts.iter().filter(|part| !part.hidden) {
        if let What::Logo { sha256 } = &part.what {
            match sha256 {
                Some(sha256) => logos.push((part.id, from.logo(study, sha256).await?)),
                None => complaints.push("The logo has no picture yet.".into()),
            }
        }
    }
    let sheet = sheet.clone();
    let mut laid = crate::blocking(move || Ok(lay(&sheet, &contents, &words, &logos)?)).await?;
    laid.complaints.splice(0..0, complaints);
    Ok(laid)
}

/// Resolution at which entries of a key are found: pictures do not matter then.
const COARSE: f64 = 30.0;

/// The entries that the key of a sheet has, hidden ones too, in their order.
///
/// # Errors
/// Those of [`laid`].
pub async fn laid_entries(from: SheetSources<'_>, study: i64, sheet: &Sheet) -> Result<Vec<Entry>> {
    let (looking, _) = looking(&from, study, sheet).await?;
    let views = views(sheet, &looking)?;
    let units = units_of(sheet);
    let mut contents = Vec::new();
    for (looking, view) in looking.iter().zip(views) {
        let told = content(&from, looking.part, looking.frame, &looking.facts, view, COARSE, units).await?;
        contents.push(told.0);
    }
    let key = sheet.parts.iter().find_map(|part| match &part.what {
        What::Key(key) => Some(key.clone()),
        _ => None,
    });
    Ok(key.map_or(Vec::new(), |key| all_entries(&key, &contents)))
}

/// In what heights and lengths are told: as the key says.
fn units_of(sheet: &Sheet) -> Units {
    let unit = sheet.parts.iter().find_map(|part| match &part.what {
        What::Key(key) => Some(key.unit),
        _ => None,
    });
    match unit {
        Some(BarUnit::Customary) => Units::UsCustomary,
        _ => Units::Metric,
    }
}

impl SheetSources<'_> {
    /// What stands for the names in braces.
    pub(super) async fn words_of(&self, facts: &Facts, sheet: &Sheet, units: Units) -> Result<Words> {
        let mut all: Vec<(&'static str, String)> = vec![("study", facts.name.clone())];
        let points = self.store.pour_points(facts.study).await?;
        let fitted = sheet.frames().find_map(|(_, frame)| match (frame.fit, frame.alone) {
            (Fit::Catchment { point }, _) | (_, Some(point)) => Some(point),
            _ => None,
        });
        let of = fitted.and_then(|id| points.iter().find(|p| p.id == id));
        all.push(("catchment", of.map_or(String::new(), |p| p.name.clone())));
        let found = of
            .map(|p| bothros_store::kept::read_some::<crate::CatchmentFacts>(&p.catchment))
            .transpose()?
            .flatten();
        all.push(("area", found.map_or(String::new(), |f| units.area(f.area_km2 * 1e6))));
        let crs = facts.terrain.as_ref().map_or(String::new(), |t| t.crs.label());
        all.push(("crs", crs));
        all.push(("date", bothros_store::now().format("%-d %B %Y").to_string()));
        let threshold = match (&facts.terrain, facts.network) {
            (Some(terrain), Some(n)) => threshold_told(n.threshold, &terrain.frame, units),
            _ => String::new(),
        };
        all.push(("threshold", threshold));
        let mut from = Vec::new();
        if let Some(source) = &facts.source {
            let told = source.provenance.line();
            from.push(format!("Elevations: {}.", if told.is_empty() { source.title() } else { told }));
        }
        for layer in self.store.layers(facts.study).await? {
            let of: crate::Provenance = serde_json::from_value(layer.provenance.clone()).unwrap_or_default();
            let told: Vec<String> = [of.source, of.date].into_iter().filter(|t| !t.is_empty()).collect();
            let shown = sheet.frames().any(|(_, f)| {
                f.shown.layers.iter().any(|l| l == "features" || l == "agreement" || is_comparison(l))
            });
            if shown && !told.is_empty() {
                from.push(format!("{}: {}.", layer.role.title(), told.join(", ")));
            }
        }
        let servers = self.maps.into_iter().flat_map(Maps::servers).enumerate();
        for (at, server) in servers {
            let key = format!("{SERVER}{at}");
            if sheet.frames().any(|(_, f)| f.shown.layers.contains(&key)) {
                from.push(format!("{}: {}.", server.name, server.attribution));
            }
        }
        all.push(("sources", from.join(" ")));
        Ok(Words { all })
    }

    /// A picture that was given for a sheet.
    pub(super) async fn logo_of(&self, study: i64, sha256: &str) -> Result<Picture> {
        let bytes = self.store.sheet_picture(study, sha256).await?;
        crate::blocking(move || super::kept::picture(&bytes)).await
    }
}

/// What a frame shows, and what of it could not be shown.
async fn content(
    from: &impl MapSource,
    part: &Part,
    frame: &Frame,
    facts: &Arc<Facts>,
    view: View,
    dpi: f64,
    units: Units,
) -> Result<(Content, Vec<String>)> {
    let looked = Looked {
        facts: Arc::clone(facts),
        view,
        dpi,
        layers: frame.shown.layers.clone(),
        streams: frame.labels.streams.clone(),
    };
    let (width, height) = looked.lens().dots();
    if (width * height) as f64 > MOST_DOTS {
        return Err(bothros_sheets::Error::TooLarge { dots: (width * height / 1_000_000) as u64 }.into());
    }
    let mut complaints = Vec::new();
    let mut layers: Vec<Layer> = Vec::new();
    let mut entries = Vec::new();
    for key in &frame.shown.layers {
        if let Some(drawn) = raster(from, key, &looked, units).await? {
            // What lies under an opaque hillshade is not seen, and is not told.
            if key == "shade" && drawn.opacity >= 1.0 {
                entries.clear();
            }
            entries.extend(drawn.entries);
            match layers.last_mut() {
                // Pictures that follow one another are one.
                Some(Layer::Picture { picture, opacity }) if *opacity == 1.0 => {
                    over(picture, &drawn.picture, drawn.opacity);
                }
                _ => layers.push(Layer::Picture { picture: drawn.picture, opacity: drawn.opacity }),
            }
            continue;
        }
        if key.starts_with(SERVER) {
            let told = "The picture of a map server is left out: it does not answer, or is not asked, as in atlases and packages.";
            complaints.push(told.into());
            continue;
        }
        let found = from.features(key, frame.shown.trial, &looked, units).await?;
        layers.extend(found.layers);
        entries.extend(found.entries);
    }
    if layers.is_empty() {
        complaints.push("A map shows nothing: choose layers for it.".into());
    }
    let terrain = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
    let [west, south, east, north] = terrain.frame.extent();
    let [w, s, e, n] = view.ground();
    if w >= east || e <= west || s >= north || n <= south {
        complaints.push(
            "A map looks at a place outside the DEM: fit it to the study, or type another place.".into(),
        );
    }
    let mask = match frame.alone {
        Some(point) => {
            let rings = from.catchment(facts.study, point).await?;
            if rings.is_none() {
                complaints.push(
                    "A map is to show a catchment alone that is gone: it shows all of the land.".into(),
                );
            }
            rings
        }
        None => None,
    };
    let crs = &terrain.crs;
    let unit = match crs.unit.as_str() {
        "metre" | "meter" => "m",
        _ => "ft",
    };
    let told = format!(
        "Map of {}: {}",
        facts.name,
        if frame.shown.layers.is_empty() { "nothing".into() } else { frame.shown.layers.join(", ") }
    );
    let content = Content {
        frame: part.id,
        view,
        layers,
        mask,
        entries: if frame.locates.is_some() { Vec::new() } else { entries },
        north: grid_north(crs, &view),
        unit,
        geo: geo_reference(crs, &view),
        told,
    };
    Ok((content, complaints))
}

/// The north of the grid in the middle of a view, degrees clockwise from true north; none where it cannot be told.
fn grid_north(crs: &Crs, view: &View) -> Option<f64> {
    let to = Transform::to_wgs84(crs).ok()?;
    // A hundred metres north on the grid.
    let up = 100.0 / view.unit_m;
    let (lon, lat) = to.point(view.x, view.y).ok()?;
    let (lon_up, lat_up) = to.point(view.x, view.y + up).ok()?;
    let east = (lon_up - lon) * lat.to_radians().cos();
    Some(east.atan2(lat_up - lat).to_degrees())
}

/// Where the corners of a view lie on the earth; none where that cannot be told.
fn geo_reference(crs: &Crs, view: &View) -> Option<GeoReference> {
    let base = crs.geographic_base().ok()?;
    let to = Transform::new(crs, &base).ok()?;
    let [west, south, east, north] = view.ground();
    let corner = |x: f64, y: f64| to.point(x, y).ok().map(|(lon, lat)| [lat, lon]);
    Some(GeoReference {
        epsg: crs.epsg,
        wkt: crs.wkt1().ok()?,
        geographic: crs.kind == CrsKind::Geographic,
        corners: [corner(west, south)?, corner(west, north)?, corner(east, north)?, corner(east, south)?],
    })
}
