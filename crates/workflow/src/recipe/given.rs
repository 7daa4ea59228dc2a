//! A recipe that comes from elsewhere: as a zip with what it reads, or alone.

use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use bothros_recipe::Recipe;

use crate::{Error, Result};

/// A recipe's text, and the files beside it: what it calls each, and where it lies.
pub(crate) struct Unpacked {
    pub text: String,
    pub files: Vec<(String, PathBuf)>,
}

/// Unpacks a recipe and the files beside it from a zip, `limit` bytes at most.
///
/// # Errors
/// [`Error::Refused`] for what is no such zip.
pub(crate) fn unpacked(path: &Path, into: &Path, limit: u64) -> Result<Unpacked> {
    let broken = |what: &str| Error::Refused(format!("the file is no recipe with its files: {what}"));
    let mut zip = zip::ZipArchive::new(File::open(path)?).map_err(|_| broken("it is no zip"))?;
    let (mut recipes, mut files, mut left) = (Vec::new(), Vec::new(), limit);
    for at in 0..zip.len() {
        let entry = zip.by_index(at).map_err(|_| broken("it is damaged"))?;
        if entry.is_dir() {
            continue;
        }
        let name = entry.enclosed_name().ok_or_else(|| broken("it names files outside itself"))?;
        let target = into.join(&name);
        if let Some(parent) = target.parent() {
            std::fs::create_dir_all(parent)?;
        }
        // What it says of its size may be wrong.
        let mut read = entry.take(left.saturating_add(1));
        let bytes = std::io::copy(&mut read, &mut File::create(&target)?)?;
        left = left
            .checked_sub(bytes)
            .ok_or_else(|| broken("unpacked it is larger than this server accepts"))?;
        let name = name.to_string_lossy().into_owned();
        match name.ends_with(".toml") {
            true => recipes.push((name, target)),
            false => files.push((name, target)),
        }
    }
    match recipes.as_slice() {
        [(name, path)] if !name.contains('/') => Ok(Unpacked { text: std::fs::read_to_string(path)?, files }),
        [] => Err(broken("it holds no .toml")),
        [_] => Err(broken("its .toml lies in a folder; it belongs at the top")),
        _ => Err(broken("it holds several .toml files")),
    }
}

/// Puts a recipe that comes alone into a zip.
///
/// # Errors
/// [`Error::Refused`] for what is no text; those of the disk.
pub(crate) fn packed(recipe: &Path, into: &Path) -> Result<()> {
    let text = std::fs::read_to_string(recipe)
        .map_err(|_| Error::Refused("the file is no text; a recipe is written in TOML".into()))?;
    let mut zip = zip::ZipWriter::new(File::create(into)?);
    zip.start_file("recipe.toml", zip::write::SimpleFileOptions::default())?;
    zip.write_all(text.as_bytes())?;
    zip.finish()?;
    Ok(())
}

/// Reads a recipe whose files lie in a folder, and names nothing outside it.
///
/// # Errors
/// [`Error::Refused`] with the key or line that is wrong.
pub(crate) fn parsed(text: &str, folder: &Path) -> Result<Recipe> {
    let refused = |e: bothros_recipe::Error| Error::Refused(e.to_string());
    let recipe = Recipe::parse(text, folder).map_err(refused)?;
    recipe.stay_inside().map_err(refused)?;
    Ok(recipe)
}
