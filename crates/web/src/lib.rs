//! The application in the browser: pages, map tiles, progress. It asks the store and the steps; it
//! holds no SQL and computes nothing of its own but colours.

mod actions;
mod archive;
mod assets;
mod backdrops;
mod calibration;
mod colour;
mod conditioning;
mod download;
mod error;
mod events;
mod figures;
mod form;
mod ground;
mod health;
mod layers;
mod listen;
mod map_data;
mod numbers;
mod pages;
mod security;
mod stream_lines;
mod terrain;
mod tiles;
mod upload;
mod views;

use std::sync::Arc;

use axum::Router;
use axum::routing::{get, post};
use bothros_store::{Event, Store};
use bothros_work::{Calibration, Facts, GridCache};
use tokio::sync::broadcast;
use tower_http::compression::predicate::{DefaultPredicate, NotForContentType, Predicate};
use tower_http::compression::{CompressionLayer, CompressionLevel};
use tower_http::timeout::RequestBodyTimeoutLayer;

pub use form::{fields, typed_number};
pub use health::Health;

/// What the server is told at its start.
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
}

impl Default for Options {
    fn default() -> Self {
        Self { upload_limit: 4 << 30, archive: None, loopback_only: true, connections: 4096 }
    }
}

/// What every request can reach.
#[derive(Clone)]
pub struct App {
    store: Store,
    grids: GridCache,
    layers: bothros_work::LayerCache,
    calibration: Calibration,
    events: broadcast::Sender<Event>,
    options: Arc<Options>,
    health: Health,
    /// what is known of studies, with the revision that it was read at
    facts: moka::future::Cache<i64, (i64, Arc<Facts>)>,
    /// tiles that were drawn last, by address
    tiles: moka::future::Cache<String, tiles::Tile>,
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
    /// An application on a store. It hears of events once [`App::hear`] runs.
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
            facts: moka::future::Cache::new(1000),
            // By size: 128 MiB.
            tiles: moka::future::Cache::builder()
                .weigher(|key: &String, (_, bytes): &tiles::Tile| (key.len() + bytes.len()) as u32)
                .max_capacity(128 << 20)
                .build(),
            drawing: Arc::new(tokio::sync::Semaphore::new(
                std::thread::available_parallelism().map_or(2, Into::into),
            )),
        }
    }

    /// What is known of many studies, or why one cannot be read; those of which nothing is in memory are read at once.
    async fn facts_of(
        &self,
        heads: &[bothros_store::StudyHead],
    ) -> error::Result<std::collections::HashMap<i64, Result<Arc<Facts>, String>>> {
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
        let read = bothros_work::blocking(move || {
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

    /// What is known of a study as it is now.
    async fn facts(&self, study: i64) -> error::Result<Arc<Facts>> {
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

    /// Hears events of all processes that share the database, for as long as it is there.
    ///
    /// # Errors
    /// [`bothros_store::Error`] where the database cannot be heard any more; to be called again then.
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
    pub async fn purge(&self) -> Result<(), bothros_store::Error> {
        loop {
            self.store.purge_deleted(pages::RESTORE_WITHIN).await?;
            self.store.purge_superseded(SUPERSEDED_FOR).await?;
            tokio::time::sleep(std::time::Duration::from_secs(10)).await;
        }
    }

    /// All addresses of the application.
    pub fn router(self) -> Router {
        let study = Router::new()
            .route("/desk/{stage}", get(pages::desk))
            .route("/rail", get(pages::rail))
            .route("/log", get(pages::log))
            .route("/crs", get(pages::crs_list))
            .route("/plan", get(pages::warp_plan))
            .route("/describe", post(actions::describe))
            .route("/duplicate", post(actions::duplicate))
            .route("/delete", post(actions::delete))
            .route("/restore", post(actions::restore))
            .route("/purge", post(actions::purge))
            .route("/raw.json", get(download::raw))
            .route("/band", post(actions::band))
            .route("/source-crs", post(actions::source_crs))
            .route("/vertical-unit", post(actions::vertical_unit))
            .route("/prepare", post(terrain::prepare))
            .route("/prepare-plan", post(pages::prepare_plan))
            .route("/weights/remove", post(conditioning::remove_weights))
            .route("/burn-section", get(ground::burn_section))
            .route("/dem-files/{place}/move", post(terrain::move_file))
            .route("/dem-files/{place}/remove", post(terrain::remove_file))
            .route("/dem-files/{place}/provenance", post(terrain::provenance))
            .route("/dem-files/level", post(terrain::level))
            .route("/archive-sets", get(pages::archive_sets))
            .route("/fetch", post(archive::candidate))
            .route("/fetch-again", post(archive::again))
            .route("/candidates/{candidate}/take-up", post(terrain::take_up))
            .route("/candidates/{candidate}/delete", post(terrain::delete_candidate))
            .route("/reread", post(actions::reread))
            .route("/route", post(actions::route))
            .route("/review", post(conditioning::review))
            .route("/conditioning", post(conditioning::choose))
            .route("/layers/{layer}/delete", post(layers::delete_layer))
            .route("/draw", post(layers::draw))
            .route("/layers/{layer}/features/{feature}", post(layers::reshape))
            .route("/backdrops/{id}/laid.png", get(backdrops::laid))
            .route("/backdrops/{id}/picture.png", get(backdrops::plain))
            .route("/backdrops/{id}/place", post(backdrops::place))
            .route("/backdrops/{id}/delete", post(backdrops::remove))
            .route("/profile", get(ground::measured))
            .route("/barriers", get(conditioning::barriers))
            .route("/barriers/{barrier}", get(pages::barrier))
            .route("/barriers/{barrier}/decide", post(conditioning::decide))
            .route("/evidence", get(pages::evidence_part))
            .route("/figures", get(figures::figures))
            .route("/continuity", get(pages::continuity_part))
            .route("/tolerance", post(calibration::tolerance))
            .route("/shortfalls", get(pages::shortfalls_part).post(calibration::mark))
            .route("/agreement", get(stream_lines::agreement))
            .route("/trials", get(pages::trials_part).post(calibration::keep))
            .route("/trials/{trial}/describe", post(calibration::describe))
            .route("/trials/{trial}/delete", post(calibration::delete))
            .route("/trials/{trial}/justify", get(pages::justify))
            .route("/trials/{trial}/choose", post(calibration::choose))
            .route("/trials/{trial}/lines", get(stream_lines::trial_lines))
            .route("/edits", post(calibration::edit))
            .route("/way", get(stream_lines::way))
            .route("/mapped", get(stream_lines::mapped))
            .route("/compare", get(pages::compare))
            .route("/reaches", get(pages::reaches))
            .route("/threshold", post(actions::threshold))
            .route("/snapping", post(actions::snapping))
            .route("/pour-points", post(actions::add_pour_point))
            .route("/pour-points/{point}/rename", post(actions::rename_pour_point))
            .route("/pour-points/{point}/move", post(actions::move_pour_point))
            .route("/pour-points/{point}/delete", post(actions::delete_pour_point))
            .route("/undo", post(actions::undo))
            .route("/package", post(actions::package))
            .route("/package.zip", get(download::package))
            .route("/cancel/{job}", post(actions::cancel))
            .route("/map", get(map_data::map))
            .route("/cell", get(map_data::cell))
            .route("/cells", get(map_data::cells))
            .route("/streams", get(stream_lines::streams))
            .route("/range/{what}", get(views::range))
            .route("/contours", get(views::contour_lines))
            .route("/style", post(actions::style))
            .route("/catchments", get(map_data::catchments))
            .route("/find", get(map_data::find))
            .route("/picture.png", get(tiles::picture))
            .route("/tiles/{what}/{raster}/{level}/{col}/{row}", get(tiles::tile));
        let limit = self.options.upload_limit;
        let upload = Router::new()
            .route("/studies", post(upload::create))
            .route("/archive/boundary", post(archive::boundary))
            .route("/studies/{study}/dem-files", post(terrain::add_files))
            .route("/studies/{study}/candidates", post(terrain::begin_candidate))
            .route("/studies/{study}/align", post(terrain::align))
            .route("/studies/{study}/weights", post(conditioning::weights))
            .route("/studies/{study}/backdrops", get(backdrops::list).post(backdrops::add))
            .route("/studies/{study}/layers", get(layers::layers).post(layers::add_layer))
            .layer(axum::extract::DefaultBodyLimit::max(usize::try_from(limit).unwrap_or(usize::MAX)));
        Router::new()
            .route("/", get(pages::start))
            .route("/events", get(events::stream))
            .route("/health", get(pages::health))
            .route("/begin", get(pages::begin))
            .route("/archive", get(archive::collections))
            .route("/archive/plan", post(archive::plan))
            .route("/archive/begin", post(archive::begin))
            .route("/help/{topic}", get(pages::help))
            .route("/licences", get(pages::licences))
            .route("/assets/{*path}", get(assets::serve))
            .merge(upload)
            .route("/studies/{study}", get(pages::study))
            .route("/studies/{study}/", get(pages::study))
            .nest("/studies/{study}", study)
            .fallback(pages::nowhere)
            .layer(axum::middleware::from_fn_with_state(self.clone(), security::guard))
            .layer(compression())
            .layer(RequestBodyTimeoutLayer::new(listen::BODY))
            .with_state(self)
    }

    /// Answers requests on `listener` until `stop` is ready.
    pub async fn serve(self, listener: tokio::net::TcpListener, stop: impl Future<Output = ()> + Send) {
        let most = self.options.connections;
        // Streams of events never end by themselves, so that requests are not waited for.
        listen::answer(listener, self.router(), most, stop).await;
    }
}

/// How long a raster or a package stays after another has taken its place, for those who are reading it.
const SUPERSEDED_FOR: std::time::Duration = std::time::Duration::from_secs(60);
