//! Single layers as files.

use axum::extract::{Path, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use bothros_formats::{VectorFormat, write_layers};
use bothros_workflow::LAYERS;

use crate::App;
use crate::http::error::{Result, WebError};

/// A layer in the format that the end of its name tells: gpkg, geojson, or zip for a Shapefile.
pub async fn layer(State(app): State<App>, Path((study, file)): Path<(i64, String)>) -> Result<Response> {
    let nothing = || WebError::nothing("there is no such layer");
    let (name, end) = file.split_once('.').ok_or_else(nothing)?;
    let (format, inside, kind) = match end {
        "gpkg" => (VectorFormat::GeoPackage, "gpkg", "application/geopackage+sqlite3"),
        "geojson" => (VectorFormat::GeoJson, "geojson", "application/geo+json"),
        "zip" => (VectorFormat::Shapefile, "shp", "application/zip"),
        _ => return Err(nothing()),
    };
    let table = LAYERS.iter().find(|t| t.name == name).ok_or_else(nothing)?;
    let facts = app.facts(study).await?;
    let crs = facts.terrain.as_ref().map(|t| t.crs.clone());
    let crs = crs.ok_or_else(|| WebError::refused("the DEM is not prepared yet"))?;
    let layer = Box::pin(bothros_workflow::layer(&app.store, &app.grids, &facts, table.name)).await?;
    let short = facts.short_name();
    let own = format!("{short}_{name}");
    let stem = own.clone();
    let bytes = bothros_workflow::blocking(move || {
        let dir = tempfile::tempdir()?;
        let path = dir.path().join(format!("{stem}.{inside}"));
        write_layers(&path, format, &crs, std::slice::from_ref(&layer))?;
        if format != VectorFormat::Shapefile {
            return Ok(std::fs::read(&path)?);
        }
        let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
        for part in ["shp", "shx", "dbf", "prj", "cpg"] {
            let path = path.with_extension(part);
            if path.exists() {
                zip.start_file(format!("{stem}.{part}"), zip::write::SimpleFileOptions::default())?;
                std::io::Write::write_all(&mut zip, &std::fs::read(&path)?)?;
            }
        }
        Ok(zip.finish()?.into_inner())
    })
    .await?;
    let headers = [
        (header::CONTENT_TYPE, kind.to_owned()),
        // Names are made of lower-case letters, digits and underscores.
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{own}.{end}\"")),
    ];
    Ok((headers, bytes).into_response())
}
