//! The elevation archive that studies can begin from: a real one at an address, or the simulated one.

use std::path::PathBuf;
use std::sync::Arc;

use bothros_archive::{Preparing, StandIn, StandInCollection, StandInItem};
use bothros_demo::{COARSE, FINE, Sheet, generate, read_sheets, resolution_m, write_sheets};
use bothros_web::Health;
use tokio::task::JoinHandle;

use crate::boxed;
use crate::stand_in::stand_in;

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
    #[boxed]
    pub async fn start(self, health: Health) -> anyhow::Result<(String, Option<JoinHandle<()>>)> {
        let (prepare, port) = match self {
            Self::At(address) => return Ok((address, None)),
            Self::Simulated { prepare, port } => (prepare, port),
        };
        let what = "The simulated elevation archive does not answer at the moment.";
        let begin = |address: &str| StandIn::new(address, prepare);
        let serve = |archive: StandIn, listener| archive.serve(listener, std::future::pending());
        let (address, task) = stand_in(health, "archive", what, port.as_deref(), begin, serve).await?;
        Ok((address, Some(task)))
    }
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
