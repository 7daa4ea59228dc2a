//! A recipe in one file with all that it reads.

use std::fs::File;
use std::io::Write;
use std::path::Path;

use bothros_formats::{VectorFormat, write_layers};
use bothros_store::Store;
use zip::CompressionMethod::{Deflated, Stored};
use zip::write::SimpleFileOptions;

use super::beginning::dem_files;
use super::write::INPUTS;
use crate::{Error, Facts, Result, blocking};

/// Writes a study's recipe, with the files of its DEM, the layers and rasters that it reads, as a zip. Unpacked,
/// `bothros run` makes the study again.
///
/// # Errors
/// Those of [`study_recipe`](crate::study_recipe), of the store, and of the disk.
pub async fn write_recipe_with_files(store: &Store, facts: &Facts, target: &Path) -> Result<()> {
    let terrain = facts.terrain.as_ref().ok_or_else(Error::not_prepared)?;
    let (steps, written, _) = super::of_files(store, facts).await?;
    let short = facts.short_name();
    let dir = tempfile::tempdir()?;
    let mut files = vec![(format!("{short}_recipe.toml"), Deflated)];
    std::fs::write(dir.path().join(&files[0].0), &written.text)?;
    for of in dem_files(store, facts, &short).await? {
        let path = dir.path().join(&of.name);
        store.fetch_file(of.file, &path).await?;
        if let Some(projection) = of.projection {
            std::fs::write(path.with_extension("prj"), projection)?;
            let name = Path::new(&of.name).with_extension("prj");
            files.push((name.to_string_lossy().into_owned(), Deflated));
        }
        // GeoTIFFs are mostly compressed already.
        let method = if of.name.ends_with(".tif") { Stored } else { Deflated };
        files.push((of.name, method));
    }
    for given in &steps.rasters {
        let name = format!("{short}_{}", given.suffix);
        store.fetch_file(given.file, &dir.path().join(&name)).await?;
        files.push((name, Stored));
    }
    let (crs, target) = (terrain.crs.clone(), target.to_owned());
    blocking(move || {
        if !written.layers.is_empty() {
            let name = format!("{short}_{INPUTS}");
            write_layers(&dir.path().join(&name), VectorFormat::GeoPackage, &crs, &written.layers)?;
            files.push((name, Deflated));
        }
        let mut zip = zip::ZipWriter::new(File::create(&target)?);
        for (name, method) in files {
            zip.start_file(&name, SimpleFileOptions::default().compression_method(method).large_file(true))?;
            std::io::copy(&mut File::open(dir.path().join(&name))?, &mut zip)?;
        }
        zip.finish()?.flush()?;
        Ok(())
    })
    .await
}
