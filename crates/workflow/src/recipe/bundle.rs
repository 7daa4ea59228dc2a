//! A recipe with all that it reads: in a folder, and in one file.

use std::fs::File;
use std::io::Write;
use std::path::Path;

use bothros_formats::{VectorFormat, write_layers};
use bothros_recipe::Terrain;
use bothros_store::Store;
use zip::CompressionMethod::{Deflated, Stored};
use zip::write::SimpleFileOptions;

use super::beginning::{dem_files, of_files};
use super::inputs::Inputs;
use super::pages::lay_out_sheets;
use super::write::INPUTS;
use crate::{Error, Facts, Result, blocking, boxed};

/// A recipe and the names of the files that lie beside it.
pub(crate) struct Laid {
    /// TOML
    pub text: String,
    /// what it reads
    pub files: Vec<String>,
}

/// What of a study's recipe lies beside it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Beside {
    /// the files of its DEM
    pub dem: bool,
    /// map sheets; without them the recipe lays out no pages
    pub pages: bool,
}

/// Lays what a study's recipe reads into a folder: layers and rasters, and what else is wanted.
///
/// # Errors
/// Those of [`study_recipe`](crate::study_recipe), of the store, and of the disk.
pub(crate) async fn lay_out(store: &Store, facts: &Facts, dir: &Path, beside: Beside) -> Result<Laid> {
    let terrain = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
    let (steps, written, _) = super::of_files(store, facts, beside.pages).await?;
    let short = facts.short_name();
    let mut files = Vec::new();
    if beside.dem {
        lay_out_dem(store, facts, &short, dir, &mut files).await?;
    }
    if beside.pages {
        files.extend(lay_out_sheets(store, facts, dir).await?);
    }
    for given in &steps.rasters {
        let name = format!("{short}_{}", given.suffix);
        store.fetch_file(given.file, &dir.join(&name)).await?;
        files.push(name);
    }
    if !written.layers.is_empty() {
        let name = format!("{short}_{INPUTS}");
        let (path, crs, layers) = (dir.join(&name), terrain.crs.clone(), written.layers);
        blocking(move || Ok(write_layers(&path, VectorFormat::GeoPackage, &crs, &layers)?)).await?;
        files.push(name);
    }
    Ok(Laid { text: written.text, files })
}

/// Lays the files of a DEM into a folder, and adds their names to `files`.
async fn lay_out_dem(
    store: &Store,
    facts: &Facts,
    short: &str,
    dir: &Path,
    files: &mut Vec<String>,
) -> Result<()> {
    for of in dem_files(store, facts, short).await? {
        let path = dir.join(&of.name);
        store.fetch_file(of.file, &path).await?;
        if let Some(projection) = of.projection {
            std::fs::write(path.with_extension("prj"), projection)?;
            files.push(Path::new(&of.name).with_extension("prj").to_string_lossy().into_owned());
        }
        files.push(of.name);
    }
    Ok(())
}

/// A DEM of a study that is set aside: what it is called, and the table `[terrain]` of a recipe that begins with it.
pub(crate) struct LaidDem {
    pub title: String,
    pub terrain: Terrain,
    /// what it reads
    pub files: Vec<String>,
}

/// Lays the DEMs that a study keeps aside into a folder.
///
/// # Errors
/// [`Error::Refused`] for one in another CRS than that at work, whose places the recipe tells; those of the store and the disk.
pub(crate) async fn lay_out_aside(store: &Store, facts: &Facts, dir: &Path) -> Result<Vec<LaidDem>> {
    let at_work = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
    let mut out = Vec::new();
    for (dem, number) in store.candidates(facts.study).await?.iter().zip(2..) {
        let of = facts.clone().with_dem(dem)?;
        // One that was never prepared cannot be run.
        let (Some(source), Some(terrain)) = (&of.source, &of.terrain) else { continue };
        if !terrain.crs.same_as(&at_work.crs)? {
            return Err(Error::Refused(format!(
                "{} lies in {}, and the recipe tells places in {}: bring it there first",
                source.title(),
                terrain.crs.label(),
                at_work.crs.label()
            )));
        }
        let short = format!("{}_{number}", facts.short_name());
        let (mut inputs, mut untold, mut files) = (Inputs::new(&short), Vec::new(), Vec::new());
        let told = of_files(&of, &short, &mut inputs, &mut untold)?;
        lay_out_dem(store, &of, &short, dir, &mut files).await?;
        if !inputs.layers.is_empty() {
            let name = format!("{short}_{INPUTS}");
            write_layers(&dir.join(&name), VectorFormat::GeoPackage, &terrain.crs, &inputs.layers)?;
            files.push(name);
        }
        let fill_voids = of.settings.conditioning.fill_voids;
        out.push(LaidDem { title: source.title(), terrain: Terrain { fill_voids, ..told }, files });
    }
    Ok(out)
}

/// Writes a study's recipe with all that it reads as a zip. Unpacked, `bothros run` makes the study again.
///
/// # Errors
/// Those of [`study_recipe`](crate::study_recipe), of the store, and of the disk.
#[boxed]
pub async fn write_recipe_with_files(store: &Store, facts: &Facts, target: &Path) -> Result<()> {
    zipped(store, facts, target, true).await
}

/// Writes a study's recipe as a zip, with the files of its DEM where `dem` is set.
///
/// # Errors
/// Those of [`write_recipe_with_files`].
pub(crate) async fn zipped(store: &Store, facts: &Facts, target: &Path, dem: bool) -> Result<()> {
    let dir = tempfile::tempdir()?;
    let Laid { text, mut files } = lay_out(store, facts, dir.path(), Beside { dem, pages: true }).await?;
    let recipe = format!("{}_recipe.toml", facts.short_name());
    std::fs::write(dir.path().join(&recipe), text)?;
    files.insert(0, recipe);
    let target = target.to_owned();
    blocking(move || {
        let mut zip = zip::ZipWriter::new(File::create(&target)?);
        for name in files {
            // GeoTIFFs are mostly compressed already.
            let method = if name.ends_with(".tif") { Stored } else { Deflated };
            zip.start_file(&name, SimpleFileOptions::default().compression_method(method).large_file(true))?;
            std::io::copy(&mut File::open(dir.path().join(&name))?, &mut zip)?;
        }
        zip.finish()?.flush()?;
        Ok(())
    })
    .await
}
