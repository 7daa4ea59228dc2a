//! The log of a study: what was done, with settings, time taken and effect.

use sea_orm::{ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder};
use serde_json::Value as Json;

use crate::entity::log_entry;
use crate::{LogEntry, Result, Store};

impl Store {
    /// Adds a line.
    pub async fn log(
        &self,
        study: i64,
        stage: &str,
        text: &str,
        settings: Json,
        took: std::time::Duration,
    ) -> Result<()> {
        let row = log_entry::ActiveModel {
            study_id: Set(study),
            at: Set(crate::studies::now()),
            stage: Set(stage.into()),
            text: Set(text.into()),
            settings: Set(settings),
            took_ms: Set(took.as_millis() as i64),
            ..Default::default()
        };
        row.insert(&self.db).await?;
        self.touch_study(study).await
    }

    /// All lines, the newest first.
    pub async fn log_entries(&self, study: i64) -> Result<Vec<LogEntry>> {
        let found = log_entry::Entity::find()
            .filter(log_entry::Column::StudyId.eq(study))
            .order_by_desc(log_entry::Column::Id);
        Ok(found.all(&self.db).await?)
    }
}
