//! What the service is, and what it does.

use axum::extract::Path;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use serde_json::{Value, json};

use super::answer::{Answer, Fault, link, told};
use super::openapi::document;
use super::token::ROOT;

/// The one process.
pub const PROCESS: &str = "recipe";

const JSON: &str = "application/json";
const REL: &str = "http://www.opengis.net/def/rel/ogc/1.0/";

/// Parts of the standard that are kept.
const KEPT: [&str; 6] = ["core", "ogc-process-description", "json", "oas30", "job-list", "dismiss"];

pub async fn landing() -> Response {
    told(&json!({
        "title": "Bothros: recipes as a service",
        "description": "Runs recipes: a DEM is prepared and conditioned, flow routed, a network drawn, catchments delineated.",
        "links": [
            link(ROOT, "self", JSON, "this"),
            link(&format!("{ROOT}/api"), "service-desc", "application/vnd.oai.openapi+json;version=3.0", "OpenAPI document"),
            link(&format!("{ROOT}/conformance"), &format!("{REL}conformance"), JSON, "parts of the standard"),
            link(&format!("{ROOT}/processes"), &format!("{REL}processes"), JSON, "processes"),
            link(&format!("{ROOT}/jobs"), &format!("{REL}job-list"), JSON, "jobs"),
        ],
    }))
}

pub async fn api() -> Response {
    let headers = [
        (header::CONTENT_TYPE, "application/vnd.oai.openapi+json;version=3.0"),
        (header::CACHE_CONTROL, "no-store"),
    ];
    (headers, document().to_string()).into_response()
}

pub async fn conformance() -> Response {
    let of = |part: &str| format!("http://www.opengis.net/spec/ogcapi-processes-1/1.0/conf/{part}");
    told(&json!({ "conformsTo": KEPT.map(of) }))
}

fn summary() -> Value {
    json!({
        "id": PROCESS,
        "title": "Run a recipe",
        "description": "Runs a recipe over the files that come with it, or the recipe of a study as it is now.",
        "version": env!("CARGO_PKG_VERSION"),
        "jobControlOptions": ["async-execute", "dismiss"],
        "outputTransmission": ["reference"],
        "links": [link(&format!("{ROOT}/processes/{PROCESS}"), "self", JSON, "Run a recipe")],
    })
}

pub async fn processes() -> Response {
    told(&json!({
        "processes": [summary()],
        "links": [link(&format!("{ROOT}/processes"), "self", JSON, "this")],
    }))
}

/// The schema of a file that comes with a recipe.
pub fn file_schema() -> Value {
    json!({
        "type": "object",
        "required": ["name", "content"],
        "properties": {
            "name": { "type": "string", "description": "what the recipe calls it", "minLength": 1, "maxLength": 120 },
            "content": { "type": "string", "format": "byte", "description": "its bytes in base 64" },
        },
    })
}

pub async fn process(Path(name): Path<String>) -> Answer {
    if name != PROCESS {
        return Err(Fault::no_process(&name));
    }
    let mut whole = summary();
    let input = |title: &str, description: &str, (least, most): (u32, Value), schema: Value| json!({ "title": title, "description": description, "minOccurs": least, "maxOccurs": most, "schema": schema });
    whole["inputs"] = json!({
        "recipe": input("Recipe", "a recipe in TOML; this or a study is needed", (0, json!(1)), json!({ "type": "string" })),
        "files": input("Files", "what the recipe reads", (0, json!("unbounded")), file_schema()),
        "study": input("Study", "number of a study whose recipe is run, with its files", (0, json!(1)), json!({ "type": "integer" })),
        "set": input(
            "Keys", "keys of the recipe that take other values, as in {\"network.threshold\": {\"cells\": 500}}",
            (0, json!(1)), json!({ "type": "object" }),
        ),
        "name": input("Name", "what the job is called", (0, json!(1)), json!({ "type": "string", "maxLength": 200 })),
    });
    whole["outputs"] = json!({
        "summary": { "title": "What was done, in numbers", "schema": { "type": "object" } },
        "files": {
            "title": "The files that were written",
            "schema": { "type": "array", "items": { "type": "object", "required": ["href"], "properties": { "href": { "type": "string" } } } },
        },
    });
    whole["links"].as_array_mut().into_iter().for_each(|links| {
        let execute = format!("{ROOT}/processes/{PROCESS}/execution");
        links.push(link(&execute, &format!("{REL}execute"), JSON, "run it"));
    });
    Ok(told(&whole))
}
