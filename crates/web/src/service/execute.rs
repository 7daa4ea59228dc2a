//! A run is asked for.

use std::path::{Path as FilePath, PathBuf};

use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::IntoResponse;
use base64::Engine;
use bothros_store::MadeBy;
use bothros_workflow::{BatchWish, Given, WhatVaries, plan_batch};
use serde_json::{Map, Value};

use super::answer::{Answer, Fault};
use super::describe::PROCESS;
use super::jobs::status_of;
use super::token::ROOT;
use crate::App;
use crate::http::form::NAME;

/// A value that may stand in an object that qualifies it.
fn bare(value: &Value) -> &Value {
    match value.as_object() {
        Some(of) if of.contains_key("value") => &of["value"],
        _ => value,
    }
}

/// A value of JSON as a recipe writes it.
fn in_toml(value: &Value) -> Result<toml::Value, Fault> {
    let none = || Fault::wrong("set: a recipe knows no null; leave the key out");
    Ok(match value {
        Value::Null => return Err(none()),
        Value::Bool(b) => toml::Value::Boolean(*b),
        Value::Number(n) => match n.as_i64() {
            Some(whole) => toml::Value::Integer(whole),
            None => toml::Value::Float(n.as_f64().unwrap_or(f64::NAN)),
        },
        Value::String(text) => toml::Value::String(text.clone()),
        Value::Array(all) => toml::Value::Array(all.iter().map(in_toml).collect::<Result<_, _>>()?),
        Value::Object(of) => {
            let pairs = of.iter().map(|(key, value)| Ok((key.clone(), in_toml(value)?)));
            toml::Value::Table(pairs.collect::<Result<_, Fault>>()?)
        }
    })
}

/// Writes the files that came with a request; their names stay within the folder.
fn files(given: &Value, dir: &FilePath) -> Result<Vec<(String, PathBuf)>, Fault> {
    let given = bare(given);
    let alone = std::slice::from_ref(given);
    let all = given.as_array().map_or(alone, Vec::as_slice);
    let mut out: Vec<(String, PathBuf)> = Vec::new();
    for (at, file) in all.iter().enumerate() {
        let file = bare(file);
        let text = |key: &str| file.get(key).and_then(Value::as_str);
        let (Some(name), Some(content)) = (text("name"), text("content")) else {
            return Err(Fault::wrong("files: each is an object with name and content"));
        };
        let plain = !name.is_empty()
            && name.len() <= 120
            && !name.contains(['/', '\\', '\0'])
            && name != "."
            && name != "..";
        if !plain {
            return Err(Fault::wrong("files: a name is that of a file beside the recipe, without folders"));
        }
        if out.iter().any(|(other, _)| other == name) {
            return Err(Fault::wrong(format!("files: {name} comes twice")));
        }
        let bytes = base64::engine::general_purpose::STANDARD.decode(content);
        let bytes = bytes.map_err(|e| Fault::wrong(format!("files: {name} is not base 64: {e}")))?;
        let path = dir.join(at.to_string());
        std::fs::write(&path, bytes)?;
        out.push((name.to_owned(), path));
    }
    Ok(out)
}

/// The inputs that the process knows.
const INPUTS: [&str; 5] = ["recipe", "files", "study", "set", "name"];

/// What is asked for, as a batch of one run; and its name.
fn wished(body: &Map<String, Value>, dir: &FilePath) -> Result<(BatchWish, String), Fault> {
    let none = Map::new();
    let inputs = match body.get("inputs") {
        None => &none,
        Some(inputs) => inputs.as_object().ok_or_else(|| Fault::wrong("inputs must be an object"))?,
    };
    if let Some(unknown) = inputs.keys().find(|key| !INPUTS.contains(&key.as_str())) {
        let unknown: String = unknown.chars().take(60).collect();
        return Err(Fault::wrong(format!("there is no input “{unknown}”; there are {}", INPUTS.join(", "))));
    }
    let of = |key: &str| inputs.get(key).map(bare);
    let text = |key: &str| match of(key) {
        None => Ok(None),
        Some(Value::String(text)) => Ok(Some(text.clone())),
        Some(_) => Err(Fault::wrong(format!("{key} must be text"))),
    };
    let (recipe, name) = (text("recipe")?, text("name")?.unwrap_or_default());
    let study = match of("study") {
        None => None,
        Some(number) => Some(number.as_i64().ok_or_else(|| Fault::wrong("study must be a whole number"))?),
    };
    let given = match (recipe, study) {
        (Some(recipe), None) => {
            let files = inputs.get("files").map_or_else(|| Ok(Vec::new()), |given| files(given, dir))?;
            Given::Text { recipe, files }
        }
        (None, Some(study)) if !inputs.contains_key("files") => Given::Study(study),
        (None, Some(_)) => return Err(Fault::wrong("files: the recipe of a study brings its own")),
        (Some(_), Some(_)) => return Err(Fault::wrong("give a recipe or a study, not both")),
        (None, None) => return Err(Fault::wrong("give a recipe, or the number of a study")),
    };
    let mut keys = Vec::new();
    match inputs.get("set").map(bare) {
        None => {}
        Some(Value::Object(set)) => {
            for (key, value) in set {
                keys.push((key.clone(), vec![in_toml(value)?]));
            }
        }
        Some(_) => return Err(Fault::wrong("set must be an object of keys and values")),
    }
    let varies = WhatVaries { keys, ..WhatVaries::default() };
    Ok((BatchWish { given, varies, limit: 0 }, name.chars().take(NAME).collect()))
}

/// Starts a job.
pub async fn execute(
    State(app): State<App>,
    Path(process): Path<String>,
    headers: HeaderMap,
    body: Bytes,
) -> Answer {
    if process != PROCESS {
        return Err(Fault::no_process(&process));
    }
    let kind = headers.get(header::CONTENT_TYPE).and_then(|h| h.to_str().ok()).unwrap_or("application/json");
    if !kind.to_ascii_lowercase().contains("json") {
        let message = "inputs come as application/json".into();
        return Err(Fault { status: StatusCode::UNSUPPORTED_MEDIA_TYPE, kind: None, message });
    }
    let body: Value =
        serde_json::from_slice(&body).map_err(|e| Fault::wrong(format!("this is no JSON: {e}")))?;
    let body = body.as_object().ok_or_else(|| Fault::wrong("the request must be an object with inputs"))?;
    let dir = tempfile::tempdir()?;
    let (wish, name) = wished(body, dir.path())?;
    let planned = plan_batch(&app.store, wish).await?;
    let name = if name.trim().is_empty() { "Job of the service".to_owned() } else { name };
    let batch = planned.begin(&app.store, &name, MadeBy::Service).await?;
    let runs = app.store.runs(batch.id).await?;
    let run = runs.first().ok_or_else(Fault::no_job)?;
    let headers = [
        (header::LOCATION, format!("{ROOT}/jobs/{}", run.id)),
        (header::CONTENT_TYPE, "application/json".to_owned()),
        (header::CACHE_CONTROL, "no-store".into()),
        (header::HeaderName::from_static("preference-applied"), "respond-async".into()),
    ];
    Ok((StatusCode::CREATED, headers, status_of(run).to_string()).into_response())
}
