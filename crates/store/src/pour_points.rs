//! Pour points and their catchments.

use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, PaginatorTrait, QueryFilter, QueryOrder,
    QuerySelect, TransactionTrait,
};
use serde_json::Value as Json;

use crate::entity::pour_point;
use crate::studies::locked;
use crate::{Error, Kept, PourPoint, Result, Store};

/// A pour point with what was found for it.
#[derive(Debug, Clone, PartialEq)]
pub struct NewPourPoint {
    /// name
    pub name: String,
    /// easting as given, study CRS
    pub x: f64,
    /// northing as given, study CRS
    pub y: f64,
    /// the catchment's cell and measures
    pub catchment: Option<Kept>,
    /// its outline
    pub outline: Option<Json>,
    /// why there is none
    pub problem: Option<String>,
}

impl Store {
    /// The pour points of a study, the oldest first.
    pub async fn pour_points(&self, study: i64) -> Result<Vec<PourPoint>> {
        let found = pour_point::Entity::find()
            .filter(pour_point::Column::StudyId.eq(study))
            .filter(pour_point::Column::DeletedAt.is_null())
            .order_by_asc(pour_point::Column::Id);
        Ok(found.all(&self.db).await?)
    }

    /// How many pour points a study has.
    pub async fn pour_point_count(&self, study: i64) -> Result<usize> {
        let found = pour_point::Entity::find()
            .filter(pour_point::Column::StudyId.eq(study))
            .filter(pour_point::Column::DeletedAt.is_null());
        Ok(usize::try_from(found.count(&self.db).await?).unwrap_or(usize::MAX))
    }

    /// One pour point of a study.
    pub async fn pour_point(&self, study: i64, id: i64) -> Result<PourPoint> {
        let found = pour_point::Entity::find_by_id(id)
            .filter(pour_point::Column::StudyId.eq(study))
            .filter(pour_point::Column::DeletedAt.is_null());
        found.one(&self.db).await?.ok_or(Error::NotFound("pour point"))
    }

    /// Adds a pour point. One without a name gets the next that is free, "Pour point 3", however many come at once.
    pub async fn add_pour_point(&self, study: i64, mut new: NewPourPoint) -> Result<PourPoint> {
        let begun = self.db.begin().await?;
        locked(&begun, study).await?;
        if new.name.is_empty() {
            let names: Vec<String> = pour_point::Entity::find()
                .select_only()
                .column(pour_point::Column::Name)
                .filter(pour_point::Column::StudyId.eq(study))
                .filter(pour_point::Column::DeletedAt.is_null())
                .into_tuple()
                .all(&begun)
                .await?;
            new.name =
                (1..).map(|n| format!("Pour point {n}")).find(|n| !names.contains(n)).unwrap_or_default();
        }
        let row = pour_point::ActiveModel {
            study_id: Set(study),
            name: Set(new.name),
            x: Set(new.x),
            y: Set(new.y),
            catchment: Set(new.catchment.map(Kept::into_json)),
            outline: Set(new.outline),
            problem: Set(new.problem),
            deleted_at: Set(None),
            ..Default::default()
        };
        let added = row.insert(&begun).await?;
        begun.commit().await?;
        self.touch_study(study).await?;
        Ok(added)
    }

    /// Replaces what is known of a pour point.
    pub async fn change_pour_point(&self, study: i64, id: i64, new: NewPourPoint) -> Result<PourPoint> {
        let mut row: pour_point::ActiveModel = self.pour_point(study, id).await?.into();
        row.name = Set(new.name);
        row.x = Set(new.x);
        row.y = Set(new.y);
        row.catchment = Set(new.catchment.map(Kept::into_json));
        row.outline = Set(new.outline);
        row.problem = Set(new.problem);
        let changed = row.update(&self.db).await?;
        self.touch_study(study).await?;
        Ok(changed)
    }

    /// Gives a pour point another name.
    pub async fn rename_pour_point(&self, study: i64, id: i64, name: &str) -> Result<()> {
        let mut row: pour_point::ActiveModel = self.pour_point(study, id).await?.into();
        row.name = Set(name.into());
        row.update(&self.db).await?;
        self.touch_study(study).await
    }

    /// Deletes a pour point, or brings it back.
    pub async fn set_pour_point_deleted(&self, study: i64, id: i64, deleted: bool) -> Result<()> {
        let found = pour_point::Entity::find_by_id(id)
            .filter(pour_point::Column::StudyId.eq(study))
            .one(&self.db)
            .await?;
        let mut row: pour_point::ActiveModel = found.ok_or(Error::NotFound("pour point"))?.into();
        row.deleted_at = Set(deleted.then(crate::studies::now));
        row.update(&self.db).await?;
        self.touch_study(study).await
    }
}
