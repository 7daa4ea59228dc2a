//! Beginning from a boundary: what an elevation archive has around it, and fetching it.

use askama::Template;
use axum::Json;
use axum::extract::{Multipart, Path, State};
use axum::response::Response;
use bothros_archive::{Archive, Collection};
use bothros_formats::{Crs, Geometry, Wanted, read_features};
use bothros_workflow::{Boundary, Fetch, FetchPlan, blocking, plan_fetch};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::App;
use crate::http::changed::{STUDY, changed};
use crate::http::error::{Result, WebError};
use crate::http::form::{Form, NAME, check};
use crate::http::upload::receive_layer;
use crate::stages::terrain::actions::MARGIN;
use crate::ui::{page, quantity};

fn archive(app: &App) -> Result<&str> {
    app.options
        .archive
        .as_deref()
        .ok_or_else(|| WebError::refused("this server was started without an elevation archive (--archive)"))
}

/// What the archive has, for the page that chooses from it.
pub async fn collections(State(app): State<App>) -> Result<Json<Value>> {
    let archive = Archive::new(archive(&app)?)?;
    Ok(Json(json!({ "host": archive.host(), "collections": archive.collections().await? })))
}

/// More corners than that are not needed to look for elevations.
const MOST_CORNERS: usize = 100_000;

/// Reads the boundary from a file; answers with its name and polygons in longitude and latitude.
pub async fn boundary(State(app): State<App>, form: Multipart) -> Result<Json<Boundary>> {
    let received = receive_layer(form, app.options.upload_limit).await?;
    let (path, file) = (received.path.clone(), received.file.clone());
    let layer = received.text("layer");
    let read = blocking(move || {
        let layer = Some(layer.as_str()).filter(|l| !l.is_empty());
        Ok(read_features(&path, &file, layer, Wanted::Polygons, &Crs::parse("EPSG:4326")?)?)
    })
    .await?;
    let all = read.features.into_iter().filter_map(|f| match f.shape {
        Geometry::Polygons(polygons) => Some(polygons),
        _ => None,
    });
    let polygons: Vec<_> = all.flatten().collect();
    if polygons.iter().flatten().map(Vec::len).sum::<usize>() > MOST_CORNERS {
        return Err(WebError::refused(format!(
            "{} has more than {} corners: choose a simpler outline, or only the polygons that matter",
            received.file,
            quantity::whole(MOST_CORNERS as u64)
        )));
    }
    let name = received.file.rsplit_once('.').map_or(received.file.as_str(), |(stem, _)| stem).to_owned();
    Ok(Json(Boundary { name, polygons }))
}

/// What is wanted.
#[derive(Deserialize)]
pub struct Wish {
    /// the name of a collection
    collection: String,
    boundary: Boundary,
    margin_m: f64,
    #[serde(default)]
    name: String,
    #[serde(default)]
    description: String,
}

async fn collection(app: &App, id: &str) -> Result<Collection> {
    let all = Archive::new(archive(app)?)?.collections().await?;
    all.into_iter()
        .find(|c| c.id == id)
        .ok_or_else(|| WebError::refused("the archive has no such set of elevations: reload the page"))
}

async fn fetch(app: &App, wish: &Wish) -> Result<Fetch> {
    for (key, text) in
        [("name", &wish.name), ("description", &wish.description), ("name", &wish.boundary.name)]
    {
        check(key, text)?;
    }
    Ok(Fetch {
        archive: archive(app)?.to_owned(),
        collection: collection(app, &wish.collection).await?,
        boundary: wish.boundary.clone(),
        margin_m: wish.margin_m,
        candidate: false,
    })
}

/// What is there for a wish, in words.
fn told(fetch: &Fetch, plan: &FetchPlan) -> String {
    let files = plan.offers.len();
    let mut told = format!(
        "{files} file{} of {}{}",
        if files == 1 { "" } else { "s" },
        fetch.collection.title,
        match plan.cells {
            Some(cells) => format!(
                ": about {} cells, {} at most to fetch",
                quantity::whole(cells.round() as u64),
                quantity::bytes(cells as u64 * 4)
            ),
            None => String::new(),
        }
    );
    let dates: std::collections::BTreeSet<&str> =
        plan.offers.iter().map(|o| o.date.as_str()).filter(|d| !d.is_empty()).collect();
    if let (Some(first), Some(last)) = (dates.first(), dates.last()) {
        told += &match first == last {
            true => format!("; surveyed {first}"),
            false => format!("; surveyed {first} to {last}"),
        };
    }
    if plan.covered < 0.999 {
        told += &format!(
            ". They cover {:.0} % of the area with its margin; the rest stays without elevations",
            plan.covered * 100.0
        );
    }
    told + "."
}

pub async fn plan(State(app): State<App>, Json(wish): Json<Wish>) -> Result<Json<Value>> {
    let fetch = fetch(&app, &wish).await?;
    let plan = plan_fetch(&fetch).await?;
    Ok(Json(json!({ "told": told(&fetch, &plan), "extent": plan.extent,
        "files": plan.offers.iter().map(|o| o.extent).collect::<Vec<_>>() })))
}

/// Makes a study around the boundary; answers with its address.
pub async fn begin(State(app): State<App>, Json(wish): Json<Wish>) -> Result<Json<Value>> {
    let fetch = fetch(&app, &wish).await?;
    let name: String = match wish.name.trim() {
        "" => wish.boundary.name.chars().take(NAME).collect(),
        name => name.chars().take(NAME).collect(),
    };
    let (study, _) =
        bothros_workflow::begin_from_boundary(&app.store, &name, wish.description.trim(), &fetch).await?;
    Ok(Json(json!({ "location": format!("/studies/{}/?stage=terrain", study.id) })))
}

pub async fn again(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    bothros_workflow::fetch_again(&app.store, study, archive(&app)?).await?;
    Ok(changed(STUDY))
}

/// Another DEM of the study's area.
#[derive(Deserialize)]
pub struct Another {
    collection: String,
    #[serde(default)]
    margin_m: String,
}

pub async fn candidate(
    State(app): State<App>,
    Path(study): Path<i64>,
    Form(form): Form<Another>,
) -> Result<Response> {
    let collection = collection(&app, &form.collection).await?;
    let margin_m = MARGIN.read_optional(&form.margin_m)?.unwrap_or(0.0);
    bothros_workflow::fetch_candidate(&app.store, study, archive(&app)?, collection, margin_m).await?;
    Ok(changed(STUDY))
}

#[derive(Template)]
#[template(path = "stages/terrain/archive_sets.html")]
struct Sets {
    study: i64,
    host: String,
    sets: Vec<(String, String)>,
    problem: Option<String>,
}

/// What the archive has, as a form for another DEM of the study's area.
pub async fn archive_sets(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let mut sets = Sets { study, host: String::new(), sets: Vec::new(), problem: None };
    let Some(address) = &app.options.archive else {
        sets.problem = Some("This server was started without an elevation archive.".into());
        return page(&sets);
    };
    let archive = Archive::new(address)?;
    sets.host = archive.host();
    match archive.collections().await {
        Ok(all) => {
            let title = |c: bothros_archive::Collection| match c.resolution_m {
                Some(m) => (c.id, format!("{}, {}", c.title, quantity::size(m))),
                None => (c.id, c.title),
            };
            sets.sets = all.into_iter().map(title).collect();
        }
        Err(error) => sets.problem = Some(error.to_string()),
    }
    page(&sets)
}
