//! The log of a study: what was done, with settings, time taken and effect.

use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, QueryOrder,
    QuerySelect,
};
use serde_json::Value as Json;

use crate::entity::log_entry;
use crate::kept;
use crate::{LogEntry, Result, Store};

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
    /// Adds a line.
    pub async fn log(
        &self,
        study: i64,
        stage: &'static str,
        text: &str,
        settings: Json,
        took: std::time::Duration,
    ) -> Result<()> {
        LogLine { stage, text: text.into(), settings, took }.insert(&self.db, study).await?;
        self.touch_study(study).await
    }

    /// The stage of the newest line.
    pub async fn last_logged_stage(&self, study: i64) -> Result<Option<String>> {
        let found = log_entry::Entity::find()
            .select_only()
            .column(log_entry::Column::Stage)
            .filter(log_entry::Column::StudyId.eq(study))
            .order_by_desc(log_entry::Column::Id)
            .into_tuple();
        Ok(found.one(&self.db).await?)
    }

    /// All lines, the newest first.
    pub async fn log_entries(&self, study: i64) -> Result<Vec<LogEntry>> {
        let found = log_entry::Entity::find()
            .filter(log_entry::Column::StudyId.eq(study))
            .order_by_desc(log_entry::Column::Id);
        Ok(found.all(&self.db).await?)
    }
}
