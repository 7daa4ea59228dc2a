//! Several DEMs of one area in one study. One is at work; the others are set aside with their files, rasters, barriers
//! and results, and come back as they were.

use sea_orm::sea_query::{Query, SelectStatement};
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, FromQueryResult,
    QueryFilter, QueryOrder, QuerySelect, Statement,
};

use serde_json::Value as Json;

use crate::entity::{barrier, dem};
use crate::studies::put_source;
use crate::{Change, Dem, Error, Kept, Result, Store, boxed};

/// The number of the DEM that a study works on, as part of a query.
pub(crate) fn at_work(study: i64) -> SelectStatement {
    let mut all = all_at_work();
    all.and_where(dem::Column::StudyId.eq(study));
    all
}

/// The numbers of the DEMs that studies work on, as part of a query.
pub(crate) fn all_at_work() -> SelectStatement {
    let mut query = Query::select();
    query.column(dem::Column::Id).from(dem::Entity).and_where(dem::Column::AtWork.eq(true));
    query
}

/// The number of the DEM that a study works on.
pub(crate) async fn number_at_work(db: &impl ConnectionTrait, study: i64) -> Result<i64> {
    let found = dem::Entity::find()
        .select_only()
        .column(dem::Column::Id)
        .filter(dem::Column::StudyId.eq(study))
        .filter(dem::Column::AtWork.eq(true))
        .into_tuple();
    found.one(db).await?.ok_or(Error::NotFound("study"))
}

/// A new DEM that a study works on, with what is known of its files; returns its number.
pub(crate) async fn begin(db: &impl ConnectionTrait, study: i64, source: Option<Json>) -> Result<i64> {
    let row = dem::ActiveModel {
        study_id: Set(study),
        name: Set(String::new()),
        at_work: Set(true),
        source: Set(None),
        terrain: Set(None),
        review: Set(None),
        routing: Set(None),
        network: Set(None),
        uncertainty: Set(None),
        ..Default::default()
    };
    let id = row.insert(db).await?.id;
    put_source(db, id, source).await?;
    Ok(id)
}

impl Store {
    /// The DEMs of a study that are set aside, the oldest first.
    #[boxed]
    pub async fn candidates(&self, study: i64) -> Result<Vec<Dem>> {
        let sql =
            "SELECT id, study_id, name, at_work, source_of(id) AS source, terrain, review, routing, network, uncertainty
            FROM dem WHERE study_id = $1 AND NOT at_work ORDER BY id";
        let statement = Statement::from_sql_and_values(self.db.get_database_backend(), sql, [study.into()]);
        Ok(Dem::find_by_statement(statement).all(&self.db).await?)
    }
}

impl Change {
    /// Sets the DEM at work aside under `name`; returns its number.
    async fn set_aside(&self, name: &str) -> Result<i64> {
        let id = number_at_work(&self.transaction, self.id()).await?;
        let row = dem::ActiveModel {
            id: Set(id),
            name: Set(name.into()),
            at_work: Set(false),
            ..Default::default()
        };
        row.update(&self.transaction).await?;
        Ok(id)
    }

    /// Sets the DEM at work aside under `name`, and begins with a new one that is `source`. Barriers about which
    /// something was decided are known to the new one too.
    #[boxed]
    pub async fn begin_candidate(&self, name: &str, source: Kept) -> Result<()> {
        let before = self.set_aside(name).await?;
        let now = begin(&self.transaction, self.id(), Some(source.into_json())).await?;
        let decided = barrier::Entity::find()
            .filter(barrier::Column::DemId.eq(before))
            .filter(barrier::Column::Decision.is_not_null())
            .order_by_asc(barrier::Column::Id);
        for known in decided.all(&self.transaction).await? {
            let mut row: barrier::ActiveModel = known.into();
            row.id = sea_orm::ActiveValue::NotSet;
            (row.dem_id, row.found) = (Set(now), Set(false));
            row.insert(&self.transaction).await?;
        }
        Ok(())
    }

    /// Sets the DEM at work aside under `name`, and takes up another as it was left; returns the name it had.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study has no such DEM set aside.
    #[boxed]
    pub async fn take_up(&self, candidate: i64, name: &str) -> Result<String> {
        let found = dem::Entity::find_by_id(candidate)
            .filter(dem::Column::StudyId.eq(self.id()))
            .filter(dem::Column::AtWork.eq(false))
            .one(&self.transaction)
            .await?
            .ok_or(Error::NotFound("candidate DEM"))?;
        self.set_aside(name).await?;
        let row = dem::ActiveModel { id: Set(candidate), at_work: Set(true), ..Default::default() };
        row.update(&self.transaction).await?;
        Ok(found.name)
    }

    /// Deletes a DEM that is set aside, with all that was done to it.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study has no such DEM set aside.
    #[boxed]
    pub async fn delete_candidate(&self, candidate: i64) -> Result<()> {
        let gone = dem::Entity::delete_many()
            .filter(dem::Column::StudyId.eq(self.id()))
            .filter(dem::Column::AtWork.eq(false))
            .filter(dem::Column::Id.eq(candidate))
            .exec(&self.transaction)
            .await?;
        if gone.rows_affected == 0 { Err(Error::NotFound("candidate DEM")) } else { Ok(()) }
    }
}
