//! The application in the browser: pages, map tiles, progress. It asks the store and the steps; it
//! holds no SQL and computes nothing of its own but colours.

mod api;
mod batches;
mod derived;
mod http;
mod map;
mod recipes;
mod service;
mod sheets;
mod shell;
mod stages;
mod ui;

use std::sync::Arc;

use async_recursion::async_recursion as boxed;
use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::routing::get;
use bothros_maps::Maps;
use bothros_store::{Event, Store};
use bothros_workflow::{Calibration, Facts, GridCache};
use futures::future::BoxFuture;
use moka::policy::EvictionPolicy;
use tokio::sync::broadcast;
use tower_http::compression::predicate::{DefaultPredicate, NotForContentType, Predicate};
use tower_http::compression::{CompressionLayer, CompressionLevel};
use tower_http::timeout::RequestBodyTimeoutLayer;

pub use http::form::fields;
pub use http::health::Health;
use http::{assets, events, listen, security};
pub use ui::form::typed_number;

/// Options given to the server at start-up.
#[derive(Debug, Clone)]
pub struct Options {
    /// largest upload, bytes
    pub upload_limit: u64,
    /// address of the elevation archive that studies can begin from
    pub archive: Option<String>,
    /// whether requests must name a loopback host, which keeps pages of other sites out; where not, everybody who
    /// reaches the address may do everything, and every page says so
    pub loopback_only: bool,
    /// most connections at a time
    pub connections: usize,
    /// map servers whose pictures can lie behind the map
    pub maps: Option<Maps>,
}

impl Default for Options {
    fn default() -> Self {
        Self { upload_limit: 4 << 30, archive: None, loopback_only: true, connections: 4096, maps: None }
    }
}

/// What every request can reach.
#[derive(Clone)]
pub struct App {
    store: Store,
    grids: GridCache,
    layers: bothros_workflow::LayerCache,
    calibration: Calibration,
    events: broadcast::Sender<Event>,
    options: Arc<Options>,
    health: Health,
    /// what is known of studies, with the revision that it was read at
    facts: moka::future::Cache<i64, (i64, Arc<Facts>)>,
    /// tiles that were drawn last, by address
    tiles: moka::future::Cache<String, map::tiles::Tile>,
    /// layers that a GIS asked for last
    collections: api::Layers,
    /// rasters that a GIS reads parts of
    cogs: api::Cogs,
    /// formulas that were looked at last, by what their tiles ask for
    formulas: moka::future::Cache<String, String>,
    /// one for each processor: what is drawn at a time
    drawing: Arc<tokio::sync::Semaphore>,
}

/// Texts are compressed; pictures and packages are already.
fn compression() -> CompressionLayer<impl Predicate> {
    let zipped = NotForContentType::const_new("application/zip");
    CompressionLayer::new()
        .quality(CompressionLevel::Fastest)
        .compress_when(DefaultPredicate::new().and(zipped).and(NotForContentType::const_new("image/png")))
}

impl App {
    /// Creates the application on a store. It receives events while [`App::hear`] runs.
    pub fn new(store: Store, grids: GridCache, options: Options, health: Health) -> Self {
        let (events, _) = broadcast::channel(256);
        Self {
            store,
            grids,
            layers: Default::default(),
            calibration: Default::default(),
            events,
            options: Arc::new(options),
            health,
            facts: moka::future::Cache::builder()
                .eviction_policy(EvictionPolicy::lru())
                .max_capacity(1000)
                .build(),
            // By size: 128 MiB.
            tiles: moka::future::Cache::builder()
                .eviction_policy(EvictionPolicy::lru())
                .weigher(|key: &String, (_, bytes): &map::tiles::Tile| (key.len() + bytes.len()) as u32)
                .max_capacity(128 << 20)
                .build(),
            collections: moka::future::Cache::builder()
                .eviction_policy(EvictionPolicy::lru())
                .max_capacity(24)
                .build(),
            cogs: api::Cogs::default(),
            formulas: moka::future::Cache::new(1000),
            drawing: Arc::new(tokio::sync::Semaphore::new(
                std::thread::available_parallelism().map_or(2, Into::into),
            )),
        }
    }

    /// Returns the facts of several studies, or why one cannot be read; those not in memory are fetched in one query.
    /// The studies that have a network, by number and name: their recipes can be told.
    async fn with_networks(&self) -> http::error::Result<Vec<(i64, String)>> {
        let heads = self.store.study_heads().await?;
        let known = self.facts_of(&heads).await?;
        let ready = |id: &i64| known.get(id).is_some_and(|f| f.as_ref().is_ok_and(|f| f.network.is_some()));
        Ok(heads.into_iter().filter(|head| ready(&head.id)).map(|head| (head.id, head.name)).collect())
    }

    async fn facts_of(
        &self,
        heads: &[bothros_store::StudyHead],
    ) -> http::error::Result<std::collections::HashMap<i64, Result<Arc<Facts>, String>>> {
        let mut known = std::collections::HashMap::new();
        let mut wanted = Vec::new();
        for head in heads {
            match self.facts.get(&head.id).await {
                Some((revision, facts)) if revision == head.revision => {
                    drop(known.insert(head.id, Ok(facts)))
                }
                _ => wanted.push(head.id),
            }
        }
        let rows = self.store.studies_of(wanted).await?;
        let read = bothros_workflow::blocking(move || {
            Ok(rows.into_iter().map(|row| (row.id, row.revision, Facts::of(&row))).collect::<Vec<_>>())
        });
        for (id, revision, facts) in read.await? {
            match facts {
                Ok(facts) => {
                    let facts = Arc::new(facts);
                    self.facts.insert(id, (revision, Arc::clone(&facts))).await;
                    known.insert(id, Ok(facts));
                }
                Err(error) => drop(known.insert(id, Err(error.to_string()))),
            }
        }
        Ok(known)
    }

    /// Returns a study; nothing where there is none of that number.
    async fn study_if_there(&self, id: i64) -> http::error::Result<Option<bothros_store::Study>> {
        match self.store.study(id).await {
            Ok(study) => Ok(Some(study)),
            Err(bothros_store::Error::NotFound(_)) => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    /// Returns the facts of a study in its current revision.
    async fn facts(&self, study: i64) -> http::error::Result<Arc<Facts>> {
        let revision = self.store.revision(study).await?;
        if let Some((known, facts)) = self.facts.get(&study).await
            && known == revision
        {
            return Ok(facts);
        }
        let row = self.store.study(study).await?;
        let facts = Arc::new(Facts::of(&row)?);
        self.facts.insert(study, (row.revision, Arc::clone(&facts))).await;
        Ok(facts)
    }

    /// Receives the events of all processes that share the database, while it can be reached.
    ///
    /// # Errors
    /// [`bothros_store::Error`] where the database cannot be heard any more; to be called again then.
    #[boxed]
    pub async fn hear(&self) -> Result<(), bothros_store::Error> {
        let mut heard = self.store.events().await?;
        // What happened before is not known.
        self.missed();
        loop {
            let event = heard.next().await?;
            if event.study == 0 {
                self.missed();
            } else {
                // Nobody may be listening; that is no fault.
                let _ = self.events.send(event);
            }
        }
    }

    /// Forgets what was read, since the database may be another one now, and tells all pages to look anew.
    fn missed(&self) {
        self.store.forget();
        self.grids.forget();
        self.facts.invalidate_all();
        self.tiles.invalidate_all();
        let _ = self.events.send(Event::missed());
    }

    /// Removes for good what was deleted or replaced long enough ago, again and again.
    ///
    /// # Errors
    /// [`bothros_store::Error`] where the database cannot be reached; to be called again then.
    #[boxed]
    pub async fn purge(&self) -> Result<(), bothros_store::Error> {
        loop {
            self.store.purge_deleted(shell::start::RESTORE_WITHIN).await?;
            self.store.purge_superseded(SUPERSEDED_FOR).await?;
            self.store.purge_changes(UNDOABLE_FOR).await?;
            tokio::time::sleep(std::time::Duration::from_secs(10)).await;
        }
    }

    /// All addresses of the application.
    pub fn router(self) -> Router {
        let limit = DefaultBodyLimit::max(usize::try_from(self.options.upload_limit).unwrap_or(usize::MAX));
        let study = Router::new()
            .merge(shell::routes())
            .merge(map::routes())
            .merge(derived::routes())
            .merge(stages::routes())
            .merge(recipes::routes())
            .merge(api::routes())
            .merge(sheets::routes())
            .merge(map::uploads().merge(stages::uploads()).merge(sheets::uploads()).layer(limit));
        Router::new()
            .merge(shell::site())
            .merge(stages::terrain::site())
            .merge(api::site())
            .merge(batches::site())
            .merge(recipes::site())
            .merge(service::site())
            .merge(
                shell::site_uploads()
                    .merge(stages::terrain::site_uploads())
                    .merge(batches::uploads())
                    .merge(recipes::uploads())
                    .merge(service::uploads())
                    .layer(limit),
            )
            .route("/events", get(events::stream))
            .route("/assets/{*path}", get(assets::serve))
            .nest("/studies/{study}", study)
            .fallback(shell::start::nowhere)
            .layer(axum::middleware::from_fn(ui::quantity::as_chosen))
            .layer(axum::middleware::from_fn_with_state(self.clone(), security::guard))
            .layer(compression())
            .layer(RequestBodyTimeoutLayer::new(listen::BODY))
            .with_state(self)
    }

    /// Answers requests on `listener` until `stop` is ready.
    pub async fn serve(
        self,
        listener: tokio::net::TcpListener,
        stop: impl Future<Output = ()> + Send + 'static,
    ) {
        self.answer(listener, Box::pin(stop)).await;
    }

    #[boxed]
    async fn answer(self, listener: tokio::net::TcpListener, stop: BoxFuture<'static, ()>) {
        let most = self.options.connections;
        // Streams of events never end by themselves, so that requests are not waited for.
        listen::answer(listener, self.router(), most, stop).await;
    }
}

/// How long a change can be undone; what was deleted in a study is kept as long.
const UNDOABLE_FOR: std::time::Duration = std::time::Duration::from_secs(30 * 24 * 3600);

/// How long a raster or a package stays after another has taken its place, for those who are reading it.
const SUPERSEDED_FOR: std::time::Duration = std::time::Duration::from_secs(60);
