//! The map servers whose pictures can lie behind the map: those of a list, or the simulated one.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::Context;
use bothros_demo::{generate, read_aerial, write_aerial};
use bothros_formats::{Crs, Picture};
use bothros_maps::{Ground, MapServer, Maps, Preparing, StandIn, read_servers};
use bothros_web::Health;
use tokio::task::JoinHandle;

use crate::boxed;
use crate::stand_in::stand_in;

/// Which servers may be asked.
#[derive(Clone)]
pub enum MapServers {
    /// those of a list, and no other
    Listed(Vec<MapServer>),
    /// the simulated server, which makes its picture when it is first asked
    Simulated {
        /// makes the picture
        prepare: Preparing,
        /// a file that holds the port it answered at last
        port: Option<PathBuf>,
    },
}

impl MapServers {
    /// Those of a file.
    ///
    /// # Errors
    /// Where it cannot be read, or holds what is no map server.
    pub fn listed(file: &Path) -> anyhow::Result<Self> {
        let text = std::fs::read_to_string(file).with_context(|| format!("reading {}", file.display()))?;
        Ok(Self::Listed(read_servers(&text).with_context(|| file.display().to_string())?))
    }

    /// The simulated server of the demo region, with its picture in a directory.
    pub fn demo(directory: PathBuf) -> Self {
        let port = directory.join("port-of-maps");
        let prepare: Preparing = Arc::new(move || ground(&directory).map_err(|e| e.to_string()));
        Self::Simulated { prepare, port: Some(port) }
    }

    /// Starts the simulated server, where it is wanted. Returns the maps, and the task that keeps it running.
    ///
    /// # Errors
    /// Where no port is free.
    #[boxed]
    pub async fn start(self, health: Health) -> anyhow::Result<(Maps, Option<JoinHandle<()>>)> {
        let (prepare, port) = match self {
            Self::Listed(servers) => return Ok((Maps::new(servers)?, None)),
            Self::Simulated { prepare, port } => (prepare, port),
        };
        let what = "The simulated map server does not answer at the moment.";
        let begin = |_: &str| StandIn::new(prepare);
        let serve = |server: StandIn, listener| server.serve(listener, std::future::pending());
        let (address, task) = stand_in(health, "maps", what, port.as_deref(), begin, serve).await?;
        let maps = Maps::new(StandIn::servers(&address, "Sorrel survey (made up)")?)?;
        Ok((maps, Some(task)))
    }
}

/// The land as seen from above, kept in a directory.
fn ground(directory: &Path) -> anyhow::Result<Ground> {
    let drawing = match read_aerial(directory) {
        Some(drawing) => drawing,
        None => write_aerial(&generate(&|_| ())?, directory)?,
    };
    let (width, height) = (drawing.width, drawing.rgb.len() / 3 / drawing.width.max(1));
    let pixels = drawing.rgb.chunks_exact(3).flat_map(|p| [p[0], p[1], p[2], u8::MAX]).collect();
    let picture =
        Picture { width, height, pixels, original: (width, height), crs: None, geo_transform: None };
    Ok(Ground { picture, geo_transform: drawing.geo_transform, crs: Crs::parse("EPSG:32628")? })
}
