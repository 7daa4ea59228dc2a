//! What a study offers by OGC API - Features: Part 1, Core (OGC 17-069r4), and Part 2, Coordinate Reference Systems by Reference
//! (OGC 18-058r1).

use axum::extract::{Path, State};
use axum::http::StatusCode;
use bothros_products::{Column, Table};
use bothros_workflow::Facts;
use serde_json::{Value, json};

use super::answer::{Answered, Fault, Form, GEOJSON, HTML, JSON, answer, json as answer_json, link};
use super::call::Call;
use super::collections::{CRS84, find, storage, tables};
use super::openapi::document;
use super::page::{Entry, Page, page};
use crate::App;

/// Conformance classes.
pub const CONFORMS: [&str; 5] = [
    "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/core",
    "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/oas30",
    "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/geojson",
    "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/html",
    "http://www.opengis.net/spec/ogcapi-features-2/1.0/conf/crs",
];

const OPENAPI: &str = "application/vnd.oai.openapi+json;version=3.0";

/// The landing page.
pub async fn landing(State(app): State<App>, Path(study): Path<i64>, call: Call) -> Answered {
    let facts = app.facts(study).await?;
    let root = call.root(study);
    if call.form_of(&[])? == Form::Html {
        return page(Page {
            title: facts.name.clone(),
            about: "The layers of this study for a GIS, by OGC API - Features: give the address of this page to it.".into(),
            json: format!("{root}?f=json"),
            up: None,
            entries: vec![
                Entry::new(format!("{root}/collections?f=html"), "Collections"),
                Entry::new(format!("{root}/api?f=html"), "What can be asked"),
                Entry::new(format!("{root}/conformance?f=html"), "Parts of the standard"),
            ],
            ..Page::default()
        });
    }
    answer_json(&json!({
        "title": facts.name,
        "description": "Layers of a study of Bothros: streams, catchments, sub-basins and the model scheme.",
        "links": [
            link("self", format!("{root}?f=json"), JSON, "This document"),
            link("alternate", format!("{root}?f=html"), HTML, "This document as a page"),
            link("service-desc", format!("{root}/api?f=json"), OPENAPI, "What can be asked"),
            link("service-doc", format!("{root}/api?f=html"), HTML, "What can be asked, as a page"),
            link("conformance", format!("{root}/conformance"), JSON, "Parts of the standard"),
            link("data", format!("{root}/collections"), JSON, "The collections"),
        ],
    }))
}

/// What can be asked, as OpenAPI 3.0.
pub async fn api(State(app): State<App>, Path(study): Path<i64>, call: Call) -> Answered {
    let facts = app.facts(study).await?;
    let root = call.root(study);
    let all = document(&facts.name, &root, tables(&facts), facts.terrain.as_ref().map(|t| &t.crs));
    if call.form_of(&[])? == Form::Html {
        let paths = all["paths"].as_object().into_iter().flatten();
        let told = |(path, of): (&String, &Value)| Entry {
            text: path.clone(),
            about: of["get"]["summary"].as_str().unwrap_or_default().to_owned(),
            href: format!("{root}/api?f=json"),
        };
        return page(Page {
            title: format!("{}: what can be asked", facts.name),
            json: format!("{root}/api?f=json"),
            up: Some((format!("{root}?f=html"), facts.name.clone())),
            entries: paths.map(told).collect(),
            ..Page::default()
        });
    }
    Ok(answer(StatusCode::OK, OPENAPI, &all))
}

/// The conformance classes.
pub async fn conformance(State(app): State<App>, Path(study): Path<i64>, call: Call) -> Answered {
    let facts = app.facts(study).await?;
    let root = call.root(study);
    if call.form_of(&[])? == Form::Html {
        return page(Page {
            title: format!("{}: parts of the standard", facts.name),
            json: format!("{root}/conformance?f=json"),
            up: Some((format!("{root}?f=html"), facts.name.clone())),
            entries: CONFORMS.iter().map(|uri| Entry::new(*uri, uri)).collect(),
            ..Page::default()
        });
    }
    answer_json(&json!({ "conformsTo": CONFORMS }))
}

/// A collection as it is described.
async fn described(app: &App, facts: &Facts, root: &str, table: &Table) -> Result<Value, Fault> {
    let of = find(app, facts, table.name).await?;
    let own = format!("{root}/collections/{}", table.name);
    let crs: Vec<String> = std::iter::once(CRS84.to_owned()).chain(storage(&of.crs)).collect();
    let mut told = json!({
        "id": table.name,
        "title": table.title,
        "description": table.meaning,
        "itemType": "feature",
        "crs": crs,
        "links": [
            link("self", format!("{own}?f=json"), JSON, table.title),
            link("alternate", format!("{own}?f=html"), HTML, table.title),
            link("items", format!("{own}/items?f=json"), GEOJSON, "Its features"),
            link("items", format!("{own}/items?f=html"), HTML, "Its features as a page"),
        ],
    });
    if let Some(storage) = storage(&of.crs) {
        told["storageCrs"] = json!(storage);
    }
    if let Some(bbox) = of.extent()? {
        told["extent"] = json!({ "spatial": { "bbox": [bbox], "crs": CRS84 } });
    }
    Ok(told)
}

/// All collections.
pub async fn collections(State(app): State<App>, Path(study): Path<i64>, call: Call) -> Answered {
    let facts = app.facts(study).await?;
    let root = call.root(study);
    if call.form_of(&[])? == Form::Html {
        let entry = |t: &&Table| Entry {
            href: format!("{root}/collections/{}?f=html", t.name),
            text: t.title.to_owned(),
            about: t.meaning.to_owned(),
        };
        return page(Page {
            title: format!("{}: collections", facts.name),
            json: format!("{root}/collections?f=json"),
            up: Some((format!("{root}?f=html"), facts.name.clone())),
            about: if facts.network.is_none() { "There is no network yet.".into() } else { String::new() },
            entries: tables(&facts).iter().map(entry).collect(),
            ..Page::default()
        });
    }
    let mut all = Vec::new();
    for table in tables(&facts) {
        all.push(described(&app, &facts, &root, table).await?);
    }
    let crs = facts.terrain.as_ref().and_then(|t| storage(&t.crs));
    answer_json(&json!({
        "collections": all,
        "crs": std::iter::once(CRS84.to_owned()).chain(crs).collect::<Vec<_>>(),
        "links": [
            link("self", format!("{root}/collections?f=json"), JSON, "This document"),
            link("alternate", format!("{root}/collections?f=html"), HTML, "This document as a page"),
        ],
    }))
}

/// One collection.
pub async fn collection(
    State(app): State<App>,
    Path((study, name)): Path<(i64, String)>,
    call: Call,
) -> Answered {
    let facts = app.facts(study).await?;
    let root = call.root(study);
    let form = call.form_of(&[])?;
    let of = find(&app, &facts, &name).await?;
    if form == Form::Html {
        let own = format!("{root}/collections/{}", of.table.name);
        let column = |c: &Column| {
            let unit = c.quantity.unit().symbol();
            vec![Entry::text(c.name), Entry::text(unit), Entry::text(c.meaning)]
        };
        return page(Page {
            title: of.table.title.to_owned(),
            about: of.table.meaning.to_owned(),
            json: format!("{own}?f=json"),
            up: Some((format!("{root}/collections?f=html"), "Collections".into())),
            entries: vec![Entry::new(format!("{own}/items?f=html"), "Its features")],
            heads: ["column", "unit", "meaning"].map(str::to_owned).into(),
            rows: of.table.columns.iter().map(column).collect(),
            ..Page::default()
        });
    }
    answer_json(&described(&app, &facts, &root, of.table).await?)
}
