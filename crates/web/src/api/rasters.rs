//! The rasters of a study as cloud-optimised GeoTIFF that answer range requests: a GIS reads a window without the rest.

use std::path::PathBuf;
use std::sync::Arc;

use axum::extract::{Path, Request, State};
use axum::response::{IntoResponse, Response};
use bothros_formats::Crs;
use bothros_products::{FLOW_ACCUMULATION, FLOW_DIRECTION, GROUND, PREPARED, STREAM_PROBABILITY};
use bothros_store::{RasterMeta, RasterRole};
use bothros_workflow::{Facts, uncertainty_key};
use tower_http::services::ServeFile;

use super::answer::{Fault, short};
use crate::App;

/// A raster that a GIS can read parts of.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Offered {
    /// name in addresses
    pub name: &'static str,
    /// what its values are
    pub meaning: &'static str,
    /// unit of its values
    pub unit: &'static str,
    /// type of its cells
    pub cells: &'static str,
    role: RasterRole,
}

/// The rasters.
pub const OFFERED: [Offered; 5] = [
    Offered {
        name: PREPARED.name,
        meaning: PREPARED.meaning,
        unit: PREPARED.unit,
        cells: "float32",
        role: RasterRole::Dem,
    },
    Offered {
        name: GROUND.name,
        meaning: GROUND.meaning,
        unit: GROUND.unit,
        cells: "float32",
        role: RasterRole::Filled,
    },
    Offered {
        name: FLOW_DIRECTION.name,
        meaning: FLOW_DIRECTION.meaning,
        unit: FLOW_DIRECTION.unit,
        cells: "uint8",
        role: RasterRole::Direction,
    },
    Offered {
        name: FLOW_ACCUMULATION.name,
        meaning: FLOW_ACCUMULATION.meaning,
        unit: FLOW_ACCUMULATION.unit,
        cells: "uint32",
        role: RasterRole::Accumulation,
    },
    Offered {
        name: STREAM_PROBABILITY.name,
        meaning: STREAM_PROBABILITY.meaning,
        unit: STREAM_PROBABILITY.unit,
        cells: "float32",
        role: RasterRole::StreamProbability,
    },
];

/// A file in a directory of its own, which goes with it.
#[derive(Debug)]
pub struct Cog {
    path: PathBuf,
    bytes: u64,
    _dir: tempfile::TempDir,
}

/// Room for files, bytes.
const ROOM: u64 = 4 << 30;

/// Files that were read last, by the number of the raster; another raster has another number.
#[derive(Clone)]
pub struct Cogs(moka::future::Cache<i64, Arc<Cog>>);

impl Default for Cogs {
    fn default() -> Self {
        let weigh = |_: &i64, cog: &Arc<Cog>| u32::try_from(cog.bytes >> 10).unwrap_or(u32::MAX);
        Self(moka::future::Cache::builder().weigher(weigh).max_capacity(ROOM >> 10).build())
    }
}

/// Writes a raster to a file of its own.
async fn write(app: &App, facts: &Facts, of: &Offered, meta: &RasterMeta) -> Result<Arc<Cog>, Fault> {
    let terrain = facts.terrain.as_ref().ok_or_else(|| Fault::nothing("the DEM is not prepared yet"))?;
    let (crs, frame): (Crs, _) = (terrain.crs.clone(), terrain.frame);
    let dir = tempfile::tempdir()?;
    let path = dir.path().join(format!("{}.tif", of.name));
    let target = path.clone();
    macro_rules! write {
        ($cell:ty, $product:expr) => {{
            let values = app.store.read_raster::<$cell>(meta).await?;
            bothros_workflow::blocking(move || Ok($product.write(&target, &values, &frame, &crs)?)).await?
        }};
    }
    match of.role {
        RasterRole::Direction => write!(u8, FLOW_DIRECTION),
        RasterRole::Accumulation => write!(u32, FLOW_ACCUMULATION),
        RasterRole::Dem => write!(f32, PREPARED),
        RasterRole::StreamProbability => write!(f32, STREAM_PROBABILITY),
        _ => write!(f32, GROUND),
    }
    let bytes = std::fs::metadata(&path)?.len();
    Ok(Arc::new(Cog { path, bytes, _dir: dir }))
}

/// The raster of a study by its name, where it has it; probabilities while they are up to date.
pub async fn meta_of(app: &App, study: i64, of: &Offered) -> Result<Option<RasterMeta>, Fault> {
    let meta = app.store.raster(study, of.role).await?;
    if of.role == RasterRole::StreamProbability && meta.is_some() {
        let facts = app.facts(study).await?;
        let key = uncertainty_key(&app.store, &facts).await?;
        return Ok(meta.filter(|_| facts.uncertainty.as_ref().is_some_and(|found| found.key == key)));
    }
    Ok(meta)
}

/// A raster, whole or in part.
pub async fn raster(
    State(app): State<App>,
    Path((study, file)): Path<(i64, String)>,
    request: Request,
) -> Result<Response, Fault> {
    let of = OFFERED.iter().find(|of| file.strip_suffix(".tif") == Some(of.name));
    let of = of.ok_or_else(|| Fault::nothing(format!("there is no raster {}", short(&file))))?;
    let facts = app.facts(study).await?;
    let meta = meta_of(&app, study, of).await?;
    let meta = meta.ok_or_else(|| Fault::nothing(format!("{} is not computed yet", of.name)))?;
    // Many parts are asked for at once; the file is written once.
    let made = app.cogs.0.try_get_with(meta.id, Box::pin(write(&app, &facts, of, &meta))).await;
    let cog = made.map_err(|fault| Fault { status: fault.status, message: fault.message.clone() })?;
    let mut answer = ServeFile::new(&cog.path).try_call(request).await?.into_response();
    // A file of another raster would not fit to what the client has.
    if let Ok(tag) = format!("\"{}\"", meta.id).parse() {
        answer.headers_mut().insert(axum::http::header::ETAG, tag);
    }
    Ok(answer)
}
