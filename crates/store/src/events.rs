//! Events for every process: changes of jobs and studies, over LISTEN and NOTIFY.

use sea_orm::sqlx::postgres::PgListener;
use serde::{Deserialize, Serialize};

use crate::{Result, Store, boxed};

const CHANNEL: &str = "bothros_events";

/// Something that happened to a study.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Event {
    /// the study
    pub study: i64,
    /// the job that moved on, if it was one
    pub job: Option<i64>,
    /// its state
    pub state: Option<String>,
    /// the share that is done
    pub progress: f64,
    /// what it does now, or what went wrong
    pub message: String,
}

impl Event {
    /// Tells listeners that events were missed, so that they fetch the current state.
    pub fn missed() -> Self {
        Self { study: 0, job: None, state: Some("missed".into()), progress: 0.0, message: String::new() }
    }
}

/// Receives the events of all processes that share the database.
pub struct Events(PgListener);

impl Events {
    /// The next event. Where the connection was lost it is made anew; what happened meanwhile is missed, and
    /// [`Event::missed`] comes instead.
    #[boxed]
    pub async fn next(&mut self) -> Result<Event> {
        loop {
            let Some(told) = self.0.try_recv().await? else { return Ok(Event::missed()) };
            match serde_json::from_str(told.payload()) {
                Ok(event) => return Ok(event),
                Err(error) => tracing::warn!(%error, "an event that cannot be read"),
            }
        }
    }
}

impl Store {
    /// Begins to listen.
    #[boxed]
    pub async fn events(&self) -> Result<Events> {
        let mut listener = PgListener::connect_with(self.db.get_postgres_connection_pool()).await?;
        // Where the connection is lost that is told, so that listeners look how things stand.
        listener.eager_reconnect(false);
        listener.listen(CHANNEL).await?;
        Ok(Events(listener))
    }

    /// Tells every process.
    #[boxed]
    pub async fn tell(&self, event: &Event) -> Result<()> {
        // The server takes 8,000 bytes at most.
        let mut event = event.clone();
        event.message = event.message.chars().take(1000).collect();
        sea_orm::sqlx::query("SELECT pg_notify($1, $2)")
            .bind(CHANNEL)
            .bind(serde_json::to_string(&event)?)
            .execute(self.db.get_postgres_connection_pool())
            .await?;
        Ok(())
    }
}
