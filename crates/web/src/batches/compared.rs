//! The networks of two runs on one map.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use bothros_store::Run;
use bothros_workflow::{NetworksCompared, RunRow, StreamsOf, compare_networks, row_of};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::security::Token;
use crate::ui::{page, quantity};

#[derive(Deserialize)]
pub struct Pair {
    /// numbers of the runs within their batch
    first: i32,
    second: i32,
}

async fn runs(app: &App, batch: i64, pair: &Pair) -> Result<[Run; 2]> {
    if pair.first == pair.second {
        return Err(WebError::refused("a run is the same as itself: choose another"));
    }
    let all = app.store.runs(batch).await?;
    let find = |number: i32| {
        let found = all.iter().find(|run| run.number == number).cloned();
        found.ok_or_else(|| WebError::nothing("there is no run of this number"))
    };
    Ok([find(pair.first)?, find(pair.second)?])
}

/// A run in words: its number, and its own keys.
fn called(row: &RunRow, number: i32) -> String {
    let own: Vec<String> = row.own.iter().map(|(key, value)| format!("{key} {value}")).collect();
    match own.is_empty() {
        true => format!("run {number}, {}", row.name),
        false => format!("run {number}: {}", own.join(", ")),
    }
}

#[derive(Template)]
#[template(path = "batches/compared.html")]
struct Compared {
    token: Token,
    batch: i64,
    name: String,
    first: i32,
    second: i32,
    /// what is drawn: key, words, length
    kinds: [(&'static str, String, String); 3],
    one_grid: bool,
}

/// The page.
pub async fn shown(
    State(app): State<App>,
    Path(batch): Path<i64>,
    Query(pair): Query<Pair>,
    Extension(token): Extension<Token>,
) -> Result<Response> {
    let of = app.store.batch(batch).await?;
    let runs = runs(&app, batch, &pair).await?;
    let found = compare_networks(&app.store, [&runs[0], &runs[1]]).await?;
    let [first, second] = [called(&row_of(&runs[0])?, pair.first), called(&row_of(&runs[1])?, pair.second)];
    let length = |of: &StreamsOf| quantity::length(of.length_m);
    page(&Compared {
        token,
        batch,
        name: of.name,
        first: pair.first,
        second: pair.second,
        kinds: [
            ("both", "both".into(), length(&found.both)),
            ("first", format!("only {first}"), length(&found.first)),
            ("second", format!("only {second}"), length(&found.second)),
        ],
        one_grid: found.one_grid,
    })
}

/// The lines, for the map.
pub async fn lines(
    State(app): State<App>,
    Path(batch): Path<i64>,
    Query(pair): Query<Pair>,
) -> Result<Response> {
    let runs = runs(&app, batch, &pair).await?;
    let NetworksCompared { both, first, second, extent, crs, .. } =
        compare_networks(&app.store, [&runs[0], &runs[1]]).await?;
    let told: Value = json!({
        "both": both.lines, "first": first.lines, "second": second.lines,
        "extent": extent, "unit_m": crs.unit_m, "crs": crs.label(),
    });
    Ok(Json(told).into_response())
}
