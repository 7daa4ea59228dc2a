//! Trials: networks that were tried, with their scores and lines.

use sea_orm::prelude::ChronoDateTimeUtc;
use sea_orm::sea_query::Expr;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, FromQueryResult, QueryFilter, QueryOrder,
    QuerySelect,
};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;

use crate::entity::trial;
use crate::{Change, Error, Kept, Result, Store, boxed};

/// A trial without its lines.
#[derive(Debug, Clone, PartialEq, FromQueryResult)]
pub struct Trial {
    /// number
    pub id: i64,
    /// tells what was varied
    pub name: String,
    /// threshold, DEM, conditioning, method, scores
    pub facts: Json,
    /// what the analyst says of it
    pub remark: String,
    /// why it became the study's network; none where it is not
    pub justification: Option<String>,
    /// when it was kept
    pub created_at: ChronoDateTimeUtc,
}

impl Store {
    /// The trials of a study, the oldest first.
    #[boxed]
    pub async fn trials(&self, study: i64) -> Result<Vec<Trial>> {
        let found = trial::Entity::find()
            .select_only()
            .columns([
                trial::Column::Id,
                trial::Column::Name,
                trial::Column::Facts,
                trial::Column::Remark,
                trial::Column::Justification,
                trial::Column::CreatedAt,
            ])
            .filter(trial::Column::StudyId.eq(study))
            .filter(trial::Column::DeletedAt.is_null())
            .order_by_asc(trial::Column::Id);
        Ok(found.into_model::<Trial>().all(&self.db).await?)
    }

    /// One trial.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study has no such trial.
    #[boxed]
    pub async fn trial(&self, study: i64, id: i64) -> Result<Trial> {
        self.trials(study).await?.into_iter().find(|t| t.id == id).ok_or(Error::NotFound("trial"))
    }

    /// The lines of a trial.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study has no such trial.
    pub async fn trial_lines<T: DeserializeOwned>(&self, study: i64, id: i64) -> Result<Vec<T>> {
        let found =
            trial::Entity::find_by_id(id).filter(trial::Column::StudyId.eq(study)).one(&self.db).await?;
        let row = found.ok_or(Error::NotFound("trial"))?;
        Ok(serde_json::from_slice(&zstd::decode_all(&row.lines[..])?)?)
    }
}

impl Change {
    /// The names of all trials of the study.
    #[boxed]
    pub async fn trial_names(&self) -> Result<Vec<String>> {
        let found = trial::Entity::find()
            .select_only()
            .column(trial::Column::Name)
            .filter(trial::Column::StudyId.eq(self.id()))
            .filter(trial::Column::DeletedAt.is_null())
            .into_tuple();
        Ok(found.all(&self.transaction).await?)
    }

    /// Keeps a trial.
    pub async fn add_trial<T: Serialize>(
        &self,
        name: &str,
        facts: Kept,
        remark: &str,
        lines: &[T],
    ) -> Result<i64> {
        let row = trial::ActiveModel {
            study_id: Set(self.id()),
            name: Set(name.into()),
            facts: Set(facts.into_json()),
            remark: Set(remark.into()),
            justification: Set(None),
            lines: Set(zstd::bulk::compress(&serde_json::to_vec(lines)?, 3)?),
            created_at: Set(crate::studies::now()),
            deleted_at: Set(None),
            ..Default::default()
        };
        Ok(row.insert(&self.transaction).await?.id)
    }

    /// Changes name and remark of a trial.
    #[boxed]
    pub async fn describe_trial(&self, id: i64, name: &str, remark: &str) -> Result<()> {
        let change =
            trial::ActiveModel { name: Set(name.into()), remark: Set(remark.into()), ..Default::default() };
        self.change_trial(id, change).await
    }

    /// Deletes a trial, or brings it back.
    #[boxed]
    pub async fn set_trial_deleted(&self, id: i64, deleted: bool) -> Result<()> {
        let deleted_at = Set(deleted.then(crate::studies::now));
        self.change_trial(id, trial::ActiveModel { deleted_at, ..Default::default() }).await
    }

    /// Makes one trial the study's network, with the reason, or none. Returns the trial chosen before, and its reason.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study has no such trial.
    #[boxed]
    pub async fn choose_trial(&self, chosen: Option<(i64, String)>) -> Result<Option<(i64, String)>> {
        let before = trial::Entity::find()
            .select_only()
            .columns([trial::Column::Id, trial::Column::Justification])
            .filter(trial::Column::StudyId.eq(self.id()))
            .filter(trial::Column::Justification.is_not_null())
            .filter(trial::Column::DeletedAt.is_null())
            .into_tuple::<(i64, String)>()
            .one(&self.transaction)
            .await?;
        trial::Entity::update_many()
            .col_expr(trial::Column::Justification, Expr::value(None::<String>))
            .filter(trial::Column::StudyId.eq(self.id()))
            .exec(&self.transaction)
            .await?;
        if let Some((id, why)) = chosen {
            let row = trial::ActiveModel { justification: Set(Some(why)), ..Default::default() };
            self.change_trial(id, row).await?;
        }
        Ok(before)
    }

    async fn change_trial(&self, id: i64, change: trial::ActiveModel) -> Result<()> {
        let done = trial::Entity::update_many()
            .set(change)
            .filter(trial::Column::Id.eq(id))
            .filter(trial::Column::StudyId.eq(self.id()))
            .exec(&self.transaction)
            .await?;
        if done.rows_affected == 0 { Err(Error::NotFound("trial")) } else { Ok(()) }
    }
}
