//! Rasters inside a catchment: what those of the study and those that were given hold; adding and removing them.

use askama::Template;
use axum::extract::{Multipart, Path, State};
use axum::response::Response;
use bothros_core::catchments::Holds;
use bothros_products::Quantity;
use bothros_workflow::{NewValueRaster, ZonalFacts, zonal_of};
use serde::Deserialize;

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::http::form::Form;
use crate::http::upload::receive;
use crate::ui::form::choice;
use crate::ui::{page, quantity};

struct Raster {
    title: String,
    mean: String,
    sum: String,
    least: String,
    most: String,
    with_value: String,
}

struct Class {
    code: i64,
    area: String,
    share: String,
}

#[derive(Template)]
#[template(path = "stages/catchments/zonal.html")]
struct Told {
    rasters: Vec<Raster>,
    /// rasters with classes: the name, the classes from the largest down, those left out of the list
    classes: Vec<(String, Vec<Class>, usize)>,
    lakes: String,
    changed: Option<String>,
}

/// Classes on the desk; the package has all.
const MOST_CLASSES: usize = 12;

fn row(raster: &ZonalFacts, share: &dyn Fn(u64) -> String) -> Raster {
    let value = |v: f64| match (raster.found.cells, raster.unit.as_str()) {
        (0, _) => "none".to_owned(),
        (_, "") => quantity::told(raster.quantity, v),
        (_, unit) => format!("{} {unit}", quantity::told(raster.quantity, v)),
    };
    Raster {
        title: raster.title.clone(),
        mean: value(raster.found.mean().unwrap_or(0.0)),
        sum: match (raster.found.cells, raster.adds_up) {
            (0, _) => "none".into(),
            (_, false) => "–".into(),
            (_, true) => quantity::real(raster.found.sum, 6),
        },
        least: value(raster.found.least),
        most: value(raster.found.most),
        with_value: share(raster.found.cells),
    }
}

/// What the rasters hold inside a catchment.
pub async fn zonal(State(app): State<App>, Path((study, point)): Path<(i64, i64)>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let of = app.store.pour_point(study, point).await?;
    let found = zonal_of(&app.store, &app.grids, &facts, &of).await?;
    let told = quantity::blocking(move || {
        let share = |cells: u64| quantity::told(Quantity::Share, cells as f64 / found.cells.max(1) as f64);
        let classes = found.classes.iter().map(|(name, by_class)| {
            let mut all: Vec<(i64, u64)> = by_class.iter().map(|(&code, &cells)| (code, cells)).collect();
            all.sort_by_key(|&(code, cells)| (std::cmp::Reverse(cells), code));
            let class = |&(code, cells): &(i64, u64)| Class {
                code,
                area: quantity::area(found.frame.area_of(cells).as_m2()),
                share: share(cells),
            };
            let more = all.len().saturating_sub(MOST_CLASSES);
            (name.clone(), all.iter().take(MOST_CLASSES).map(class).collect(), more)
        });
        Ok(Told {
            classes: classes.collect(),
            rasters: found.rasters.iter().map(|r| row(r, &share)).collect(),
            lakes: share(found.lakes),
            changed: found
                .changed
                .map(|(cut, filled)| format!("{} filled, {} cut", share(filled), share(cut))),
        })
    });
    page(&told.await?)
}

/// Takes a raster (`dem`, as every raster is sent), its name, its unit, what its values are, and where it comes from.
pub async fn add(State(app): State<App>, Path(study): Path<i64>, form: Multipart) -> Result<Response> {
    let received = receive(form, app.options.upload_limit).await?;
    let file = received.files.first().ok_or_else(|| WebError::refused("choose a raster"))?;
    let holds = choice(
        "what its values are",
        &received.text("holds"),
        &[("values", Holds::Values), ("classes", Holds::Classes)],
    )?;
    let short = |key: &str, most: usize| received.text(key).chars().take(most).collect::<String>();
    let new = NewValueRaster {
        name: short("name", 60),
        unit: short("unit", 20),
        holds,
        file: file.file.clone(),
        path: file.path.clone(),
        provenance: received.provenance(),
    };
    bothros_workflow::add_raster(&app.store, study, new).await?;
    Ok(changed(STUDY))
}

/// A raster by its name.
#[derive(Deserialize)]
pub struct Named {
    pub name: String,
}

/// What the classes of a raster stand for.
#[derive(Deserialize)]
pub struct Lookup {
    name: String,
    lookup: String,
}

/// Keeps what the classes of a raster stand for.
pub async fn lookup(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(of): Form<Lookup>,
) -> Result<Response> {
    bothros_workflow::set_lookup(&app.store, study, &of.name, &of.lookup).await?;
    Ok(changed(STUDY))
}

/// Removes a raster, whether it was given or follows from a formula.
pub async fn remove(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(of): Form<Named>,
) -> Result<Response> {
    bothros_workflow::remove_raster(&app.store, study, &of.name).await?;
    Ok(changed(STUDY))
}
