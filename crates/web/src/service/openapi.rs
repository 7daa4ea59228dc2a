//! The service as OpenAPI 3.0.

use serde_json::{Value, json};

use super::describe::{PROCESS, file_schema};
use super::token::ROOT;

fn refer(name: &str) -> Value {
    json!({ "$ref": format!("#/components/{name}") })
}

/// An answer in JSON.
fn json_of(about: &str, schema: &str) -> Value {
    json!({
        "description": about,
        "content": { "application/json": { "schema": refer(&format!("schemas/{schema}")) } },
    })
}

/// A request for something, its answer, and faults by their status.
fn asked(id: &str, about: &str, schema: &str, parameters: Value, faults: &[&str]) -> Value {
    let mut answers = json!({ "200": json_of(about, schema), "401": refer("responses/fault") });
    for status in faults {
        answers[*status] = refer("responses/fault");
    }
    json!({ "operationId": id, "summary": about, "parameters": parameters, "responses": answers })
}

fn in_path(name: &str, about: &str) -> Value {
    json!({ "name": name, "in": "path", "required": true, "description": about, "schema": { "type": "string" } })
}

fn whole(name: &str, about: &str, least: u64, most: u64) -> Value {
    json!({
        "name": name, "in": "query", "required": false, "description": about,
        "schema": { "type": "integer", "minimum": least, "maximum": most },
    })
}

fn schemas() -> Value {
    let text = json!({ "type": "string" });
    let links = json!({ "type": "array", "items": refer("schemas/link") });
    let process = json!({
        "id": text, "title": text, "description": text, "version": text,
        "jobControlOptions": { "type": "array", "items": { "type": "string", "enum": ["sync-execute", "async-execute", "dismiss"] } },
        "outputTransmission": { "type": "array", "items": { "type": "string", "enum": ["value", "reference"] } },
        "links": links,
    });
    let mut described = process.clone();
    described["inputs"] = json!({ "type": "object" });
    described["outputs"] = json!({ "type": "object" });
    json!({
        "link": {
            "type": "object", "required": ["href"],
            "properties": { "href": text, "rel": text, "type": text, "title": text },
        },
        "landing": {
            "type": "object", "required": ["links"],
            "properties": { "title": text, "description": text, "links": links },
        },
        "conformance": {
            "type": "object", "required": ["conformsTo"],
            "properties": { "conformsTo": { "type": "array", "items": text } },
        },
        "processes": {
            "type": "object", "required": ["processes", "links"],
            "properties": {
                "processes": { "type": "array", "items": { "type": "object", "required": ["id", "version"], "properties": process } },
                "links": links,
            },
        },
        "process": { "type": "object", "required": ["id", "version", "inputs", "outputs"], "properties": described },
        "execute": {
            "type": "object",
            "properties": {
                "inputs": {
                    "type": "object",
                    "properties": {
                        "recipe": { "type": "string" },
                        "files": { "type": "array", "items": file_schema() },
                        "study": { "type": "integer" },
                        "set": { "type": "object" },
                        "name": { "type": "string", "maxLength": 200 },
                    },
                },
                "outputs": { "type": "object" },
                "response": { "type": "string", "enum": ["raw", "document"] },
            },
        },
        "status": {
            "type": "object", "required": ["type", "jobID", "status"],
            "properties": {
                "type": { "type": "string", "enum": ["process"] },
                "processID": text, "jobID": text, "message": text,
                "status": { "type": "string", "enum": ["accepted", "running", "successful", "failed", "dismissed"] },
                "progress": { "type": "integer", "minimum": 0, "maximum": 100 },
                "created": { "type": "string", "format": "date-time" },
                "started": { "type": "string", "format": "date-time" },
                "finished": { "type": "string", "format": "date-time" },
                "updated": { "type": "string", "format": "date-time" },
                "links": links,
            },
        },
        "jobs": {
            "type": "object", "required": ["jobs", "links"],
            "properties": { "jobs": { "type": "array", "items": refer("schemas/status") }, "links": links },
        },
        "results": {
            "type": "object", "required": ["summary", "files"],
            "properties": {
                "summary": { "type": "object" },
                "files": { "type": "array", "items": refer("schemas/link") },
            },
        },
        "fault": {
            "type": "object", "required": ["type", "title", "status", "detail"],
            "properties": { "type": text, "title": text, "status": { "type": "integer" }, "detail": text },
        },
    })
}

/// The document.
pub fn document() -> Value {
    let process = in_path("processID", &format!("the process: {PROCESS}"));
    let job = in_path("jobID", "number of a job");
    let status = json!({
        "name": "status", "in": "query", "required": false, "style": "form", "explode": false,
        "description": "only jobs in these states",
        "schema": { "type": "array", "items": { "type": "string", "enum": ["accepted", "running", "successful", "failed", "dismissed"] } },
    });
    let listed = json!([
        whole("limit", "how many at most", 1, 1000),
        whole("offset", "how many are left out", 0, i32::MAX as u64),
        status,
    ]);
    let execute = json!({
        "operationId": "execute", "summary": "Runs the process as a job", "parameters": [process],
        "requestBody": {
            "required": true,
            "content": { "application/json": { "schema": refer("schemas/execute") } },
        },
        "responses": {
            "201": json_of("The job", "status"),
            "400": refer("responses/fault"), "401": refer("responses/fault"), "404": refer("responses/fault"),
            "413": refer("responses/fault"), "415": refer("responses/fault"),
        },
    });
    let any = json!({ "type": "string", "format": "binary" });
    let file = json!({
        "operationId": "file", "summary": "A file that a job wrote",
        "parameters": [job, in_path("name", "its name")],
        "responses": {
            "200": { "description": "its bytes", "content": { "*/*": { "schema": any } } },
            "401": refer("responses/fault"), "404": refer("responses/fault"), "500": refer("responses/fault"),
        },
    });
    let none = json!([]);
    json!({
        "openapi": "3.0.3",
        "info": {
            "title": "Bothros: recipes as a service", "version": env!("CARGO_PKG_VERSION"),
            "description": "OGC API - Processes, Part 1: Core (OGC 18-062r2). Recipes are told in docs/recipe.md.",
        },
        "servers": [{ "url": ROOT }],
        "security": [{ "token": [] }],
        "paths": {
            "/": { "get": asked("landing", "The landing page", "landing", none.clone(), &[]) },
            "/conformance": { "get": asked("conformance", "Parts of the standard", "conformance", none.clone(), &[]) },
            "/processes": { "get": asked("processes", "The processes", "processes", none, &[]) },
            "/processes/{processID}": {
                "get": asked("process", "What a process takes and gives", "process", json!([process]), &["404"]),
            },
            "/processes/{processID}/execution": { "post": execute },
            "/jobs": { "get": asked("jobs", "The jobs, the last one first", "jobs", listed, &["400"]) },
            "/jobs/{jobID}": {
                "get": asked("status", "How far a job is", "status", json!([job]), &["404"]),
                "delete": asked("dismiss", "Stops a job, or removes one that has ended", "status", json!([job]), &["404"]),
            },
            "/jobs/{jobID}/results": {
                "get": asked("results", "What a job gave", "results", json!([job]), &["404", "500"]),
            },
            "/jobs/{jobID}/results/{name}": { "get": file },
        },
        "components": {
            "securitySchemes": { "token": { "type": "http", "scheme": "bearer" } },
            "schemas": schemas(),
            "responses": {
                "fault": {
                    "description": "Why it cannot be done",
                    "content": { "application/problem+json": { "schema": refer("schemas/fault") } },
                },
            },
        },
    })
}
