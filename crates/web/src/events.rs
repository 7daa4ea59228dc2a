//! What happens to a study, as a stream to its page.

use std::convert::Infallible;
use std::time::Duration;

use axum::extract::{Path, State};
use axum::response::Sse;
use axum::response::sse::{Event as Told, KeepAlive};
use bothros_store::Event;
use futures::{Stream, StreamExt};
use tokio_stream::wrappers::BroadcastStream;

use crate::App;
use crate::error::Result;

/// First how the last job stands, then every change.
pub async fn stream(
    State(app): State<App>,
    Path(study): Path<i64>,
) -> Result<Sse<impl Stream<Item = std::result::Result<Told, Infallible>>>> {
    let later = BroadcastStream::new(app.events.subscribe());
    app.store.study(study).await?;
    let now = app.store.active_job(study).await?.map(|job| Event {
        study,
        job: Some(job.id),
        state: Some(job.state),
        progress: job.progress,
        message: job.message,
    });
    let later = later.filter_map(move |event| async move { event.ok().filter(|e| e.study == study) });
    let all = futures::stream::iter(now).chain(later).filter_map(|event| async move {
        // An event is numbers and text; making JSON of it does not fail.
        Told::default().json_data(&event).ok().map(Ok)
    });
    Ok(Sse::new(all).keep_alive(KeepAlive::new().interval(Duration::from_secs(10))))
}
