//! A batch: its runs side by side, while they are worked on and after.

use askama::Template;
use axum::Extension;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use bothros_products::{Quantity, Units};
use bothros_store::{Batch, JobState, Run};
use bothros_workflow::{PROGRAM, RunRow, row_of};
use serde::Deserialize;

use super::list::standing;
use crate::App;
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::http::security::Token;
use crate::ui::chart::{Axis, Chart, Series, Shape, Tone, figure};
use crate::ui::{page, quantity};

/// A figure of a run: its column in runs.csv, what it is called, how it is told.
struct Figure {
    column: &'static str,
    title: &'static str,
    /// its quantity, and what brings the column's number to the quantity's own unit
    quantity: Option<(Quantity, f64)>,
}

const fn figure_of(column: &'static str, title: &'static str, quantity: Option<(Quantity, f64)>) -> Figure {
    Figure { column, title, quantity }
}

/// The figures that are shown side by side.
const FIGURES: [Figure; 8] = [
    figure_of("reaches", "Reaches", None),
    figure_of("headwaters", "Headwaters", None),
    figure_of("network_km", "Length", Some((Quantity::Length, 1000.0))),
    figure_of("drainage_density_km_per_km2", "Drainage density", Some((Quantity::Density, 1.0))),
    figure_of("sinks_after", "Sinks left", None),
    figure_of("fill_m3", "Filled", Some((Quantity::Volume, 1.0))),
    figure_of("cut_m3", "Cut", Some((Quantity::Volume, 1.0))),
    figure_of("largest_contributing_area_km2", "Largest contributing area", Some((Quantity::Area, 1.0))),
];

/// A run in the table.
struct Row {
    id: i64,
    number: i32,
    own: Vec<String>,
    state: String,
    /// percent done, while it is worked on
    share: Option<u32>,
    message: String,
    took: String,
    /// figures, each with how it differs from the run that all are held against
    figures: Vec<(String, String)>,
    done: bool,
    reference: bool,
    /// whether its network can be laid over that of the reference
    mapped: bool,
    files: Vec<String>,
}

#[derive(Template)]
#[template(path = "batches/runs.html")]
struct Runs {
    batch: i64,
    standing: String,
    keys: Vec<String>,
    titles: Vec<&'static str>,
    rows: Vec<Row>,
    active: bool,
    /// what else can be taken up: stopped, failed
    stopped: usize,
    failed: usize,
    done: usize,
    against: i32,
    chosen: &'static str,
    columns: Vec<(&'static str, &'static str)>,
    chart: Option<String>,
    /// why nobody works on it
    other: Option<String>,
}

#[derive(Template)]
#[template(path = "batches/show.html")]
struct Show {
    token: Token,
    batch: i64,
    name: String,
    begun: String,
    by_service: bool,
    runs: String,
}

/// What is looked at.
#[derive(Deserialize, Default)]
pub struct Looked {
    /// number of the run that the others are held against
    against: Option<i32>,
    /// the figure that is drawn
    figure: Option<String>,
}

fn told(of: &Figure, value: f64) -> String {
    match of.quantity {
        Some((Quantity::Density, _)) => quantity::density(value),
        Some((Quantity::Length, factor)) => quantity::length(value * factor),
        Some((Quantity::Area, _)) => quantity::area(value * 1e6),
        Some((Quantity::Volume, factor)) => quantity::volume(value * factor),
        _ => quantity::whole(value.max(0.0) as u64),
    }
}

/// How a value differs from another, in words: nothing where it does not.
fn differs(value: f64, from: f64) -> String {
    if value == from {
        return String::new();
    }
    if from == 0.0 {
        return "none there".into();
    }
    let percent = 100.0 * (value - from) / from;
    let sign = if percent > 0.0 { "+" } else { "−" };
    let size = percent.abs();
    match size {
        s if s < 0.05 => format!("{sign}<0.1 %"),
        s if s < 10.0 => format!("{sign}{s:.1} %"),
        s => format!("{sign}{s:.0} %"),
    }
}

/// A number, alone in a text.
fn alone(text: &str) -> Option<f64> {
    let numbers: Vec<f64> = text.split_whitespace().filter_map(|word| word.parse().ok()).collect();
    if numbers.len() == 1 { Some(numbers[0]) } else { None }
}

/// Where values lie on a chart.
type Points = Vec<(f64, Option<f64>)>;

/// The series of a chart of runs, in their order.
const TONES: [Tone; 4] = [Tone::Water, Tone::Amber, Tone::Clay, Tone::Moss];

/// Figures over the first key that varies in numbers, a line for each of what else varies; over the numbers of runs where none does, or
/// there would be too many lines.
fn chart(of: &Figure, keys: &[String], rows: &[(i32, RunRow)], units: Units) -> Option<String> {
    let value = |row: &RunRow, key: &String| row.own.iter().find(|(k, _)| k == key).map(|(_, v)| v.clone());
    let number = |row: &RunRow, key: &String| alone(&value(row, key)?);
    let along = keys.iter().find(|key| {
        let all: Option<Vec<f64>> = rows.iter().map(|(_, row)| number(row, key)).collect();
        all.is_some_and(|all| all.iter().any(|v| *v != all[0]))
    });
    let factor = of.quantity.map_or(1.0, |(_, factor)| factor);
    let mut lines: Vec<(String, Points)> = Vec::new();
    for (at, row) in rows {
        let Some(y) = row.figure(of.column).map(|v| v * factor) else { continue };
        let (name, x) = match along {
            Some(key) => {
                let others = keys.iter().filter(|other| *other != key).filter_map(|other| value(row, other));
                (others.collect::<Vec<_>>().join(", "), number(row, key)?)
            }
            None => (String::new(), f64::from(*at)),
        };
        match lines.iter_mut().find(|(other, _)| *other == name) {
            Some((_, points)) => points.push((x, Some(y))),
            None => lines.push((name, vec![(x, Some(y))])),
        }
    }
    let mut by_value = along.is_some();
    if lines.len() > TONES.len() {
        by_value = false;
        let points = rows.iter().map(|(at, row)| (f64::from(*at), row.figure(of.column).map(|v| v * factor)));
        lines = vec![(String::new(), points.collect())];
    }
    if lines.iter().map(|(_, points)| points.len()).max().unwrap_or(0) < 2 {
        return None;
    }
    let up = match of.quantity {
        Some((quantity, _)) => Axis::of(of.title, quantity, units),
        None => Axis::plain(of.title),
    };
    let (x, shape) = match along.filter(|_| by_value) {
        Some(key) => (Axis::plain(key.clone()), Shape::LineAndPoints),
        None => (Axis::plain("run").whole(), Shape::Points),
    };
    let mut chart = Chart::new("runs", format!("{} of the runs that are done", of.title)).x(x).y(up);
    for ((name, mut points), tone) in lines.into_iter().zip(TONES) {
        points.sort_by(|a, b| a.0.total_cmp(&b.0));
        let name = if name.is_empty() { of.title.to_owned() } else { name };
        chart = chart.series(Series::new(name, tone, shape.clone(), points));
    }
    figure(&chart)
}

async fn looked_at(app: &App, batch: &Batch, looked: Looked) -> Result<Runs> {
    let keys: Vec<String> = serde_json::from_value(batch.keys.clone())?;
    let runs = app.store.runs(batch.id).await?;
    let rows: Vec<RunRow> = runs.iter().map(row_of).collect::<bothros_workflow::Result<_>>()?;
    let is_done = |run: &Run| run.state == JobState::Done.name();
    let first = runs.iter().find(|r| is_done(r)).map(|r| r.number);
    let against = looked.against.filter(|n| runs.iter().any(|r| r.number == *n && is_done(r))).or(first);
    let reference = runs.iter().position(|r| Some(r.number) == against).map(|at| &rows[at]);
    let chosen = FIGURES.iter().find(|f| Some(f.column) == looked.figure.as_deref()).unwrap_or(&FIGURES[0]);
    let units = quantity::units();
    let mut files = app.store.files_of_runs(batch.id).await?;
    let row = |(run, row): (&Run, &RunRow)| {
        let of =
            |key: &String| row.own.iter().find(|(k, _)| k == key).map_or(String::new(), |(_, v)| v.clone());
        let number = |f: &Figure| {
            let value = row.figure(f.column)?;
            let other = reference.filter(|_| Some(run.number) != against).and_then(|r| r.figure(f.column));
            Some((told(f, value), other.map_or(String::new(), |other| differs(value, other))))
        };
        let running = run.state == JobState::Running.name();
        let files = files.remove(&run.id).unwrap_or_default();
        Row {
            mapped: is_done(run)
                && Some(run.number) != against
                && files.iter().any(|file| file == "network.gpkg"),
            id: run.id,
            number: run.number,
            own: keys.iter().map(of).collect(),
            state: row.state.clone(),
            share: running.then_some((run.progress * 100.0).round() as u32),
            message: if is_done(run) || run.message == "waiting for a worker" {
                String::new()
            } else {
                run.message.clone()
            },
            took: run.seconds().map_or(String::new(), |s| format!("{s:.1} s")),
            figures: FIGURES.iter().map(|f| number(f).unwrap_or_default()).collect(),
            done: is_done(run),
            reference: Some(run.number) == against,
            files,
        }
    };
    let shown: Vec<Row> = runs.iter().zip(&rows).map(row).collect();
    let count =
        |states: &[JobState]| runs.iter().filter(|r| states.iter().any(|s| r.state == s.name())).count();
    let heads = app.store.batches().await?;
    let head = heads.iter().find(|h| h.id == batch.id).ok_or(bothros_store::Error::NotFound("batch"))?;
    let done: Vec<(i32, RunRow)> =
        runs.iter().zip(rows).filter(|(r, _)| is_done(r)).map(|(r, row)| (r.number, row)).collect();
    let active = runs.iter().any(Run::is_active);
    let other = (active && batch.program != PROGRAM).then(|| {
        let made = &batch.program;
        format!("{made} made this batch, and this is {PROGRAM}: results of two versions are not mixed. Start a worker of that version, or begin it anew.")
    });
    Ok(Runs {
        batch: batch.id,
        standing: standing(head),
        titles: FIGURES.iter().map(|f| f.title).collect(),
        rows: shown,
        active,
        stopped: count(&[JobState::Cancelled, JobState::Interrupted]),
        failed: count(&[JobState::Failed]),
        done: done.len(),
        against: against.unwrap_or(0),
        chosen: chosen.column,
        columns: FIGURES.iter().map(|f| (f.column, f.title)).collect(),
        chart: chart(chosen, &keys, &done, units),
        keys,
        other,
    })
}

/// The page of a batch.
pub async fn show(
    State(app): State<App>,
    Path(batch): Path<i64>,
    Extension(token): Extension<Token>,
) -> Result<Response> {
    let batch = match app.store.batch(batch).await {
        Ok(batch) => batch,
        Err(bothros_store::Error::NotFound(_)) => {
            return crate::shell::start::nowhere(Extension(token)).await;
        }
        Err(error) => return Err(error.into()),
    };
    let runs = crate::ui::render(&looked_at(&app, &batch, Looked::default()).await?)?;
    page(&Show {
        token,
        batch: batch.id,
        begun: batch.created_at.format("%-d %b %Y, %H:%M UTC").to_string(),
        by_service: batch.made_by == "service",
        name: batch.name,
        runs,
    })
}

/// Its runs, as they are now.
pub async fn runs(
    State(app): State<App>,
    Path(batch): Path<i64>,
    Query(looked): Query<Looked>,
) -> Result<Response> {
    let batch = app.store.batch(batch).await?;
    page(&looked_at(&app, &batch, looked).await?)
}

/// Stops what has not ended.
pub async fn stop(State(app): State<App>, Path(batch): Path<i64>) -> Result<Response> {
    app.store.batch(batch).await?;
    app.store.stop_batch(batch).await?;
    runs(State(app), Path(batch), Query(Looked::default())).await
}

#[derive(Deserialize)]
pub struct Which {
    failed: Option<String>,
}

/// Queues again what was stopped, or what failed.
pub async fn take_up(
    State(app): State<App>,
    Path(batch): Path<i64>,
    Form(which): Form<Which>,
) -> Result<Response> {
    app.store.batch(batch).await?;
    if app.store.take_up_batch(batch, which.failed.is_some()).await? == 0 {
        return Err(WebError::refused("there is no run that could be taken up again"));
    }
    runs(State(app), Path(batch), Query(Looked::default())).await
}

/// Deletes a batch.
pub async fn delete(State(app): State<App>, Path(batch): Path<i64>) -> Result<Response> {
    app.store.delete_batch(batch).await?;
    Ok((StatusCode::NO_CONTENT, [("hx-redirect", "/batches")]).into_response())
}
