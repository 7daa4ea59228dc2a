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
mod ground;
mod layers;
mod map_data;
mod numbers;
mod pages;
mod security;
mod stream_lines;
mod terrain;
mod tiles;
mod upload;
mod views;

use std::net::SocketAddr;
use std::sync::Arc;

use axum::Router;
use axum::routing::{get, post};
use bothros_store::{Event, Store};
use bothros_work::{Calibration, GridCache};
use tokio::sync::broadcast;
use tower_http::compression::CompressionLayer;
use tower_http::compression::CompressionLevel;

/// What the server is told at its start.
#[derive(Debug, Clone)]
pub struct Options {
    /// largest upload, bytes
    pub upload_limit: u64,
    /// address of the elevation archive that studies can begin from
    pub archive: Option<String>,
    /// whether requests must name a loopback host, which keeps pages of other sites out
    pub loopback_only: bool,
}

impl Default for Options {
    fn default() -> Self {
        Self { upload_limit: 4 << 30, archive: None, loopback_only: true }
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
    /// the task that hears events
    hearing: tokio::task::AbortHandle,
}

impl App {
    /// Begins to hear events of all processes that share the database.
    pub async fn new(store: Store, grids: GridCache, options: Options) -> Result<Self, bothros_store::Error> {
        let (events, _) = broadcast::channel(256);
        let mut heard = store.events().await?;
        let sender = events.clone();
        let hearing = tokio::spawn(async move {
            loop {
                match heard.next().await {
                    // Nobody may be listening; that is no fault.
                    Ok(event) => drop(sender.send(event)),
                    Err(error) => {
                        tracing::warn!(%error, "events are not heard at the moment");
                        tokio::time::sleep(std::time::Duration::from_secs(1)).await;
                    }
                }
            }
        });
        let hearing = hearing.abort_handle();
        Ok(Self {
            store,
            grids,
            layers: Default::default(),
            calibration: Default::default(),
            events,
            options: Arc::new(options),
            hearing,
        })
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
            .route("/events", get(events::stream))
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
            .layer(CompressionLayer::new().quality(CompressionLevel::Fastest))
            .with_state(self)
    }

    /// Answers requests on `listener` until `stop` is ready.
    pub async fn serve(
        self,
        listener: tokio::net::TcpListener,
        stop: impl Future<Output = ()> + Send + 'static,
    ) -> std::io::Result<()> {
        let purge = self.store.clone();
        let purging = tokio::spawn(async move {
            loop {
                if let Err(error) = purge.purge_deleted(pages::RESTORE_WITHIN).await {
                    tracing::warn!(%error, "deleted studies could not be purged");
                }
                tokio::time::sleep(std::time::Duration::from_secs(60)).await;
            }
        });
        let hearing = self.hearing.clone();
        let service = self.router().into_make_service_with_connect_info::<SocketAddr>();
        let answering = axum::serve(listener, service);
        // Streams of events never end by themselves, so that requests are not waited for.
        let ended = tokio::select! {
            ended = answering => ended,
            () = stop => Ok(()),
        };
        purging.abort();
        hearing.abort();
        ended
    }
}
