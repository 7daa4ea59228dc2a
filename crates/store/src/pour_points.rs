//! Pour points and their catchments.

use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, PaginatorTrait, QueryFilter, QueryOrder,
};
use serde_json::Value as Json;

use crate::entity::pour_point;
use crate::{Change, Error, Kept, PourPoint, Result, Store, boxed};

/// How far and to what a pour point snaps.
#[derive(Debug, Clone, PartialEq)]
pub struct Snapping {
    /// farthest distance, metres
    pub snap_m: f64,
    /// the rule, by its name in the core
    pub snap_to: String,
}

/// What was found for a pour point.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Delineated {
    /// the catchment's cell and measures
    pub catchment: Option<Kept>,
    /// its outline
    pub outline: Option<Json>,
    /// why there is none
    pub problem: Option<String>,
}

/// A pour point with what was found for it.
#[derive(Debug, Clone, PartialEq)]
pub struct NewPourPoint {
    /// name; empty for the next that is free
    pub name: String,
    /// easting as given, study CRS
    pub x: f64,
    /// northing as given, study CRS
    pub y: f64,
    /// how it was snapped
    pub snapping: Snapping,
    /// what was found
    pub found: Delineated,
}

impl Store {
    /// The pour points of a study, the oldest first.
    #[boxed]
    pub async fn pour_points(&self, study: i64) -> Result<Vec<PourPoint>> {
        let found = pour_point::Entity::find()
            .filter(pour_point::Column::StudyId.eq(study))
            .filter(pour_point::Column::DeletedAt.is_null())
            .order_by_asc(pour_point::Column::Id);
        Ok(found.all(&self.db).await?)
    }

    /// How many pour points a study has.
    #[boxed]
    pub async fn pour_point_count(&self, study: i64) -> Result<usize> {
        let found = pour_point::Entity::find()
            .filter(pour_point::Column::StudyId.eq(study))
            .filter(pour_point::Column::DeletedAt.is_null());
        Ok(usize::try_from(found.count(&self.db).await?).unwrap_or(usize::MAX))
    }

    /// One pour point of a study.
    #[boxed]
    pub async fn pour_point(&self, study: i64, id: i64) -> Result<PourPoint> {
        let found = pour_point::Entity::find_by_id(id)
            .filter(pour_point::Column::StudyId.eq(study))
            .filter(pour_point::Column::DeletedAt.is_null());
        found.one(&self.db).await?.ok_or(Error::NotFound("pour point"))
    }
}

impl Change {
    /// The pour points of the study as they are now, the oldest first.
    #[boxed]
    pub async fn pour_points(&self) -> Result<Vec<PourPoint>> {
        let found = pour_point::Entity::find()
            .filter(pour_point::Column::StudyId.eq(self.id()))
            .filter(pour_point::Column::DeletedAt.is_null())
            .order_by_asc(pour_point::Column::Id);
        Ok(found.all(&self.transaction).await?)
    }

    /// A pour point of the study, also a deleted one.
    async fn any_pour_point(&self, id: i64) -> Result<PourPoint> {
        let found = pour_point::Entity::find_by_id(id).filter(pour_point::Column::StudyId.eq(self.id()));
        found.one(&self.transaction).await?.ok_or(Error::NotFound("pour point"))
    }

    /// A pour point of the study.
    ///
    /// # Errors
    /// [`Error::NotFound`] where there is none of that number, or it was deleted.
    #[boxed]
    pub async fn pour_point(&self, id: i64) -> Result<PourPoint> {
        let found = self.any_pour_point(id).await?;
        if found.deleted_at.is_some() { Err(Error::NotFound("pour point")) } else { Ok(found) }
    }

    /// Adds a pour point, and returns its number and name. One without a name gets the next that is free, "Pour point 3".
    #[boxed]
    pub async fn add_pour_point(&self, mut new: NewPourPoint) -> Result<(i64, String)> {
        if new.name.is_empty() {
            let names: Vec<String> = self.pour_points().await?.into_iter().map(|p| p.name).collect();
            new.name =
                (1..).map(|n| format!("Pour point {n}")).find(|n| !names.contains(n)).unwrap_or_default();
        }
        let row = pour_point::ActiveModel {
            study_id: Set(self.id()),
            name: Set(new.name.clone()),
            x: Set(new.x),
            y: Set(new.y),
            snap_m: Set(new.snapping.snap_m),
            snap_to: Set(new.snapping.snap_to),
            catchment: Set(new.found.catchment.map(Kept::into_json)),
            outline: Set(new.found.outline),
            problem: Set(new.found.problem),
            deleted_at: Set(None),
            ..Default::default()
        };
        // Its outline, which may be long, does not come back.
        let id = pour_point::Entity::insert(row).exec(&self.transaction).await?.last_insert_id;
        Ok((id, new.name))
    }

    /// Moves a pour point, with what was found at its new place.
    #[boxed]
    pub async fn move_pour_point(&self, id: i64, new: NewPourPoint) -> Result<()> {
        let mut row: pour_point::ActiveModel = self.pour_point(id).await?.into();
        (row.name, row.x, row.y) = (Set(new.name), Set(new.x), Set(new.y));
        (row.snap_m, row.snap_to) = (Set(new.snapping.snap_m), Set(new.snapping.snap_to));
        row.catchment = Set(new.found.catchment.map(Kept::into_json));
        (row.outline, row.problem) = (Set(new.found.outline), Set(new.found.problem));
        row.update(&self.transaction).await?;
        Ok(())
    }

    /// Keeps what was found for a pour point, which stays where it is.
    #[boxed]
    pub async fn keep_delineated(&self, id: i64, found: Delineated) -> Result<()> {
        let row = pour_point::ActiveModel {
            id: Set(self.any_pour_point(id).await?.id),
            catchment: Set(found.catchment.map(Kept::into_json)),
            outline: Set(found.outline),
            problem: Set(found.problem),
            ..Default::default()
        };
        row.update(&self.transaction).await?;
        Ok(())
    }

    /// Gives a pour point another name.
    #[boxed]
    pub async fn rename_pour_point(&self, id: i64, name: &str) -> Result<()> {
        let mut row: pour_point::ActiveModel = self.pour_point(id).await?.into();
        row.name = Set(name.into());
        row.update(&self.transaction).await?;
        Ok(())
    }

    /// Deletes a pour point, or brings it back.
    #[boxed]
    pub async fn set_pour_point_deleted(&self, id: i64, deleted: bool) -> Result<()> {
        let mut row: pour_point::ActiveModel = self.any_pour_point(id).await?.into();
        row.deleted_at = Set(deleted.then(crate::studies::now));
        row.update(&self.transaction).await?;
        Ok(())
    }
}
