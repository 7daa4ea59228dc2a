//! The studies as a STAC catalogue (STAC 1.0.0, STAC API 1.0.0): a collection and an item each, whose assets are its rasters.

use axum::extract::{Path, Query, State};
use bothros_formats::Transform;
use bothros_store::Study;
use bothros_workflow::Facts;
use serde::Deserialize;
use serde_json::{Value, json};

use super::answer::{Answered, Base, Fault, GEOJSON, JSON, json as answer_json, link, short};
use super::collections::converted;
use super::items::boxes;
use super::rasters::{OFFERED, meta_of};
use super::shapes::{Bounds, near};
use crate::App;

/// Conformance classes of STAC API 1.0.0.
const CONFORMS: [&str; 4] = [
    "https://api.stacspec.org/v1.0.0/core",
    "https://api.stacspec.org/v1.0.0/collections",
    "https://api.stacspec.org/v1.0.0/item-search",
    "https://api.stacspec.org/v1.0.0/ogcapi-features",
];

/// A study with what the catalogue tells of it.
struct Told {
    study: Study,
    facts: Facts,
    /// longitude and latitude
    bbox: Bounds,
}

impl Told {
    fn id(&self) -> String {
        format!("study-{}", self.study.id)
    }
}

/// The studies whose DEM is prepared. One that cannot be read is left out: its page tells why.
async fn all(app: &App) -> Result<Vec<Told>, Fault> {
    let mut found = Vec::new();
    for study in app.store.studies().await? {
        let Ok(facts) = Facts::of(&study) else { continue };
        let Some(terrain) = &facts.terrain else { continue };
        let frame = terrain.frame;
        let own = [
            frame.left,
            frame.top - frame.rows as f64 * frame.cell_size,
            frame.left + frame.cols as f64 * frame.cell_size,
            frame.top,
        ];
        // A CRS without longitude and latitude has no place in the catalogue.
        if let Ok(bbox) =
            Transform::to_wgs84(&terrain.crs).map_err(Fault::from).and_then(|to| converted(&own, &to))
        {
            found.push(Told { study, facts, bbox });
        }
    }
    found.sort_by_key(|t| t.study.id);
    Ok(found)
}

fn of_id(all: Vec<Told>, id: &str) -> Result<Told, Fault> {
    let found = all.into_iter().find(|t| t.id() == id);
    found.ok_or_else(|| Fault::nothing(format!("there is no collection {}", short(id))))
}

fn time(study: &Study) -> String {
    study.updated_at.format("%Y-%m-%dT%H:%M:%SZ").to_string()
}

/// Metres from cell to cell.
fn resolution(of: &Told) -> Option<f64> {
    of.facts.terrain.as_ref().map(|t| t.frame.cell_m())
}

fn described(base: &Base, of: &Told) -> Value {
    let root = format!("{}/stac", base.0);
    let own = format!("{root}/collections/{}", of.id());
    let about = match of.study.description.trim() {
        "" => format!("Rasters of the study {}.", of.study.name),
        text => text.to_owned(),
    };
    json!({
        "type": "Collection",
        "stac_version": "1.0.0",
        "id": of.id(),
        "title": of.study.name,
        "description": about,
        "license": "proprietary",
        "extent": {
            "spatial": { "bbox": [of.bbox] },
            "temporal": { "interval": [[time(&of.study), time(&of.study)]] },
        },
        "summaries": { "gsd": [resolution(of)] },
        "links": [
            link("root", &root, JSON, "Studies"),
            link("parent", &root, JSON, "Studies"),
            link("self", &own, JSON, &of.study.name),
            link("items", format!("{own}/items"), GEOJSON, "Items"),
            link("item", format!("{own}/items/{}", of.id()), GEOJSON, "The item"),
        ],
    })
}

async fn item_of(app: &App, base: &Base, of: &Told) -> Result<Value, Fault> {
    let root = format!("{}/stac", base.0);
    let own = format!("{root}/collections/{}", of.id());
    let [west, south, east, north] = of.bbox;
    let ring = [[west, south], [east, south], [east, north], [west, north], [west, south]];
    let mut assets = serde_json::Map::new();
    for offered in &OFFERED {
        if meta_of(app, of.study.id, offered).await?.is_some() {
            // An archive offers one file for an item: the elevations as prepared.
            let role = if offered.name == OFFERED[0].name { "data" } else { "derived" };
            let mut band = json!({ "data_type": offered.cells });
            if !offered.unit.is_empty() {
                band["unit"] = json!(offered.unit);
            }
            assets.insert(
                offered.name.into(),
                json!({
                    "href": format!("{}/studies/{}/rasters/{}.tif", base.0, of.study.id, offered.name),
                    "title": offered.meaning,
                    "type": "image/tiff; application=geotiff; profile=cloud-optimized",
                    "roles": [role],
                    "raster:bands": [band],
                }),
            );
        }
    }
    let terrain = of.facts.terrain.as_ref().ok_or_else(|| Fault::nothing("the DEM is not prepared yet"))?;
    let frame = terrain.frame;
    let now = time(&of.study);
    Ok(json!({
        "type": "Feature",
        "stac_version": "1.0.0",
        "stac_extensions": [
            "https://stac-extensions.github.io/projection/v1.1.0/schema.json",
            "https://stac-extensions.github.io/raster/v1.1.0/schema.json",
        ],
        "id": of.id(),
        "collection": of.id(),
        "bbox": of.bbox,
        "geometry": { "type": "Polygon", "coordinates": [ring] },
        "properties": {
            "title": of.study.name,
            "datetime": now,
            "created": of.study.created_at.format("%Y-%m-%dT%H:%M:%SZ").to_string(),
            "updated": now,
            "gsd": resolution(of),
            "proj:epsg": terrain.crs.epsg,
            "proj:wkt2": terrain.crs.wkt,
            "proj:shape": [frame.rows, frame.cols],
            "proj:transform": [frame.cell_size, 0.0, frame.left, 0.0, -frame.cell_size, frame.top],
        },
        "links": [
            link("root", &root, JSON, "Studies"),
            link("parent", &own, JSON, &of.study.name),
            link("self", format!("{own}/items/{}", of.id()), GEOJSON, &of.study.name),
            link("collection", &own, JSON, &of.study.name),
            link("related", format!("{}/studies/{}/ogc", base.0, of.study.id), JSON, "Its layers, by OGC API - Features"),
        ],
        "assets": assets,
    }))
}

/// The catalogue.
pub async fn landing(State(app): State<App>, base: Base) -> Answered {
    let root = format!("{}/stac", base.0);
    let mut links = vec![
        link("root", &root, JSON, "Studies"),
        link("self", &root, JSON, "This document"),
        link("conformance", format!("{root}/conformance"), JSON, "Parts of the standard"),
        link("data", format!("{root}/collections"), JSON, "Collections"),
        link("search", format!("{root}/search"), GEOJSON, "Search"),
    ];
    for of in all(&app).await? {
        links.push(link("child", format!("{root}/collections/{}", of.id()), JSON, &of.study.name));
    }
    answer_json(&json!({
        "type": "Catalog",
        "stac_version": "1.0.0",
        "id": "bothros",
        "title": "Studies of Bothros",
        "description": "Elevations, flow directions and flow accumulation of studies, as cloud-optimised GeoTIFF.",
        "conformsTo": CONFORMS,
        "links": links,
    }))
}

/// The conformance classes.
pub async fn conformance() -> Answered {
    answer_json(&json!({ "conformsTo": CONFORMS }))
}

/// All collections: one for each study.
pub async fn collections(State(app): State<App>, base: Base) -> Answered {
    let all: Vec<Value> = all(&app).await?.iter().map(|of| described(&base, of)).collect();
    let root = format!("{}/stac", base.0);
    let links = [
        link("root", &root, JSON, "Studies"),
        link("self", format!("{root}/collections"), JSON, "This document"),
    ];
    answer_json(&json!({ "collections": all, "links": links }))
}

/// One collection.
pub async fn collection(State(app): State<App>, Path(id): Path<String>, base: Base) -> Answered {
    answer_json(&described(&base, &of_id(all(&app).await?, &id)?))
}

/// Its items: the study.
pub async fn items(State(app): State<App>, Path(id): Path<String>, base: Base) -> Answered {
    let of = of_id(all(&app).await?, &id)?;
    let own = format!("{}/stac/collections/{id}", base.0);
    let links = [
        link("root", format!("{}/stac", base.0), JSON, "Studies"),
        link("self", format!("{own}/items"), GEOJSON, "This document"),
        link("collection", own, JSON, &of.study.name),
    ];
    let item = item_of(&app, &base, &of).await?;
    answer_geojson(&json!({
        "type": "FeatureCollection", "features": [item], "links": links, "numberMatched": 1, "numberReturned": 1,
    }))
}

/// One item.
pub async fn item(State(app): State<App>, Path((id, item)): Path<(String, String)>, base: Base) -> Answered {
    let of = of_id(all(&app).await?, &id)?;
    if item != of.id() {
        return Err(Fault::nothing(format!("there is no item {}", short(&item))));
    }
    answer_geojson(&item_of(&app, &base, &of).await?)
}

fn answer_geojson(body: &Value) -> Answered {
    Ok(super::answer::answer(axum::http::StatusCode::OK, GEOJSON, body))
}

/// The parameters of a search; `from` is our own, in links to next pages.
#[derive(Deserialize)]
pub struct Asked {
    collections: Option<String>,
    ids: Option<String>,
    bbox: Option<String>,
    limit: Option<usize>,
    from: Option<usize>,
}

/// Studies that meet what is asked.
pub async fn search(State(app): State<App>, base: Base, Query(asked): Query<Asked>) -> Answered {
    let wanted = asked.bbox.as_deref().map(|text| boxes(text, true, false)).transpose()?;
    let limit = asked.limit.unwrap_or(10);
    if !(1..=10_000).contains(&limit) {
        return Err(Fault::wrong("limit lies between 1 and 10000"));
    }
    let named = |list: &Option<String>, id: &str| list.as_ref().is_none_or(|l| l.split(',').any(|n| n == id));
    let meets = |b: &Bounds| wanted.as_ref().is_none_or(|all| all.iter().any(|w| near(w, b)));
    let mut found = all(&app).await?;
    found.retain(|t| named(&asked.collections, &t.id()) && named(&asked.ids, &t.id()) && meets(&t.bbox));
    let from = asked.from.unwrap_or(0).min(found.len());
    let to = from.saturating_add(limit).min(found.len());
    let mut features = Vec::new();
    for of in &found[from..to] {
        features.push(item_of(&app, &base, of).await?);
    }
    let root = format!("{}/stac", base.0);
    let mut links = vec![link("root", &root, JSON, "Studies")];
    if to < found.len() {
        let mut query = form_urlencoded::Serializer::new(String::new());
        query.append_pair("limit", &limit.to_string()).append_pair("from", &to.to_string());
        for (key, value) in [("collections", &asked.collections), ("ids", &asked.ids), ("bbox", &asked.bbox)]
        {
            if let Some(value) = value {
                query.append_pair(key, value);
            }
        }
        links.push(link("next", format!("{root}/search?{}", query.finish()), GEOJSON, "The next page"));
    }
    answer_geojson(&json!({
        "type": "FeatureCollection", "features": features, "links": links,
        "numberMatched": found.len(), "numberReturned": to - from,
    }))
}
