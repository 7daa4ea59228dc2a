//! Archives of layers: unpacked under names of our own.

use std::io::Read;
use std::path::{Path, PathBuf};

use bothros_core::Silent;

use crate::apart::{self, Answer, Request};
use crate::{Error, Result};

/// The most files that an archive may hold.
const MOST_ENTRIES: usize = 200;

/// The name on disk of one part of a layer, by its ending; what the user calls it never becomes a path.
///
/// ```
/// # use bothros_formats::layer_file_name;
/// assert_eq!(layer_file_name("../../rivers.SHP"), Some("layer.shp"));
/// assert_eq!(layer_file_name("rivers.exe"), None);
/// ```
pub fn layer_file_name(given: &str) -> Option<&'static str> {
    let ending = Path::new(given).extension()?.to_str()?.to_lowercase();
    Some(match ending.as_str() {
        "gpkg" => "layer.gpkg",
        "geojson" | "json" => "layer.geojson",
        "fgb" => "layer.fgb",
        "csv" => "layer.csv",
        "shp" => "layer.shp",
        "shx" => "layer.shx",
        "dbf" => "layer.dbf",
        "prj" => "layer.prj",
        "cpg" => "layer.cpg",
        _ => return None,
    })
}

/// Unpacks the files of a ZIP archive that can be part of a layer, under names of our own into `dir`; `limit` bytes at
/// most in all. Returns the name that each has in the archive, and its place. `name` is what the user calls the archive.
///
/// # Errors
/// [`Error::Archive`] where it is damaged, holds several layers or none, or more than `limit` bytes.
pub fn unpack(name: &str, archive: &Path, dir: &Path, limit: u64) -> Result<Vec<(String, PathBuf)>> {
    let request =
        Request::Unpack { path: archive.to_owned(), name: name.to_owned(), into: dir.to_owned(), limit };
    match apart::ask(&request, &Silent) {
        Some(answer) => match answer? {
            Answer::Unpacked(found) => Ok(found),
            _ => Err(Error::unexpected(name)),
        },
        None => unpack_here(archive, name, dir, limit),
    }
}

/// As [`unpack`], in this process.
pub(crate) fn unpack_here(
    archive: &Path,
    name: &str,
    dir: &Path,
    limit: u64,
) -> Result<Vec<(String, PathBuf)>> {
    let refused = |what: String| Error::Archive { name: name.to_owned(), what };
    let damaged = |_| refused("is no archive that can be opened: pack it again as ZIP".into());
    let mut zip = zip::ZipArchive::new(std::fs::File::open(archive)?).map_err(damaged)?;
    if zip.len() > MOST_ENTRIES {
        return Err(refused(format!("holds {} files; a layer has a few", zip.len())));
    }
    let mut found = Vec::new();
    let mut left = limit;
    for at in 0..zip.len() {
        let entry = zip.by_index(at).map_err(damaged)?;
        let inside = entry.name().map_err(damaged)?.into_owned();
        let own = inside.rsplit(['/', '\\']).next().unwrap_or_default().to_owned();
        // What hides, and what systems add beside it, is no layer.
        if entry.is_dir() || own.starts_with('.') || inside.starts_with("__") {
            continue;
        }
        let Some(on_disk) = layer_file_name(&own) else { continue };
        let path = dir.join(on_disk);
        if path.exists() {
            return Err(refused("holds several layers: choose one, and add them one by one".into()));
        }
        let mut file = std::fs::File::create(&path)?;
        // What an archive says of its size is not believed.
        let bytes = std::io::copy(&mut entry.take(left.saturating_add(1)), &mut file).map_err(|e| match e
            .raw_os_error()
        {
            Some(libc::ENOSPC) => Error::Io(e),
            Some(libc::EFBIG) => too_large(name, limit),
            _ => refused("is damaged: pack it again".into()),
        })?;
        if bytes > left {
            return Err(too_large(name, limit));
        }
        left -= bytes;
        found.push((own, path));
    }
    if found.is_empty() {
        return Err(refused("holds no layer that can be read".into()));
    }
    Ok(found)
}

fn too_large(name: &str, limit: u64) -> Error {
    let most = limit as f64 / 1e6;
    Error::Archive {
        name: name.to_owned(),
        what: format!("unpacks to more than {most:.0} MB, the most that is accepted"),
    }
}
