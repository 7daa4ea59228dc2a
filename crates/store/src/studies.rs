//! Studies: made, changed, duplicated, deleted and restored.

use sea_orm::prelude::ChronoDateTimeUtc;
use sea_orm::sea_query::{Expr, LockType};
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, DatabaseTransaction, EntityTrait,
    QueryFilter, QueryOrder, QuerySelect, TransactionTrait,
};
use serde_json::Value as Json;

use crate::entity::{raster, study};
use crate::rasters::{RasterRole, RasterWriter};
use crate::{Error, Result, Store, Study};

/// The time now.
pub(crate) fn now() -> ChronoDateTimeUtc {
    ChronoDateTimeUtc::from(std::time::SystemTime::now())
}

/// A part of a study that later stages write.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StudyPart {
    /// the DEM file as it was given
    Source,
    /// the prepared DEM
    Terrain,
    /// the sinks and barriers that were found before conditioning
    Review,
    /// what filling and routing found
    Routing,
    /// the network at the chosen threshold
    Network,
}

/// New values of parts of a study; `None` empties the part.
pub type StudyChange = Vec<(StudyPart, Option<Json>)>;

fn apply(model: &mut study::ActiveModel, change: StudyChange) {
    for (part, value) in change {
        match part {
            StudyPart::Source => model.source = Set(value),
            StudyPart::Terrain => model.terrain = Set(value),
            StudyPart::Review => model.review = Set(value),
            StudyPart::Routing => model.routing = Set(value),
            StudyPart::Network => model.network = Set(value),
        }
    }
    model.updated_at = Set(now());
}

/// What became of a network that was to be kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeptNetwork {
    /// it is kept
    Kept,
    /// flow was routed again in the meantime
    Outdated,
    /// another is kept already
    Taken,
}

/// A study that nobody else changes until the transaction ends.
async fn locked(transaction: &DatabaseTransaction, id: i64) -> Result<Study> {
    // Rasters that are being written refer to the study; this lock does not wait for them.
    let found =
        study::Entity::find_by_id(id).filter(study::Column::DeletedAt.is_null()).lock(LockType::NoKeyUpdate);
    found.one(transaction).await?.ok_or(Error::NotFound("study"))
}

impl Store {
    /// All studies that are not deleted, the last changed first.
    pub async fn studies(&self) -> Result<Vec<Study>> {
        let found = study::Entity::find()
            .filter(study::Column::DeletedAt.is_null())
            .order_by_desc(study::Column::UpdatedAt)
            .order_by_desc(study::Column::Id);
        Ok(found.all(&self.db).await?)
    }

    /// Studies that were deleted and can still be restored, the last deleted first.
    pub async fn deleted_studies(&self) -> Result<Vec<Study>> {
        let found = study::Entity::find()
            .filter(study::Column::DeletedAt.is_not_null())
            .order_by_desc(study::Column::DeletedAt);
        Ok(found.all(&self.db).await?)
    }

    /// A study by number.
    pub async fn study(&self, id: i64) -> Result<Study> {
        let found =
            study::Entity::find_by_id(id).filter(study::Column::DeletedAt.is_null()).one(&self.db).await?;
        found.ok_or(Error::NotFound("study"))
    }

    /// Makes a study.
    pub async fn create_study(&self, name: &str, description: &str, source: Option<Json>) -> Result<Study> {
        let row = study::ActiveModel {
            name: Set(name.into()),
            description: Set(description.into()),
            created_at: Set(now()),
            updated_at: Set(now()),
            deleted_at: Set(None),
            source: Set(source),
            terrain: Set(None),
            review: Set(None),
            routing: Set(None),
            network: Set(None),
            settings: Set(Json::Object(Default::default())),
            ..Default::default()
        };
        Ok(row.insert(&self.db).await?)
    }

    /// Changes name and description.
    pub async fn describe_study(&self, id: i64, name: &str, description: &str) -> Result<Study> {
        let mut row: study::ActiveModel = self.study(id).await?.into();
        row.name = Set(name.into());
        row.description = Set(description.into());
        row.updated_at = Set(now());
        Ok(row.update(&self.db).await?)
    }

    /// Changes parts of a study.
    pub async fn change_study(&self, id: i64, change: StudyChange) -> Result<()> {
        let mut row = study::ActiveModel { id: Set(id), ..Default::default() };
        apply(&mut row, change);
        row.update(&self.db).await?;
        Ok(())
    }

    /// Keeps what is known of the network of a study, where flow has not been routed again since: its accumulation is
    /// still the raster of that number. With `first` only where none is kept yet.
    pub async fn keep_network(
        &self,
        id: i64,
        accumulation: i64,
        network: Json,
        first: bool,
    ) -> Result<KeptNetwork> {
        let begun = self.db.begin().await?;
        let row = locked(&begun, id).await?;
        if first && row.network.is_some() {
            return Ok(KeptNetwork::Taken);
        }
        let current = raster::Entity::find()
            .filter(raster::Column::StudyId.eq(id))
            .filter(raster::Column::Parked.is_null())
            .filter(raster::Column::Role.eq(RasterRole::Accumulation.name()))
            .one(&begun)
            .await?;
        if current.is_none_or(|raster| raster.id != accumulation) {
            return Ok(KeptNetwork::Outdated);
        }
        let mut row = study::ActiveModel { id: Set(id), ..Default::default() };
        apply(&mut row, vec![(StudyPart::Network, Some(network))]);
        row.update(&begun).await?;
        begun.commit().await?;
        Ok(KeptNetwork::Kept)
    }

    /// Changes the choices of a study in one step that nobody comes in between. `change` makes new ones of those that
    /// are kept, and an answer that is passed on; where it fails nothing is changed.
    pub async fn change_settings<T: Send, E: From<Error>>(
        &self,
        id: i64,
        change: impl FnOnce(Json) -> std::result::Result<(Json, T), E> + Send,
    ) -> std::result::Result<T, E> {
        let begun = self.db.begin().await.map_err(Error::from)?;
        let (settings, answer) = change(locked(&begun, id).await?.settings)?;
        let row = study::ActiveModel {
            id: Set(id),
            settings: Set(settings),
            updated_at: Set(now()),
            ..Default::default()
        };
        row.update(&begun).await.map_err(Error::from)?;
        begun.commit().await.map_err(Error::from)?;
        Ok(answer)
    }

    /// Puts some choices of a study back to what they were, by their names; the others stay as they are.
    pub async fn put_back_settings(&self, id: i64, earlier: Json) -> Result<()> {
        let put_back = |mut now: Json| {
            if let (Json::Object(now), Json::Object(earlier)) = (&mut now, earlier) {
                now.extend(earlier);
            }
            Ok::<_, Error>((now, ()))
        };
        self.change_settings(id, put_back).await
    }

    /// Deletes a study; it can be restored until it is purged.
    pub async fn delete_study(&self, id: i64) -> Result<()> {
        let row = study::ActiveModel {
            id: Set(self.study(id).await?.id),
            deleted_at: Set(Some(now())),
            ..Default::default()
        };
        row.update(&self.db).await?;
        Ok(())
    }

    /// Brings a deleted study back.
    pub async fn restore_study(&self, id: i64) -> Result<()> {
        let found = study::Entity::find_by_id(id).one(&self.db).await?.ok_or(Error::NotFound("study"))?;
        let row = study::ActiveModel { id: Set(found.id), deleted_at: Set(None), ..Default::default() };
        row.update(&self.db).await?;
        Ok(())
    }

    /// Removes for good what was deleted longer ago than `age`.
    pub async fn purge_deleted(&self, age: std::time::Duration) -> Result<u64> {
        let before = ChronoDateTimeUtc::from(std::time::SystemTime::now() - age);
        let gone =
            study::Entity::delete_many().filter(study::Column::DeletedAt.lt(before)).exec(&self.db).await?;
        Ok(gone.rows_affected)
    }

    /// A copy of a study with all it holds but its jobs, its undo list and its parked DEMs.
    pub async fn duplicate_study(&self, id: i64, name: &str) -> Result<Study> {
        let original = self.study(id).await?;
        let transaction = self.db.begin().await?;
        let mut row: study::ActiveModel = original.into();
        row.id = sea_orm::ActiveValue::NotSet;
        row.name = Set(name.into());
        row.created_at = Set(now());
        row.updated_at = Set(now());
        let copy = row.insert(&transaction).await?;
        let new = copy.id;
        for sql in [
            format!("INSERT INTO log_entry (study_id, at, stage, text, settings, took_ms)
                SELECT {new}, at, stage, text, settings, took_ms FROM log_entry WHERE study_id = {id} ORDER BY id"),
            format!("INSERT INTO pour_point (study_id, name, x, y, catchment, outline, problem)
                SELECT {new}, name, x, y, catchment, outline, problem FROM pour_point
                WHERE study_id = {id} AND deleted_at IS NULL ORDER BY id"),
            format!("INSERT INTO layer (study_id, role, name, provenance, features, version, data)
                SELECT {new}, role, name, provenance, features, version, data FROM layer
                WHERE study_id = {id} AND deleted_at IS NULL ORDER BY id"),
            format!("INSERT INTO backdrop (study_id, name, width, height, place, provenance, version, picture)
                SELECT {new}, name, width, height, place, provenance, version, picture FROM backdrop
                WHERE study_id = {id} AND deleted_at IS NULL ORDER BY id"),
            format!("INSERT INTO trial (study_id, name, facts, remark, justification, lines, created_at)
                SELECT {new}, name, facts, remark, justification, lines, created_at FROM trial
                WHERE study_id = {id} AND deleted_at IS NULL ORDER BY id"),
            format!("INSERT INTO barrier (study_id, x, y, facts, score, found, decision, line)
                SELECT {new}, x, y, facts, score, found, decision, line FROM barrier
                WHERE study_id = {id} AND parked IS NULL ORDER BY id"),
            format!("INSERT INTO raster (study_id, role, cell_type, rows, cols, levels, \"left\", top, cell_x, cell_y)
                SELECT {new}, role, cell_type, rows, cols, levels, \"left\", top, cell_x, cell_y
                FROM raster WHERE study_id = {id} AND parked IS NULL"),
            format!("INSERT INTO raster_block SELECT n.id, b.level, b.row, b.col, b.data
                FROM raster o JOIN raster n ON n.role = o.role AND n.study_id = {new}
                JOIN raster_block b ON b.raster_id = o.id WHERE o.study_id = {id} AND o.parked IS NULL"),
            format!("INSERT INTO file (study_id, role, name, bytes, sha256, created_at)
                SELECT {new}, role, name, bytes, sha256, created_at FROM file WHERE study_id = {id} AND parked IS NULL"),
            format!("INSERT INTO file_chunk SELECT n.id, c.sequence, c.data
                FROM file o JOIN file n ON n.role = o.role AND n.sha256 = o.sha256 AND n.study_id = {new}
                JOIN file_chunk c ON c.file_id = o.id WHERE o.study_id = {id} AND o.parked IS NULL"),
        ] {
            transaction.execute_unprepared(&sql).await?;
        }
        transaction.commit().await?;
        Ok(copy)
    }

    /// Marks a study as changed now.
    pub(crate) async fn touch_study(&self, id: i64) -> Result<()> {
        study::Entity::update_many()
            .col_expr(study::Column::UpdatedAt, Expr::value(now()))
            .filter(study::Column::Id.eq(id))
            .exec(&self.db)
            .await?;
        Ok(())
    }
}

impl RasterWriter {
    /// What is kept of the study's network now; nobody changes it until the writer is done.
    pub async fn network(&self) -> Result<Option<Json>> {
        let (transaction, study) = self.transaction();
        Ok(locked(transaction, study).await?.network)
    }

    /// Changes parts of the study together with its rasters.
    pub async fn change_study(&self, change: StudyChange) -> Result<()> {
        let (transaction, study) = self.transaction();
        let mut row = study::ActiveModel { id: Set(study), ..Default::default() };
        apply(&mut row, change);
        row.update(transaction).await?;
        Ok(())
    }
}
