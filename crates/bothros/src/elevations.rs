//! The elevation archive that studies can begin from: a real one at an address, or the simulated one.

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use bothros_archive::{Preparing, StandIn, StandInCollection, StandInItem};
use bothros_demo::{COARSE, FINE, Sheet, generate, read_sheets, resolution_m, write_sheets};
use bothros_web::Health;
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

use crate::supervise::supervise;

/// Where elevations come from.
#[derive(Clone)]
pub enum Elevations {
    /// an archive that speaks STAC, at this address
    At(String),
    /// the simulated archive, which makes its files when it is first asked
    Simulated {
        /// makes the files
        prepare: Preparing,
        /// a file that holds the port it answered at last, so that it answers there again
        port: Option<PathBuf>,
    },
}

impl Elevations {
    /// The simulated archive of the demo region, with its files in a directory.
    pub fn demo(directory: PathBuf) -> Self {
        let port = directory.join("port");
        let prepare: Preparing = Arc::new(move || {
            if let Some(sheets) = read_sheets(&directory) {
                return Ok(collections(sheets));
            }
            let scenario = generate(&|_| ()).map_err(|e| e.to_string())?;
            let sheets = write_sheets(&scenario, &directory)
                .map_err(|e| format!("the simulated archive cannot be written: {e}"))?;
            Ok(collections(sheets))
        });
        Self::Simulated { prepare, port: Some(port) }
    }

    /// Starts the simulated archive, where it is wanted. Returns the address, and the task that keeps it running.
    ///
    /// # Errors
    /// Where no port is free.
    pub async fn start(self, health: Health) -> anyhow::Result<(String, Option<JoinHandle<()>>)> {
        let (prepare, port) = match self {
            Self::At(address) => return Ok((address, None)),
            Self::Simulated { prepare, port } => (prepare, port),
        };
        let listener = listen(port.as_deref()).await?;
        let place = listener.local_addr()?;
        let address = format!("http://{place}/");
        let archive = StandIn::new(&address, prepare);
        // The first time it is bound already; later it answers at the same place again.
        let bound = Arc::new(Mutex::new(Some(listener)));
        let task = move || {
            let (archive, bound) = (archive.clone(), Arc::clone(&bound));
            async move {
                let first = bound.lock().ok().and_then(|mut first| first.take());
                let listener = match first {
                    Some(listener) => listener,
                    None => TcpListener::bind(place).await?,
                };
                archive.serve(listener, std::future::pending()).await
            }
        };
        let what = "The simulated elevation archive does not answer at the moment.";
        Ok((address, Some(supervise(health, "archive", what, task))))
    }
}

/// Listens on the port that a file tells, or on another where that is taken, which the file tells then.
async fn listen(file: Option<&Path>) -> anyhow::Result<TcpListener> {
    let Some(file) = file else { return Ok(TcpListener::bind(("127.0.0.1", 0)).await?) };
    let last = std::fs::read_to_string(file).ok().and_then(|p| p.trim().parse().ok());
    let listener = match TcpListener::bind(("127.0.0.1", last.unwrap_or(0))).await {
        Ok(listener) => listener,
        // Another program has it now.
        Err(_) => TcpListener::bind(("127.0.0.1", 0)).await?,
    };
    let noted = file.parent().map_or(Ok(()), std::fs::create_dir_all);
    if let Err(error) = noted.and(std::fs::write(file, listener.local_addr()?.port().to_string())) {
        tracing::warn!(%error, "the port of the simulated archive could not be noted");
    }
    Ok(listener)
}

/// The collections that sheets make up.
fn collections(sheets: Vec<Sheet>) -> Vec<StandInCollection> {
    let kinds = [
        (
            FINE,
            "Sorrel bare earth",
            "Ground without trees and houses, from a survey by aeroplane.",
            "2024-03-11T00:00:00Z",
        ),
        (
            COARSE,
            "Sorrel region",
            "Regional elevations in whole metres, smoothed; latitude and longitude.",
            "2011-02-17T00:00:00Z",
        ),
    ];
    let of = |set: &str, date: &str| {
        sheets
            .iter()
            .filter(|s| s.set == set)
            .map(|s| StandInItem {
                id: s.name.clone(),
                date: date.into(),
                path: s.path.clone(),
                extent: s.extent,
                shape: s.shape,
                geo_transform: s.geo_transform,
                epsg: s.epsg,
            })
            .collect()
    };
    kinds
        .into_iter()
        .map(|(id, title, description, date)| StandInCollection {
            id: id.into(),
            title: title.into(),
            description: description.into(),
            resolution_m: resolution_m(id),
            items: of(id, date),
        })
        .collect()
}
