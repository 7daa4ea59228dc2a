//! The elevation archive that studies can begin from: a real one at an address, or the simulated one.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use bothros_archive::{Preparing, StandIn, StandInCollection, StandInItem};
use bothros_demo::{COARSE, FINE, Sheet, generate, read_sheets, resolution_m, write_sheets};
use tokio::net::TcpListener;

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

    /// Starts the simulated archive, where it is wanted, and tells the address.
    ///
    /// # Errors
    /// Where no port is free.
    pub async fn start(self, stop: impl Future<Output = ()> + Send + 'static) -> anyhow::Result<String> {
        match self {
            Self::At(address) => Ok(address),
            Self::Simulated { prepare, port } => {
                let listener = listen(port.as_deref()).await?;
                let address = format!("http://{}/", listener.local_addr()?);
                let archive = StandIn::new(&address, prepare);
                tokio::spawn(async move {
                    if let Err(error) = archive.serve(listener, stop).await {
                        tracing::warn!(%error, "the simulated elevation archive has stopped");
                    }
                });
                Ok(address)
            }
        }
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
