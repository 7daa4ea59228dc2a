//! Files on their way in, streamed to disk.

use axum::extract::Multipart;
use axum::extract::multipart::{Field, MultipartError};
use axum::http::{HeaderValue, StatusCode};
use axum::response::Response;
use bothros_formats::{layer_file_name, unpack};
use bothros_workflow::{NewDemFile, Provenance};
use tokio::io::AsyncWriteExt;

use crate::http::error::{Result, WebError};
use crate::http::form::text_of;

pub(crate) fn broken_off(error: MultipartError) -> WebError {
    if error.status() == StatusCode::PAYLOAD_TOO_LARGE {
        return WebError {
            status: StatusCode::PAYLOAD_TOO_LARGE,
            message: "the upload is larger than this server accepts".into(),
        };
    }
    WebError {
        status: StatusCode::BAD_REQUEST,
        message: "the upload was broken off; nothing was kept. Try again".into(),
    }
}

/// What the user calls the file of a part, without directories; empty where it is none.
pub(crate) fn given_name(field: &Field<'_>) -> String {
    let given = field.file_name().unwrap_or_default();
    let own = given.rsplit(['/', '\\']).next().unwrap_or_default();
    own.chars().filter(|c| !c.is_control()).take(120).collect()
}

/// The most texts that a form has.
const MOST_TEXTS: usize = 50;

fn insert(texts: &mut std::collections::HashMap<String, String>, key: String, text: String) -> Result<()> {
    if texts.len() >= MOST_TEXTS || key.len() > 100 {
        return Err(WebError::refused("the form has more fields than any page of this server sends"));
    }
    texts.insert(key, text);
    Ok(())
}

/// Writes a part of the request to disk, `limit` bytes at most.
pub(crate) async fn keep(mut field: Field<'_>, path: &std::path::Path, limit: u64) -> Result<u64> {
    let mut file = tokio::fs::File::create(path).await?;
    let mut bytes = 0;
    while let Some(piece) = field.chunk().await.map_err(broken_off)? {
        bytes += piece.len() as u64;
        if bytes > limit {
            let message = format!(
                "the file is larger than {}, the most this server accepts; crop it, or raise the limit with BOTHROS_UPLOAD_LIMIT_MB",
                crate::ui::quantity::bytes(limit)
            );
            return Err(WebError { status: StatusCode::PAYLOAD_TOO_LARGE, message });
        }
        file.write_all(&piece).await?;
    }
    file.flush().await?;
    Ok(bytes)
}

/// What came with a form: the files of a DEM, and texts.
pub(crate) struct Received {
    /// holds the files; they go when it goes
    _dir: tempfile::TempDir,
    /// the files in the order in which they came, ASCII grids with their .prj beside them
    pub files: Vec<NewDemFile>,
    /// a recipe with its files, as a zip
    pub recipe: Option<std::path::PathBuf>,
    texts: std::collections::HashMap<String, String>,
}

impl Received {
    pub fn text(&self, key: &str) -> String {
        self.texts.get(key).map(|t| t.trim().to_owned()).unwrap_or_default()
    }
    pub fn provenance(&self) -> Provenance {
        Provenance {
            source: self.text("source"),
            date: self.text("date"),
            scale: self.text("scale"),
            licence: self.text("licence"),
            datum: self.text("datum"),
        }
    }
    /// The .prj beside the first file, if one came.
    pub fn projection(&self) -> Option<std::path::PathBuf> {
        self.files.first().map(|f| f.path.with_extension("prj")).filter(|p| p.exists())
    }
}

/// Receives `dem` (one file or several), `prj` (a .prj beside each ASCII grid, by its name), `recipe` (a zip) and texts.
pub(crate) async fn receive(mut form: Multipart, limit: u64) -> Result<Received> {
    let dir = tempfile::tempdir()?;
    let (mut files, mut projections) = (Vec::<NewDemFile>::new(), Vec::<(String, std::path::PathBuf)>::new());
    let mut texts = std::collections::HashMap::new();
    let mut number = 0;
    let mut recipe = None;
    while let Some(field) = form.next_field().await.map_err(broken_off)? {
        let key = field.name().unwrap_or_default().to_owned();
        if key == "recipe" && field.file_name().is_some() {
            let path = dir.path().join("recipe.zip");
            // A field of files that was left empty is sent too.
            if !given_name(&field).is_empty() && keep(field, &path, limit).await? > 0 {
                recipe = Some(path);
            }
            continue;
        }
        if key != "dem" && key != "prj" {
            let text = text_of(field, &key).await?;
            insert(&mut texts, key, text)?;
            continue;
        }
        let given = if field.file_name().is_some() { given_name(&field) } else { "dem".into() };
        if given.is_empty() {
            continue;
        }
        number += 1;
        // The names on disk are ours.
        let own = dir.path().join(number.to_string());
        tokio::fs::create_dir(&own).await?;
        if key == "prj" {
            let path = own.join("dem.prj");
            keep(field, &path, 1 << 20).await?;
            projections.push((stem(&given), path));
            continue;
        }
        let ascii = given.to_lowercase().ends_with(".asc") || given.to_lowercase().ends_with(".txt");
        let path = own.join(if ascii { "dem.asc" } else { "dem.tif" });
        if keep(field, &path, limit).await? == 0 {
            return Err(WebError::refused(format!("{given} is empty; choose another file")));
        }
        files.push(NewDemFile { file: given, path });
    }
    for file in &files {
        let own = projections.iter().find(|(name, _)| *name == stem(&file.file));
        // A single .prj belongs to a single file, whatever its name.
        let own = own.or(projections.first().filter(|_| projections.len() == 1 && files.len() == 1));
        if let Some((_, path)) = own {
            tokio::fs::copy(path, file.path.with_extension("prj")).await?;
        }
    }
    Ok(Received { _dir: dir, files, recipe, texts })
}

/// A recipe that came with a form, and texts.
pub(crate) struct ReceivedRecipe {
    /// holds the file; it goes when it goes
    _dir: tempfile::TempDir,
    /// name as the user knows it, and where it lies; none where none came
    pub recipe: Option<(String, std::path::PathBuf)>,
    texts: std::collections::HashMap<String, String>,
}

impl ReceivedRecipe {
    pub fn text(&self, key: &str) -> String {
        self.texts.get(key).map(|t| t.trim().to_owned()).unwrap_or_default()
    }
}

/// Receives `recipe`, a zip or a .toml, and texts.
pub(crate) async fn receive_recipe(mut form: Multipart, limit: u64) -> Result<ReceivedRecipe> {
    let dir = tempfile::tempdir()?;
    let (mut recipe, mut texts) = (None, std::collections::HashMap::new());
    while let Some(field) = form.next_field().await.map_err(broken_off)? {
        let key = field.name().unwrap_or_default().to_owned();
        if field.file_name().is_none() {
            let text = text_of(field, &key).await?;
            insert(&mut texts, key, text)?;
            continue;
        }
        let name = given_name(&field);
        let path = dir.path().join("recipe");
        // A field of files that was left empty is sent too.
        if !name.is_empty() && keep(field, &path, limit).await? > 0 {
            recipe = Some((name, path));
        }
    }
    Ok(ReceivedRecipe { _dir: dir, recipe, texts })
}

/// A file's name without its ending.
fn stem(name: &str) -> String {
    name.rsplit_once('.').map_or(name, |(stem, _)| stem).to_lowercase()
}

/// A layer that came with a form, and texts.
pub(crate) struct ReceivedLayer {
    /// holds the files; they go when it goes
    _dir: tempfile::TempDir,
    /// name as the user knows it
    pub file: String,
    /// where it lies, with its parts beside it
    pub path: std::path::PathBuf,
    texts: std::collections::HashMap<String, String>,
}

impl ReceivedLayer {
    pub fn text(&self, key: &str) -> String {
        self.texts.get(key).map(|t| t.trim().to_owned()).unwrap_or_default()
    }
}

/// Receives any number of `file` parts (all parts of a shapefile at once, or zipped) and texts.
pub(crate) async fn receive_layer(mut form: Multipart, limit: u64) -> Result<ReceivedLayer> {
    let dir = tempfile::tempdir()?;
    let mut given: Vec<(String, std::path::PathBuf)> = Vec::new();
    let mut texts = std::collections::HashMap::new();
    while let Some(field) = form.next_field().await.map_err(broken_off)? {
        let name = field.name().unwrap_or_default().to_owned();
        if name != "file" {
            let text = text_of(field, &name).await?;
            insert(&mut texts, name, text)?;
            continue;
        }
        let file = given_name(&field);
        if file.is_empty() {
            continue;
        }
        if file.to_lowercase().ends_with(".zip") {
            let (archive, to) = (dir.path().join("archive"), dir.path().to_owned());
            keep(field, &archive, limit).await?;
            let unpacked = tokio::task::spawn_blocking(move || unpack(&file, &archive, &to, limit));
            given.extend(unpacked.await.map_err(std::io::Error::other)??);
            continue;
        }
        let on_disk = layer_file_name(&file).ok_or_else(|| {
            WebError::refused(format!(
                "{file} is no layer that can be read: choose a GeoPackage, GeoJSON, FlatGeobuf, Shapefile with all its parts or zipped, or a CSV of points"
            ))
        })?;
        let path = dir.path().join(on_disk);
        keep(field, &path, limit).await?;
        given.push((file, path));
    }
    let ends = |path: &std::path::Path, ending: &str| path.extension().is_some_and(|e| e == ending);
    let part = |path: &std::path::Path| ["shx", "dbf", "prj", "cpg"].iter().any(|e| ends(path, e));
    let Some((file, path)) = given.iter().find(|(_, path)| !part(path)).cloned() else {
        let why = match given.is_empty() {
            true => "choose a file",
            false => "the shapefile’s main part, .shp, is missing: choose all its parts together",
        };
        return Err(WebError::refused(why));
    };
    // Without its .prj it is asked which CRS its coordinates are in.
    if ends(&path, "shp") {
        for (ending, why) in [("shx", "its index"), ("dbf", "its table")] {
            if !given.iter().any(|(_, p)| ends(p, ending)) {
                return Err(WebError::refused(format!(
                    "{file} came without its .{ending}, {why}: choose all parts of the shapefile together"
                )));
            }
        }
    }
    Ok(ReceivedLayer { _dir: dir, file, path, texts })
}

/// Text as a header can carry it.
fn percent(text: &str) -> String {
    text.bytes()
        .map(
            |b| if b.is_ascii_graphic() && b != b'%' { (b as char).to_string() } else { format!("%{b:02X}") },
        )
        .collect()
}

/// An answer that tells the page what became of an upload.
pub(crate) fn told(mut response: Response, text: &str) -> Response {
    if let Ok(value) = HeaderValue::from_str(&percent(text)) {
        response.headers_mut().insert("X-Told", value);
    }
    response
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn headers_carry_any_text() {
        assert_eq!(percent("3 of ü%"), "3%20of%20%C3%BC%25");
    }
}
