//! Events of studies and health messages, as one stream for all pages of a browser.

use std::convert::Infallible;
use std::time::Duration;

use axum::extract::State;
use axum::response::Sse;
use axum::response::sse::{Event as Told, KeepAlive};
use bothros_store::Event;
use futures::{Stream, StreamExt};
use serde_json::json;
use tokio_stream::wrappers::{BroadcastStream, WatchStream};

use crate::App;
use crate::http::error::Result;

/// First the current state, then every change. If events were lost, a “missed” event makes pages fetch the state.
pub async fn stream(
    State(app): State<App>,
) -> Result<Sse<impl Stream<Item = std::result::Result<Told, Infallible>>>> {
    let later = BroadcastStream::new(app.events.subscribe());
    // Where the database is away the stream tells so, and goes on.
    let now = app.store.active_jobs().await.unwrap_or_default();
    let now = now.into_iter().map(|job| Event {
        study: job.study_id,
        job: Some(job.id),
        state: Some(job.state),
        progress: job.progress,
        message: job.message,
    });
    let events = futures::stream::iter(now.collect::<Vec<_>>())
        .chain(later.map(|event| event.unwrap_or_else(|_| Event::missed())))
        .map(|event| json!(event));
    let health = app.health.clone();
    let troubles = WatchStream::new(app.health.changes()).map(move |_| json!({ "troubles": health.told() }));
    let all = futures::stream::select(events, troubles).filter_map(|told| async move {
        // An event is numbers and text; making JSON of it does not fail.
        Told::default().json_data(&told).ok().map(Ok)
    });
    Ok(Sse::new(all).keep_alive(KeepAlive::new().interval(Duration::from_secs(10))))
}
