//! The results of a batch: side by side, and as one package.

use std::fs::File;
use std::io::Write;
use std::path::Path;

use bothros_recipe::batch::{RunRow, runs_csv};
use bothros_store::{Batch, JobState, Run, Store};
use zip::CompressionMethod::{Deflated, Stored};
use zip::write::SimpleFileOptions;

use crate::{Error, Result, boxed};

/// A run as a row of runs.csv.
///
/// # Errors
/// [`Error::Facts`] where its own keys cannot be read.
pub fn row_of(run: &Run) -> Result<RunRow> {
    let state = match run.state.as_str() {
        "queued" => "waiting",
        other => other,
    };
    let why = if run.state == JobState::Done.name() || run.is_active() { "" } else { &run.message };
    Ok(RunRow {
        name: run.name.clone(),
        own: serde_json::from_value(run.own.clone())?,
        state: state.into(),
        seconds: run.seconds(),
        summary: run.summary.clone().unwrap_or_default(),
        why: why.into(),
    })
}

/// runs.csv of a batch, as `bothros batch` writes it.
///
/// # Errors
/// [`Error::Facts`] where keys cannot be read; [`Error::Io`].
pub fn batch_csv(batch: &Batch, runs: &[Run]) -> Result<Vec<u8>> {
    let keys: Vec<String> = serde_json::from_value(batch.keys.clone())?;
    let rows = runs.iter().map(row_of).collect::<Result<Vec<_>>>()?;
    runs_csv(&keys, &rows).map_err(|e| Error::Io(std::io::Error::other(e)))
}

/// Writes what the runs of a batch wrote as one zip: runs.csv, and a folder for each run that is done, with its recipe.
///
/// # Errors
/// Those of the store and the disk.
#[boxed]
pub async fn write_batch_package(store: &Store, batch: &Batch, target: &Path) -> Result<()> {
    let runs = store.runs(batch.id).await?;
    let mut zip = zip::ZipWriter::new(File::create(target)?);
    let options = |method| SimpleFileOptions::default().compression_method(method).large_file(true);
    zip.start_file("runs.csv", options(Deflated))?;
    zip.write_all(&batch_csv(batch, &runs)?)?;
    for run in runs.iter().filter(|run| run.state == JobState::Done.name()) {
        zip.start_file(format!("{}/recipe.toml", run.name), options(Deflated))?;
        zip.write_all(run.recipe.as_bytes())?;
        for file in store.batch_files(batch.id, Some(run.id)).await? {
            let packed = [".tif", ".zip", ".png", ".pdf"].iter().any(|end| file.name.ends_with(end));
            zip.start_file(
                format!("{}/{}", run.name, file.name),
                options(if packed { Stored } else { Deflated }),
            )?;
            let mut sequence = 0;
            while let Some(piece) = store.batch_file_piece(file.id, sequence).await? {
                zip.write_all(&piece)?;
                sequence += 1;
            }
        }
    }
    zip.finish()?.flush()?;
    Ok(())
}
