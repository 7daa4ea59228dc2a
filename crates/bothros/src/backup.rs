//! `bothros backup` and `bothros restore`, whether or not the application is running.

use std::path::Path;

use crate::boxed;
use anyhow::bail;
use bothros_store::backup::{self, BEFORE, Contents};
use bothros_store::server::LocalServer;

/// The database of an application: its own server, started for this where it does not run, or another's address.
enum Database {
    Own(LocalServer, bool),
    Other(String),
}

impl Database {
    fn open(data: &Path, other: Option<String>) -> anyhow::Result<Self> {
        if let Some(url) = other {
            return Ok(Self::Other(url));
        }
        if !data.join("cluster").exists() {
            bail!("there are no studies in {}: name the directory with --data", data.display());
        }
        match LocalServer::is_used(data) {
            true => Ok(Self::Own(LocalServer::running(data)?, false)),
            false => Ok(Self::Own(LocalServer::start(data)?, true)),
        }
    }
    fn url(&self) -> String {
        match self {
            Self::Own(server, _) => server.url(),
            Self::Other(url) => url.clone(),
        }
    }
    fn close(self) -> anyhow::Result<()> {
        match self {
            Self::Own(server, true) => Ok(server.stop()?),
            _ => Ok(()),
        }
    }
}

fn told(contents: &Contents) -> String {
    let rows = |table: &str| contents.rows.get(table).copied().unwrap_or(0);
    format!(
        "{} studies, {} rasters, {} files, written {}",
        rows("study"),
        rows("raster"),
        rows("file"),
        contents.written
    )
}

/// Writes a backup.
///
/// # Errors
/// Where the file exists, the disk is full, or the database cannot be read.
pub fn write(data: &Path, other: Option<String>, file: &Path) -> anyhow::Result<()> {
    let database = Database::open(data, other)?;
    let written = backup::write(&database.url(), file);
    database.close()?;
    println!("{}: {}", file.display(), told(&written?));
    Ok(())
}

/// Puts a backup in the place of what is there.
///
/// # Errors
/// Where it is no whole backup, or what comes of it is not what it says; then everything stays as it is.
#[boxed]
pub async fn put_back(data: &Path, other: Option<String>, file: &Path) -> anyhow::Result<()> {
    // Looked at before a server is started or made for it.
    backup::look(file)?;
    if other.is_none() && !data.join("cluster").exists() {
        std::fs::create_dir_all(data)?;
        let server = LocalServer::start(data)?;
        let put_back = backup::put_back(&server.url(), file).await;
        server.stop()?;
        println!("Restored {}", told(&put_back?));
        return Ok(());
    }
    let database = Database::open(data, other)?;
    let put_back = backup::put_back(&database.url(), file).await;
    database.close()?;
    println!(
        "Restored {}. What was there before is kept in the database “{BEFORE}” until the next restore.",
        told(&put_back?)
    );
    Ok(())
}
