//! A small elevation archive that stands in for a real one: made-up ground, real standards.

use std::future::Future;
use std::path::PathBuf;
use std::sync::Arc;

use axum::extract::{Path, Query, Request, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use serde::Deserialize;
use serde_json::{Value, json};
use tokio::net::TcpListener;
use tokio::sync::OnceCell;
use tower_http::services::ServeFile;

use crate::offer::meet;
use crate::{Extent, boxed};

/// What the archive has of one kind.
#[derive(Debug, Clone)]
pub struct StandInCollection {
    /// name in the archive
    pub id: String,
    /// name for people
    pub title: String,
    /// what it is
    pub description: String,
    /// distance between cells on the ground, metres
    pub resolution_m: f64,
    /// its files
    pub items: Vec<StandInItem>,
}

/// A file of the archive.
#[derive(Debug, Clone)]
pub struct StandInItem {
    /// name in the archive
    pub id: String,
    /// when the made-up survey took place, RFC 3339
    pub date: String,
    /// the cloud-optimised GeoTIFF on disk
    pub path: PathBuf,
    /// what it covers
    pub extent: Extent,
    /// rows and columns
    pub shape: [usize; 2],
    /// left, width of a cell, rotation, top, rotation, height of a cell (negative)
    pub geo_transform: [f64; 6],
    /// EPSG code of its CRS
    pub epsg: u32,
}

/// Makes the files and tells what they are.
pub type Preparing = Arc<dyn Fn() -> Result<Vec<StandInCollection>, String> + Send + Sync>;

/// A small elevation archive, which makes its files when they are first asked for.
#[derive(Clone)]
pub struct StandIn {
    /// where it answers
    root: String,
    prepare: Preparing,
    content: Arc<OnceCell<Vec<StandInCollection>>>,
}

type Answer = Result<Json<Value>, (StatusCode, String)>;

fn nothing(what: &str) -> (StatusCode, String) {
    (StatusCode::NOT_FOUND, format!("there is no such {what}"))
}

impl StandIn {
    /// An archive that answers at `root` with the files that `prepare` makes.
    pub fn new(root: &str, prepare: Preparing) -> Self {
        Self { root: root.trim_end_matches('/').into(), prepare, content: Arc::default() }
    }

    /// Serves requests on `listener` until `stop` completes.
    ///
    /// # Errors
    /// Those of the listener.
    pub async fn serve(
        self,
        listener: TcpListener,
        stop: impl Future<Output = ()> + Send + 'static,
    ) -> std::io::Result<()> {
        tokio::select! {
            ended = self.answer(listener) => ended,
            () = stop => Ok(()),
        }
    }

    #[boxed]
    async fn answer(self, listener: TcpListener) -> std::io::Result<()> {
        let router = Router::new()
            .route("/", get(landing))
            .route("/conformance", get(conformance))
            .route("/collections", get(collections))
            .route("/collections/{collection}", get(collection))
            .route("/collections/{collection}/items/{item}", get(item))
            .route("/search", get(search))
            .route("/files/{collection}/{item}", get(file))
            .with_state(self);
        axum::serve(listener, router).await
    }

    async fn content(&self) -> Result<&[StandInCollection], (StatusCode, String)> {
        // By itself, so that it goes on when whoever asked first goes away.
        let (content, prepare) = (self.content.clone(), self.prepare.clone());
        let making = tokio::spawn(async move {
            let make = || async {
                let made = tokio::task::spawn_blocking(move || prepare()).await;
                made.map_err(|e| e.to_string()).and_then(|made| made)
            };
            content.get_or_try_init(make).await.map(|_| ())
        });
        let made = making.await.map_err(|e| e.to_string()).and_then(|made| made);
        let none = || "the simulated archive has no files".to_owned();
        made.and_then(|()| self.content.get().map(Vec::as_slice).ok_or_else(none)).map_err(|why| {
            tracing::warn!(why, "the simulated archive could not make its files");
            (StatusCode::INTERNAL_SERVER_ERROR, why)
        })
    }

    fn link(&self, rel: &str, path: &str, kind: &str) -> Value {
        json!({ "rel": rel, "href": format!("{}{path}", self.root), "type": kind })
    }

    fn collection(&self, c: &StandInCollection) -> Value {
        let all = c.items.iter().map(|i| i.extent);
        let whole = all.reduce(|a, b| [a[0].min(b[0]), a[1].min(b[1]), a[2].max(b[2]), a[3].max(b[3])]);
        let dates: Vec<&str> = c.items.iter().map(|i| i.date.as_str()).collect();
        json!({
            "type": "Collection", "stac_version": "1.0.0", "id": c.id, "title": c.title,
            "description": c.description, "license": "CC0-1.0",
            "providers": [{ "name": "Sorrel Survey (made up)", "roles": ["producer", "host"] }],
            "extent": {
                "spatial": { "bbox": [whole.unwrap_or_default()] },
                "temporal": { "interval": [[dates.iter().min(), dates.iter().max()]] },
            },
            "summaries": { "gsd": [c.resolution_m] },
            "links": [
                self.link("root", "/", "application/json"), self.link("parent", "/", "application/json"),
                self.link("self", &format!("/collections/{}", c.id), "application/json"),
                self.link("items", &format!("/search?collections={}", c.id), "application/geo+json"),
            ],
        })
    }

    fn item(&self, c: &StandInCollection, i: &StandInItem) -> Value {
        let [west, south, east, north] = i.extent;
        let ring = [[west, south], [east, south], [east, north], [west, north], [west, south]];
        let [left, width, x_turn, top, y_turn, height] = i.geo_transform;
        json!({
            "type": "Feature", "stac_version": "1.0.0",
            "stac_extensions": [
                "https://stac-extensions.github.io/projection/v1.1.0/schema.json",
                "https://stac-extensions.github.io/raster/v1.1.0/schema.json",
            ],
            "id": i.id, "collection": c.id, "bbox": i.extent,
            "geometry": { "type": "Polygon", "coordinates": [ring] },
            "properties": {
                "datetime": i.date, "gsd": c.resolution_m, "proj:epsg": i.epsg, "proj:shape": i.shape,
                "proj:transform": [width, x_turn, left, y_turn, height, top],
            },
            "links": [
                self.link("root", "/", "application/json"),
                self.link("self", &format!("/collections/{}/items/{}", c.id, i.id), "application/geo+json"),
                self.link("collection", &format!("/collections/{}", c.id), "application/json"),
            ],
            "assets": { "elevation": {
                "href": format!("{}/files/{}/{}.tif", self.root, c.id, i.id), "title": "Ground elevation",
                "type": "image/tiff; application=geotiff; profile=cloud-optimized", "roles": ["data"],
                "raster:bands": [{ "data_type": "float32", "unit": "metre", "spatial_resolution": width }],
            } },
        })
    }
}

async fn landing(State(archive): State<StandIn>) -> Json<Value> {
    Json(json!({
        "type": "Catalog", "stac_version": "1.0.0", "id": "simulated", "title": "Simulated elevation archive",
        "description": "Elevations of made-up ground, for trying out.",
        "conformsTo": CONFORMS,
        "links": [
            archive.link("root", "/", "application/json"), archive.link("self", "/", "application/json"),
            archive.link("conformance", "/conformance", "application/json"),
            archive.link("data", "/collections", "application/json"),
            archive.link("search", "/search", "application/geo+json"),
        ],
    }))
}

/// Conformance classes of STAC API 1.0.0 that are supported.
const CONFORMS: [&str; 3] = [
    "https://api.stacspec.org/v1.0.0/core",
    "https://api.stacspec.org/v1.0.0/collections",
    "https://api.stacspec.org/v1.0.0/item-search",
];

async fn conformance() -> Json<Value> {
    Json(json!({ "conformsTo": CONFORMS }))
}

async fn collections(State(archive): State<StandIn>) -> Answer {
    let all: Vec<Value> = archive.content().await?.iter().map(|c| archive.collection(c)).collect();
    let links = [
        archive.link("root", "/", "application/json"),
        archive.link("self", "/collections", "application/json"),
    ];
    Ok(Json(json!({ "collections": all, "links": links })))
}

fn found<'a>(all: &'a [StandInCollection], id: &str) -> Result<&'a StandInCollection, (StatusCode, String)> {
    all.iter().find(|c| c.id == id).ok_or_else(|| nothing("collection"))
}

async fn collection(State(archive): State<StandIn>, Path(id): Path<String>) -> Answer {
    let all = archive.content().await?;
    Ok(Json(archive.collection(found(all, &id)?)))
}

async fn item(State(archive): State<StandIn>, Path((id, item)): Path<(String, String)>) -> Answer {
    let one = found(archive.content().await?, &id)?;
    let item = one.items.iter().find(|i| i.id == item).ok_or_else(|| nothing("item"))?;
    Ok(Json(archive.item(one, item)))
}

/// The supported parameters of STAC API Item Search; `from` is our own, in links to next pages.
#[derive(Deserialize)]
struct Asked {
    collections: Option<String>,
    bbox: Option<String>,
    limit: Option<usize>,
    from: Option<usize>,
}

async fn search(State(archive): State<StandIn>, Query(asked): Query<Asked>) -> Answer {
    let wrong = |what: &str| (StatusCode::BAD_REQUEST, what.to_owned());
    let bbox = match &asked.bbox {
        None => None,
        Some(text) => {
            let sides: Vec<f64> = text.split(',').filter_map(|t| t.trim().parse().ok()).collect();
            let &[west, south, east, north] = sides.as_slice() else {
                return Err(wrong("bbox must be four numbers: west,south,east,north"));
            };
            Some([west, south, east, north])
        }
    };
    let wanted: Option<Vec<&str>> = asked.collections.as_ref().map(|c| c.split(',').collect());
    let limit = asked.limit.unwrap_or(10);
    if !(1..=10_000).contains(&limit) {
        return Err(wrong("limit must be between 1 and 10000"));
    }
    let mut all = Vec::new();
    for c in archive.content().await? {
        if wanted.as_ref().is_some_and(|w| !w.contains(&c.id.as_str())) {
            continue;
        }
        let here = c.items.iter().filter(|i| bbox.is_none_or(|b| meet(&i.extent, &b)));
        all.extend(here.map(|i| archive.item(c, i)));
    }
    let from = asked.from.unwrap_or(0).min(all.len());
    let to = (from + limit).min(all.len());
    let mut links = vec![archive.link("root", "/", "application/json")];
    if to < all.len() {
        let mut next = format!("/search?limit={limit}&from={to}");
        for (key, value) in [("collections", &asked.collections), ("bbox", &asked.bbox)] {
            if let Some(value) = value {
                next += &format!("&{key}={value}");
            }
        }
        links.push(archive.link("next", &next, "application/geo+json"));
    }
    Ok(Json(json!({
        "type": "FeatureCollection", "features": all[from..to], "links": links,
        "numberMatched": all.len(), "numberReturned": to - from,
    })))
}

/// A file, or the part of it that is asked for.
async fn file(
    State(archive): State<StandIn>,
    Path((id, item)): Path<(String, String)>,
    request: Request,
) -> Result<Response, (StatusCode, String)> {
    let one = found(archive.content().await?, &id)?;
    let item = one.items.iter().find(|i| format!("{}.tif", i.id) == item).ok_or_else(|| nothing("file"))?;
    // Only what is listed is given, wherever a path seems to lead.
    match ServeFile::new(&item.path).try_call(request).await {
        Ok(answer) => Ok(answer.into_response()),
        Err(error) => Err((StatusCode::INTERNAL_SERVER_ERROR, error.to_string())),
    }
}
