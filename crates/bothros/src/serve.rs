//! Starting the application: database, worker, pages; and stopping all of it.

use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

use anyhow::Context;
use bothros_store::server::LocalServer;
use bothros_store::{Store, Worker};
use bothros_web::{App, Options};
use bothros_work::GridCache;
use tokio::net::TcpListener;
use tokio::sync::watch;

use crate::elevations::Elevations;

/// The worker inside the server; there is one server to a database.
const OWN_WORKER: &str = "server";

/// How the application is started.
pub struct Settings {
    /// wanted port
    pub port: u16,
    /// address to listen on
    pub host: IpAddr,
    /// directory of the own PostgreSQL
    pub data: PathBuf,
    /// largest upload, bytes
    pub upload_limit: u64,
    /// another PostgreSQL
    pub database: Option<String>,
    /// address of an elevation archive; the simulated one where nothing is said
    pub archive: Option<String>,
    /// whether to load the demo scenario
    pub demo: bool,
}

/// Where the own PostgreSQL lives unless told otherwise.
pub fn default_data_directory() -> PathBuf {
    // The server runs as another user when root starts it, and must reach its directory.
    let is_root =
        std::env::var("HOME").is_ok_and(|h| h == "/root") || std::env::var("USER").is_ok_and(|u| u == "root");
    if is_root {
        return "/var/lib/bothros".into();
    }
    let base = std::env::var_os("XDG_DATA_HOME").map(PathBuf::from);
    let home = || std::env::var_os("HOME").map(|h| PathBuf::from(h).join(".local/share"));
    base.or_else(home).unwrap_or_else(|| ".".into()).join("bothros")
}

async fn stop_asked() {
    let mut terminate = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate()).ok();
    let terminated = async {
        match &mut terminate {
            Some(signal) => signal.recv().await,
            None => std::future::pending().await,
        }
    };
    tokio::select! {
        _ = tokio::signal::ctrl_c() => {}
        _ = terminated => {}
    }
}

/// Starts everything and runs until Ctrl-C.
pub async fn run(settings: Settings) -> anyhow::Result<()> {
    let local = match &settings.database {
        Some(_) => None,
        None => {
            println!("Starting PostgreSQL in {}", settings.data.display());
            Some(LocalServer::start(&settings.data)?)
        }
    };
    let url = settings.database.clone().or(local.as_ref().map(LocalServer::url)).unwrap_or_default();
    let ended = answer(&settings, &url).await;
    if let Some(local) = local {
        println!("Stopping PostgreSQL");
        local.stop()?;
    }
    ended
}

async fn answer(settings: &Settings, url: &str) -> anyhow::Result<()> {
    let elevations = match &settings.archive {
        Some(address) => Elevations::At(address.clone()),
        None => Elevations::demo(settings.data.join("archive")),
    };
    let running = start(url, settings.upload_limit, settings.host, settings.port, elevations).await?;
    if settings.demo {
        let archive = settings.data.join("archive");
        tokio::select! {
            loaded = crate::demo::load(&running.store, &running.grids, &archive) => loaded?,
            () = stop_asked() => return running.stop().await,
        }
    }
    println!("\n  Bothros is at  http://{}/\n\n  Ctrl-C stops it.\n", running.address);
    stop_asked().await;
    println!("\nStopping");
    running.stop().await
}

/// The application while it runs.
pub struct Running {
    /// where it answers
    pub address: SocketAddr,
    /// its store
    pub store: Store,
    /// its grids in memory
    pub grids: GridCache,
    stop: watch::Sender<bool>,
    pages: tokio::task::JoinHandle<std::io::Result<()>>,
    worker: tokio::task::JoinHandle<Result<(), bothros_store::Error>>,
}

impl Running {
    /// Stops pages and worker. A job that runs is taken up again at the next start.
    pub async fn stop(self) -> anyhow::Result<()> {
        self.stop.send_replace(true);
        self.pages.await??;
        self.worker.abort();
        Ok(())
    }
}

/// Starts pages and a worker against a database.
pub async fn start(
    url: &str,
    upload_limit: u64,
    host: IpAddr,
    port: u16,
    elevations: Elevations,
) -> anyhow::Result<Running> {
    bothros_archive::prepare_tls();
    let store = Store::connect(url).await?;
    let grids = GridCache::default();
    // One server to a database: what its worker was at when it ended, nobody works on now.
    store.take_up_interrupted(Some(OWN_WORKER)).await?;
    let (stop, stopped) = watch::channel(false);
    let until_stopped = |mut stopped: watch::Receiver<bool>| async move {
        // The sender lives as long as the application.
        let _ = stopped.wait_for(|s| *s).await;
    };
    let work = {
        let (store, grids) = (store.clone(), grids.clone());
        move |job, handle| bothros_work::work(store.clone(), grids.clone(), job, handle)
    };
    let worker =
        tokio::spawn(Worker::new(store.clone(), OWN_WORKER).run(work, until_stopped(stopped.clone())));
    let listener = listen(host, port).await?;
    let address = listener.local_addr()?;
    let archive = Some(elevations.start(until_stopped(stopped.clone())).await?);
    let options = Options { upload_limit, archive, loopback_only: host.is_loopback() };
    let app = App::new(store.clone(), grids.clone(), options).await?;
    let pages = tokio::spawn(app.serve(listener, until_stopped(stopped)));
    Ok(Running { address, store, grids, stop, pages, worker })
}

/// Listens on the wanted port, or on the next that is free; port 0 takes any.
async fn listen(host: IpAddr, port: u16) -> anyhow::Result<TcpListener> {
    let mut last = None;
    for candidate in port..=port.saturating_add(if port == 0 { 0 } else { 20 }) {
        match TcpListener::bind((host, candidate)).await {
            Ok(listener) => return Ok(listener),
            Err(error) => last = Some(error),
        }
    }
    Err(last.map_or_else(|| anyhow::anyhow!("no port"), Into::into))
        .with_context(|| format!("no port from {port} on is free"))
}

/// Works on jobs until Ctrl-C.
pub async fn worker(url: &str) -> anyhow::Result<()> {
    let store = Store::connect(url).await?;
    let grids = GridCache::default();
    let name = format!("worker-{}", uuid::Uuid::new_v4().simple());
    println!("Working on jobs as {name}; Ctrl-C stops.");
    let worker = Worker::new(store.clone(), name);
    worker
        .run(move |job, handle| bothros_work::work(store.clone(), grids.clone(), job, handle), stop_asked())
        .await?;
    Ok(())
}
