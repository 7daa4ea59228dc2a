//! The log of a study: what was done, with settings, time taken and effect.

use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, QueryOrder,
};
use serde_json::Value as Json;

use crate::entity::log_entry;
use crate::kept;
use crate::{LogEntry, Result, Store, boxed};

/// A line that is to be written.
#[derive(Debug, Clone)]
pub struct LogLine {
    /// which stage it belongs to
    pub stage: &'static str,
    /// what was done
    pub text: String,
    /// with which settings
    pub settings: Json,
    /// how long it took
    pub took: std::time::Duration,
}

impl LogLine {
    /// A log entry without settings or duration.
    pub fn new(stage: &'static str, text: impl Into<String>) -> Self {
        Self {
            stage,
            text: text.into(),
            settings: Json::Object(Default::default()),
            took: Default::default(),
        }
    }

    /// The same, with settings.
    #[must_use]
    pub fn with(mut self, settings: Json) -> Self {
        self.settings = settings;
        self
    }

    /// The same, about what took so long.
    #[must_use]
    pub fn taking(mut self, took: std::time::Duration) -> Self {
        self.took = took;
        self
    }

    pub(crate) async fn insert(self, db: &impl ConnectionTrait, study: i64) -> Result<()> {
        let row = log_entry::ActiveModel {
            study_id: Set(study),
            at: Set(crate::studies::now()),
            stage: Set(self.stage.into()),
            text: Set(self.text),
            settings: Set(kept::checked(&self.settings)?),
            took_ms: Set(self.took.as_millis() as i64),
            ..Default::default()
        };
        row.insert(db).await?;
        Ok(())
    }
}

impl Store {
    /// All lines, the newest first.
    #[boxed]
    pub async fn log_entries(&self, study: i64) -> Result<Vec<LogEntry>> {
        let found = log_entry::Entity::find()
            .filter(log_entry::Column::StudyId.eq(study))
            .order_by_desc(log_entry::Column::Id);
        Ok(found.all(&self.db).await?)
    }
}
