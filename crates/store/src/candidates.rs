//! Several DEMs of one area in one study. One is at work; the others are parked with their files, rasters,
//! barriers and results, and come back as they were.

use sea_orm::sea_query::Expr;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, DatabaseTransaction, EntityTrait, QueryFilter,
    QueryOrder,
};

use crate::entity::{barrier, candidate, file, raster, study};
use crate::{Candidate, Change, Error, Kept, Result, Store};

impl Store {
    /// The parked DEMs of a study, the oldest first.
    pub async fn candidates(&self, study: i64) -> Result<Vec<Candidate>> {
        let found = candidate::Entity::find()
            .filter(candidate::Column::StudyId.eq(study))
            .order_by_asc(candidate::Column::Id);
        Ok(found.all(&self.db).await?)
    }
}

impl Change {
    /// Parks the DEM at work under `name`, and begins with a new one that is `source`. Barriers about which
    /// something was decided are known to the new one too.
    pub async fn begin_candidate(&self, name: &str, source: Kept) -> Result<()> {
        let (transaction, study) = (&self.transaction, self.id());
        let parked = park(transaction, study, name).await?;
        let decided = barrier::Entity::find()
            .filter(barrier::Column::Parked.eq(parked))
            .filter(barrier::Column::Decision.is_not_null())
            .order_by_asc(barrier::Column::Id);
        for known in decided.all(transaction).await? {
            let mut row: barrier::ActiveModel = known.into();
            row.id = sea_orm::ActiveValue::NotSet;
            (row.parked, row.found) = (Set(None), Set(false));
            row.insert(transaction).await?;
        }
        let row = study::ActiveModel {
            id: Set(study),
            source: Set(Some(source.into_json())),
            terrain: Set(None),
            review: Set(None),
            routing: Set(None),
            network: Set(None),
            updated_at: Set(crate::studies::now()),
            ..Default::default()
        };
        row.update(transaction).await?;
        Ok(())
    }

    /// Parks the DEM at work under `name`, and takes up a parked one as it was left.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study has no such candidate.
    pub async fn take_up(&self, candidate: i64, name: &str) -> Result<Candidate> {
        let (transaction, study) = (&self.transaction, self.id());
        let found = candidate::Entity::find_by_id(candidate)
            .filter(candidate::Column::StudyId.eq(study))
            .one(transaction)
            .await?
            .ok_or(Error::NotFound("candidate DEM"))?;
        park(transaction, study, name).await?;
        mark(transaction, study, Some(candidate), None).await?;
        let row = study::ActiveModel {
            id: Set(study),
            source: Set(found.source.clone()),
            terrain: Set(found.terrain.clone()),
            review: Set(found.review.clone()),
            routing: Set(found.routing.clone()),
            network: Set(found.network.clone()),
            updated_at: Set(crate::studies::now()),
            ..Default::default()
        };
        row.update(transaction).await?;
        candidate::Entity::delete_by_id(candidate).exec(transaction).await?;
        Ok(found)
    }

    /// Deletes a parked DEM with all that was done to it.
    pub async fn delete_candidate(&self, candidate: i64) -> Result<()> {
        let gone = candidate::Entity::delete_many()
            .filter(candidate::Column::StudyId.eq(self.id()))
            .filter(candidate::Column::Id.eq(candidate))
            .exec(&self.transaction)
            .await?;
        if gone.rows_affected == 0 { Err(Error::NotFound("candidate DEM")) } else { Ok(()) }
    }
}

/// Puts the DEM at work aside; answers with its number.
async fn park(transaction: &DatabaseTransaction, study: i64, name: &str) -> Result<i64> {
    let now = study::Entity::find_by_id(study).one(transaction).await?.ok_or(Error::NotFound("study"))?;
    let row = candidate::ActiveModel {
        study_id: Set(study),
        name: Set(name.into()),
        source: Set(now.source),
        terrain: Set(now.terrain),
        review: Set(now.review),
        routing: Set(now.routing),
        network: Set(now.network),
        ..Default::default()
    };
    let parked = row.insert(transaction).await?.id;
    mark(transaction, study, None, Some(parked)).await?;
    Ok(parked)
}

/// Says of everything that belongs to `from` that it belongs to `to`; none is the DEM at work.
async fn mark(
    transaction: &DatabaseTransaction,
    study: i64,
    from: Option<i64>,
    to: Option<i64>,
) -> Result<()> {
    macro_rules! move_rows {
        ($table:ident, $belongs:expr) => {
            let of = match from {
                Some(from) => $table::Column::Parked.eq(from),
                None => $table::Column::Parked.is_null(),
            };
            $table::Entity::update_many()
                .col_expr($table::Column::Parked, Expr::value(to))
                .filter($table::Column::StudyId.eq(study))
                .filter(of)
                .filter($belongs)
                .exec(transaction)
                .await?;
        };
    }
    let any = || Expr::value(true);
    move_rows!(raster, any());
    // Weights belong to the study, whatever DEM it works on.
    move_rows!(file, file::Column::Role.ne("weights"));
    move_rows!(barrier, any());
    Ok(())
}
