//! What can be asked of the features of a study, as OpenAPI 3.0.

use bothros_formats::{Crs, Shape};
use bothros_products::Table;
use serde_json::{Map, Value, json};

use super::collections::{CRS84, storage};
use super::items::{MOST, USUAL};

fn geometry(shape: Option<Shape>) -> &'static str {
    match shape {
        Some(Shape::Line) => "LineString",
        Some(Shape::Polygons) => "MultiPolygon",
        _ => "Point",
    }
}

fn refer(name: &str) -> Value {
    json!({ "$ref": format!("#/components/{name}") })
}

/// The answers of a request: a good one with its schema, and faults.
fn answers(about: &str, kind: &str, schema: &Value, not_found: bool) -> Value {
    let html = json!({ "schema": { "type": "string" } });
    let mut all = json!({
        "200": { "description": about, "content": { kind: { "schema": schema }, "text/html": html } },
        "400": refer("responses/wrong"),
    });
    if not_found {
        all["404"] = refer("responses/nothing");
    }
    all
}

/// The document for a study whose features are at `root`.
pub fn document(title: &str, root: &str, tables: &[&Table], crs: Option<&Crs>) -> Value {
    let names: Vec<String> = std::iter::once(CRS84.to_owned()).chain(crs.and_then(storage)).collect();
    let form = refer("parameters/f");
    let plain = |summary: &str, schema: &str, id: &str| {
        json!({ "get": {
            "operationId": id, "summary": summary, "parameters": [form],
            "responses": answers(summary, "application/json", &refer(&format!("schemas/{schema}")), false),
        } })
    };
    let mut paths = Map::new();
    paths.insert("/".into(), plain("The landing page", "landing", "landing"));
    paths.insert("/conformance".into(), plain("Parts of the standard", "conformance", "conformance"));
    paths.insert("/collections".into(), plain("The collections", "collections", "collections"));
    for table in tables {
        let at = format!("/collections/{}", table.name);
        let told = format!("About {}", table.title.to_lowercase());
        paths.insert(at.clone(), plain(&told, "collection", &format!("{}_about", table.name)));
        let mut properties = Map::new();
        let mut parameters: Vec<Value> = ["f", "limit", "offset", "bbox", "bbox-crs", "crs", "datetime"]
            .map(|p| refer(&format!("parameters/{p}")))
            .into();
        for c in table.columns {
            let schema = json!({ "type": c.json_type(), "nullable": c.nullable, "description": c.meaning });
            properties.insert(c.name.into(), schema);
            parameters.push(json!({
                "name": c.name, "in": "query", "required": false, "style": "form", "explode": false,
                "schema": { "type": c.json_type() }, "description": format!("Only features with this value. {}", c.meaning),
            }));
        }
        let feature = json!({
            "type": "object",
            "required": ["type", "id", "geometry", "properties"],
            "properties": {
                "type": { "type": "string", "enum": ["Feature"] },
                "id": { "type": "integer" },
                "geometry": {
                    "type": "object", "required": ["type", "coordinates"],
                    "properties": {
                        "type": { "type": "string", "enum": [geometry(table.shape)] },
                        "coordinates": { "type": "array", "items": {} },
                    },
                },
                "properties": { "type": "object", "properties": properties },
                "links": { "type": "array", "items": refer("schemas/link") },
            },
        });
        let page = json!({
            "type": "object",
            "required": ["type", "features", "links", "numberMatched", "numberReturned", "timeStamp"],
            "properties": {
                "type": { "type": "string", "enum": ["FeatureCollection"] },
                "features": { "type": "array", "items": feature },
                "links": { "type": "array", "items": refer("schemas/link") },
                "numberMatched": { "type": "integer", "minimum": 0 },
                "numberReturned": { "type": "integer", "minimum": 0 },
                "timeStamp": { "type": "string", "format": "date-time" },
            },
        });
        let title = table.title.to_lowercase();
        paths.insert(
            format!("{at}/items"),
            json!({ "get": {
                "operationId": format!("{}_items", table.name),
                "summary": format!("Features of {title}"),
                "parameters": parameters,
                "responses": answers(table.meaning, "application/geo+json", &page, false),
            } }),
        );
        paths.insert(
            format!("{at}/items/{{featureId}}"),
            json!({ "get": {
                "operationId": format!("{}_item", table.name),
                "summary": format!("One feature of {title}"),
                "parameters": [form, refer("parameters/crs"), refer("parameters/featureId")],
                "responses": answers(table.meaning, "application/geo+json", &feature, true),
            } }),
        );
    }
    let number =
        |least: usize, usual: usize| json!({ "type": "integer", "minimum": least, "default": usual });
    let parameter = |name: &str, about: &str, schema: Value| {
        json!({ "name": name, "in": "query", "required": false, "style": "form", "explode": false,
            "description": about, "schema": schema })
    };
    let reference = json!({ "type": "string", "format": "uri", "enum": names, "default": CRS84 });
    let mut limit = number(1, USUAL);
    limit["maximum"] = json!(MOST);
    let strings = json!({ "type": "array", "items": { "type": "string" } });
    let links = json!({ "type": "array", "items": refer("schemas/link") });
    let fault = json!({ "application/json": { "schema": refer("schemas/exception") } });
    json!({
        "openapi": "3.0.3",
        "info": {
            "title": format!("{title}: layers"),
            "version": env!("CARGO_PKG_VERSION"),
            "description": "Streams, catchments, sub-basins and the model scheme of a study of Bothros, by OGC API - Features.",
        },
        "servers": [{ "url": root }],
        "paths": paths,
        "components": {
            "parameters": {
                "f": parameter("f", "The form of the answer.", json!({ "type": "string", "enum": ["json", "html"] })),
                "limit": parameter("limit", "Features at most; more than the maximum gives the maximum.", limit),
                "offset": parameter("offset", "Features that are passed over.", number(0, 0)),
                "bbox": parameter(
                    "bbox",
                    "Only features that meet this box: west, south, east, north, perhaps with heights.",
                    json!({ "oneOf": [
                        { "type": "array", "minItems": 4, "maxItems": 4, "items": { "type": "number" } },
                        { "type": "array", "minItems": 6, "maxItems": 6, "items": { "type": "number" } },
                    ] }),
                ),
                "bbox-crs": parameter("bbox-crs", "CRS of the box.", reference.clone()),
                "crs": parameter("crs", "CRS of the coordinates in the answer.", reference),
                "datetime": parameter(
                    "datetime",
                    "A time or an interval (RFC 3339). Features have no time, so that all are given.",
                    json!({ "type": "string" }),
                ),
                "featureId": {
                    "name": "featureId", "in": "path", "required": true, "description": "Number of the feature.",
                    "schema": { "type": "integer" },
                },
            },
            "responses": {
                "wrong": { "description": "What was asked cannot be understood.", "content": fault.clone() },
                "nothing": { "description": "There is nothing of that name.", "content": fault },
            },
            "schemas": {
                "exception": {
                    "type": "object", "required": ["code"],
                    "properties": { "code": { "type": "string" }, "description": { "type": "string" } },
                },
                "link": {
                    "type": "object", "required": ["href", "rel"],
                    "properties": {
                        "href": { "type": "string" }, "rel": { "type": "string" },
                        "type": { "type": "string" }, "title": { "type": "string" },
                    },
                },
                "landing": {
                    "type": "object", "required": ["links"],
                    "properties": {
                        "title": { "type": "string" }, "description": { "type": "string" }, "links": links.clone(),
                    },
                },
                "conformance": {
                    "type": "object", "required": ["conformsTo"], "properties": { "conformsTo": strings.clone() },
                },
                "collections": {
                    "type": "object", "required": ["links", "collections"],
                    "properties": {
                        "links": links.clone(), "crs": strings.clone(),
                        "collections": { "type": "array", "items": refer("schemas/collection") },
                    },
                },
                "collection": {
                    "type": "object", "required": ["id", "links"],
                    "properties": {
                        "id": { "type": "string" }, "title": { "type": "string" },
                        "description": { "type": "string" }, "links": links, "itemType": { "type": "string" },
                        "crs": strings, "storageCrs": { "type": "string" }, "extent": { "type": "object" },
                    },
                },
            },
        },
    })
}
