//! Starting the application: database, worker, pages; and stopping all of it.

use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use anyhow::{Context, bail};
use bothros_store::server::LocalServer;
use bothros_store::{Job, JobHandle, Outcome, RunWorker, Store, Worker};
use bothros_web::{App, Health, Options};
use bothros_workflow::GridCache;
use futures::future::BoxFuture;
use tokio::net::TcpListener;
use tokio::signal::unix::{Signal, SignalKind, signal};
use tokio::sync::watch;
use tokio::task::JoinHandle;

use crate::boxed;
use crate::elevations::Elevations;
use crate::map_servers::MapServers;
use crate::scratch::Scratch;
use crate::supervise::supervise;

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
    /// address of an elevation archive; the simulated one by default
    pub archive: Option<String>,
    /// a list of map servers; the simulated one by default
    pub maps: Option<PathBuf>,
    /// whether to load the demo scenario
    pub demo: bool,
    /// whether everybody who reaches an address beyond loopback may do everything
    pub open_to_all: bool,
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

/// Prints a line to the terminal, which may have been closed.
pub(crate) fn say(what: std::fmt::Arguments<'_>) {
    use std::io::Write;
    let _ = writeln!(std::io::stdout(), "{what}");
}

/// Completes when Ctrl-C is pressed or the system asks the program to end, and at once from then on. A request
/// between two
/// calls is not lost.
#[boxed]
pub async fn stop_asked() {
    // The sender is never dropped.
    let _ = heed_stop().subscribe().wait_for(|asked| *asked).await;
}

/// Begins to listen for requests to end; from here on none of them ends the program by itself. Must be called on
/// a runtime.
pub fn heed_stop() -> &'static watch::Sender<bool> {
    static ASKED: OnceLock<watch::Sender<bool>> = OnceLock::new();
    ASKED.get_or_init(|| {
        let asked = watch::Sender::new(false);
        let tell = asked.clone();
        // Registered here and now, not when the task first runs.
        let signals = [SignalKind::terminate(), SignalKind::interrupt()].map(signal);
        tokio::spawn(async move {
            signalled(signals).await;
            tell.send_replace(true);
        });
        asked
    })
}

/// Completes when one of the signals arrives; never, where the system has none.
async fn signalled(signals: [std::io::Result<Signal>; 2]) {
    let [mut terminate, mut interrupt] = signals;
    async fn come(signal: &mut std::io::Result<Signal>) {
        match signal {
            Ok(signal) => drop(signal.recv().await),
            Err(_) => std::future::pending().await,
        }
    }
    tokio::select! {
        () = come(&mut terminate) => {}
        () = come(&mut interrupt) => {}
    }
}

/// Starts everything and runs until Ctrl-C.
///
/// # Errors
/// Where a part cannot be started.
#[boxed]
pub async fn run(settings: Settings) -> anyhow::Result<()> {
    if !settings.host.is_loopback() && !settings.open_to_all {
        bail!(
            "{} can be reached from other machines, and there is no login: everybody could see, change and delete all \
             studies. Say --open-to-all if that is what you want, or leave --host out",
            settings.host
        );
    }
    // From here on a request to end is heard: now, not when a task first runs.
    heed_stop();
    let scratch = match &settings.database {
        Some(_) => None,
        None => Some(settings.data.join("tmp")),
    };
    let scratch = Scratch::begin(scratch.as_deref())?;
    let _limit = crate::limits::hold(scratch.path())?;
    let local = match &settings.database {
        Some(_) => None,
        None => match start_server(&settings.data).await? {
            Some(server) => Some(Arc::new(server)),
            None => return Ok(()),
        },
    };
    let url = settings.database.clone().or(local.as_ref().map(|l| l.url())).unwrap_or_default();
    let ended = answer(&settings, &url, local.clone()).await;
    if let Some(local) = local {
        say(format_args!("Stopping PostgreSQL"));
        tokio::task::spawn_blocking(move || local.stop()).await??;
    }
    ended
}

/// Starts PostgreSQL; returns nothing if the program was asked to end before it was up.
async fn start_server(data: &Path) -> anyhow::Result<Option<LocalServer>> {
    say(format_args!("Starting PostgreSQL in {}", data.display()));
    let directory = data.to_owned();
    let mut start = tokio::task::spawn_blocking(move || LocalServer::start(&directory));
    tokio::select! {
        started = &mut start => Ok(Some(started??)),
        () = stop_asked() => {
            // After a crash it may mend for minutes what it has; it goes on with that at the next start.
            say(format_args!("\nStopping PostgreSQL before it stood"));
            let directory = data.to_owned();
            tokio::task::spawn_blocking(move || bothros_store::server::end_start(&directory)).await?;
            if let Ok(Ok(server)) = start.await {
                tokio::task::spawn_blocking(move || server.stop()).await??;
            }
            Ok(None)
        }
    }
}

async fn answer(settings: &Settings, url: &str, local: Option<Arc<LocalServer>>) -> anyhow::Result<()> {
    let elevations = match &settings.archive {
        Some(address) => Elevations::At(address.clone()),
        None => Elevations::demo(settings.data.join("archive")),
    };
    let maps = match &settings.maps {
        Some(file) => MapServers::listed(file)?,
        None => MapServers::demo(settings.data.join("archive")),
    };
    let outside = Outside { elevations, maps };
    let mut running = start(url, settings.upload_limit, settings.host, settings.port, outside).await?;
    if let Some(local) = local {
        running.watch(local);
    }
    if settings.demo {
        let archive = settings.data.join("archive");
        tokio::select! {
            loaded = crate::demo::load(&running.store, &running.grids, &archive) => loaded?,
            () = stop_asked() => return running.stop().await,
        }
    }
    say(format_args!("\n  Bothros is at  http://{}/\n\n  Ctrl-C stops it.\n", running.address));
    if settings.open_to_all && !settings.host.is_loopback() {
        say(format_args!("  Everybody who reaches this address may see, change and delete everything.\n"));
    }
    stop_asked().await;
    say(format_args!("\nStopping"));
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
    health: Health,
    stop: watch::Sender<bool>,
    pages: Option<JoinHandle<()>>,
    /// tasks that are started again when they end
    supervised: Vec<JoinHandle<()>>,
}

/// Time between two looks whether PostgreSQL runs.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// Time between two looks whether there is room for a reserve.
const RESERVE_EVERY: u32 = 300;

impl Running {
    /// Starts PostgreSQL again whenever it ends.
    pub fn watch(&mut self, local: Arc<LocalServer>) {
        let health = self.health.clone();
        let task = move || {
            let (local, health) = (Arc::clone(&local), health.clone());
            async move {
                for look in 0u32.. {
                    let server = Arc::clone(&local);
                    if look.is_multiple_of(RESERVE_EVERY) {
                        tokio::task::spawn_blocking(move || server.keep_reserve()).await?;
                    } else if !server.is_alive() {
                        health.trouble("PostgreSQL", "PostgreSQL has ended, and is started again.");
                        tokio::task::spawn_blocking(move || server.revive()).await??;
                        health.well("PostgreSQL");
                    }
                    tokio::time::sleep(LOOK_EVERY).await;
                }
                Ok::<_, anyhow::Error>(())
            }
        };
        let what = "PostgreSQL has ended and does not start again: see the log of the server.";
        self.supervised.push(supervise(self.health.clone(), "PostgreSQL", what, task));
    }

    /// Stops pages and worker. A running job is put back on the queue, for the next start.
    ///
    /// # Errors
    /// Where pages ended unexpectedly.
    #[boxed]
    pub async fn stop(mut self) -> anyhow::Result<()> {
        self.stop.send_replace(true);
        if let Some(pages) = self.pages.take() {
            pages.await?;
        }
        for task in &self.supervised {
            task.abort();
        }
        // Where the database has gone before, the next start takes the job for one that died.
        let back = tokio::time::timeout(Duration::from_secs(3), give_back(&self.store, OWN_WORKER)).await;
        if !matches!(back, Ok(Ok(()))) {
            tracing::warn!("what was worked on could not be given back");
        }
        Ok(())
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        for task in &self.supervised {
            task.abort();
        }
    }
}

/// What the application asks outside itself.
#[derive(Clone)]
pub struct Outside {
    /// where elevations come from
    pub elevations: Elevations,
    /// where pictures behind the map come from
    pub maps: MapServers,
}

impl From<Elevations> for Outside {
    /// Elevations alone; no map server is asked.
    fn from(elevations: Elevations) -> Self {
        Self { elevations, maps: MapServers::Listed(Vec::new()) }
    }
}

/// Starts pages and a worker against a database.
///
/// # Errors
/// Where the database cannot be reached, or no port is free.
pub async fn start(
    url: &str,
    upload_limit: u64,
    host: IpAddr,
    port: u16,
    outside: impl Into<Outside>,
) -> anyhow::Result<Running> {
    start_all(url, upload_limit, host, port, outside.into()).await
}

#[boxed]
async fn start_all(
    url: &str,
    upload_limit: u64,
    host: IpAddr,
    port: u16,
    outside: Outside,
) -> anyhow::Result<Running> {
    let Outside { elevations, maps } = outside;
    bothros_archive::prepare_tls();
    let store = Store::connect(url).await?;
    let grids = crate::limits::grids();
    let health = Health::default();
    // One server to a database: what its worker was at when it ended, nobody works on now.
    store.take_up_interrupted(Some(OWN_WORKER)).await?;
    store.take_up_interrupted_runs(Some(OWN_WORKER)).await?;
    let (stop, stopped) = watch::channel(false);
    let until_stopped = |mut stopped: watch::Receiver<bool>| async move {
        // The sender lives as long as the application.
        let _ = stopped.wait_for(|s| *s).await;
    };
    let listener = listen(host, port).await?;
    let address = listener.local_addr()?;
    let (archive, elevations) = elevations.start(health.clone()).await?;
    let (maps, simulated_maps) = maps.start(health.clone()).await?;
    let maps = Some(maps);
    let connections = crate::limits::connections();
    let archive = Some(archive);
    let loopback_only = host.is_loopback();
    let options = Options { upload_limit, archive, loopback_only, connections, maps };
    let app = App::new(store.clone(), grids.clone(), options, health.clone());
    let worker = {
        let (store, grids, url) = (store.clone(), grids.clone(), url.to_owned());
        move || {
            Worker::new(store.clone(), OWN_WORKER).run(work_of(&store, &grids, &url), std::future::pending())
        }
    };
    let (hearing, purging) = (app.clone(), app.clone());
    let mut supervised = vec![
        supervise(health.clone(), "worker", "Jobs are not worked on at the moment; they wait.", worker),
        supervise(
            health.clone(),
            "runs",
            "Runs of batches are not worked on at the moment; they wait.",
            runs_of(&store, OWN_WORKER),
        ),
        supervise(health.clone(), "events", "Progress is not shown at the moment.", move || {
            let app = hearing.clone();
            async move { app.hear().await }
        }),
        supervise(health.clone(), "purge", "What was deleted is not removed at the moment.", move || {
            let app = purging.clone();
            async move { app.purge().await }
        }),
    ];
    supervised.push(tokio::spawn(bothros_workflow::help_others(stopped.clone())));
    supervised.extend(elevations);
    supervised.extend(simulated_maps);
    let pages = tokio::spawn(app.serve(listener, until_stopped(stopped)));
    Ok(Running { address, store, grids, health, stop, pages: Some(pages), supervised })
}

/// How a worker of this program runs a job: in this process, or in one of its own if a process has died while
/// running it.
fn work_of(
    store: &Store,
    grids: &GridCache,
    url: &str,
) -> impl Fn(Job, JobHandle) -> BoxFuture<'static, Outcome> + Clone + Send + Sync + use<> {
    let (store, grids, url) = (store.clone(), grids.clone(), url.to_owned());
    move |job, handle| {
        let (store, grids, url) = (store.clone(), grids.clone(), url.clone());
        Box::pin(async move {
            let _at_work = bothros_workflow::AtWork::begin();
            let done = match job.apart {
                true => crate::apart::work(&url, &job, &handle).await,
                false => bothros_workflow::work(store, grids, job, handle).await,
            };
            // A large study leaves gigabytes of small blocks; nobody waits until they are given back.
            tokio::task::spawn_blocking(bothros_spill::trim);
            done
        })
    }
}

/// How a worker of this program does the runs of batches, one at a time.
fn runs_of(
    store: &Store,
    name: &str,
) -> impl Fn() -> BoxFuture<'static, bothros_store::Result<()>> + Send + use<> {
    let (store, name) = (store.clone(), name.to_owned());
    move || {
        let worker = RunWorker::new(store.clone(), &name, bothros_workflow::PROGRAM);
        let store = store.clone();
        Box::pin(worker.run(move |run, handle| {
            let store = store.clone();
            async move {
                let _at_work = bothros_workflow::AtWork::begin();
                bothros_workflow::work_on_run(store, run, handle).await
            }
        }))
    }
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
///
/// # Errors
/// Where the database cannot be reached at first; later it is waited for.
#[boxed]
pub async fn worker(url: &str) -> anyhow::Result<()> {
    let scratch = Scratch::begin(None)?;
    let _limit = crate::limits::hold(scratch.path())?;
    let store = Store::connect(url).await?;
    let grids = crate::limits::grids();
    let name = format!("worker-{}", uuid::Uuid::new_v4().simple());
    say(format_args!("Working on jobs as {name}; Ctrl-C stops."));
    let task = {
        let (store, url, name) = (store.clone(), url.to_owned(), name.clone());
        move || Worker::new(store.clone(), &name).run(work_of(&store, &grids, &url), std::future::pending())
    };
    let health = Health::default();
    let away = "The database does not answer.";
    let (stop, stopped) = watch::channel(false);
    let running = [
        supervise(health.clone(), "worker", away, task),
        supervise(health, "runs", away, runs_of(&store, &name)),
        tokio::spawn(bothros_workflow::help_others(stopped)),
    ];
    stop_asked().await;
    stop.send_replace(true);
    for task in running {
        task.abort();
    }
    give_back(&store, &name).await?;
    Ok(())
}

/// Gives back what a worker was at, which stops in good order.
async fn give_back(store: &Store, worker: &str) -> bothros_store::Result<()> {
    store.give_back(worker).await?;
    store.give_back_runs(worker).await
}
