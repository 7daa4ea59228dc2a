//! Map sheets of a study, and the pictures that stand on them.

use sea_orm::ActiveValue::Set;
use sea_orm::sea_query::{Expr, ExprTrait, OnConflict};
use sea_orm::{ActiveModelTrait, ColumnTrait, EntityTrait, QueryFilter, QueryOrder};

use crate::entity::{sheet, sheet_picture};
use crate::{Change, Error, Kept, Result, Store, boxed};

impl Store {
    /// The sheets of a study, the oldest first.
    #[boxed]
    pub async fn sheets(&self, study: i64) -> Result<Vec<sheet::Model>> {
        let found = sheet::Entity::find()
            .filter(sheet::Column::StudyId.eq(study))
            .filter(sheet::Column::DeletedAt.is_null())
            .order_by_asc(sheet::Column::Id);
        Ok(found.all(&self.db).await?)
    }

    /// One sheet.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study has no such sheet.
    #[boxed]
    pub async fn sheet(&self, study: i64, id: i64) -> Result<sheet::Model> {
        let found = sheet::Entity::find_by_id(id)
            .filter(sheet::Column::StudyId.eq(study))
            .filter(sheet::Column::DeletedAt.is_null());
        found.one(&self.db).await?.ok_or(Error::NotFound("map sheet"))
    }

    /// A picture that stands on sheets of a study, as PNG.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study has none of that SHA-256.
    #[boxed]
    pub async fn sheet_picture(&self, study: i64, sha256: &str) -> Result<Vec<u8>> {
        let found = sheet_picture::Entity::find_by_id((study, sha256.to_owned())).one(&self.db).await?;
        Ok(found.ok_or(Error::NotFound("picture of the sheet"))?.png)
    }
}

impl Change {
    /// A sheet as it is now.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study has no such sheet.
    #[boxed]
    pub async fn sheet(&self, id: i64) -> Result<sheet::Model> {
        let found = sheet::Entity::find_by_id(id)
            .filter(sheet::Column::StudyId.eq(self.id()))
            .filter(sheet::Column::DeletedAt.is_null());
        found.one(&self.transaction).await?.ok_or(Error::NotFound("map sheet"))
    }

    /// Adds a sheet; returns its number.
    #[boxed]
    pub async fn add_sheet(&self, name: &str, sheet: Kept) -> Result<i64> {
        let row = sheet::ActiveModel {
            study_id: Set(self.id()),
            name: Set(name.into()),
            sheet: Set(sheet.into_json()),
            version: Set(1),
            updated_at: Set(crate::studies::now()),
            deleted_at: Set(None),
            ..Default::default()
        };
        Ok(row.insert(&self.transaction).await?.id)
    }

    /// Changes name and contents of a sheet.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study has no such sheet.
    #[boxed]
    pub async fn set_sheet(&self, id: i64, name: &str, sheet: Kept) -> Result<()> {
        let change = sheet::ActiveModel {
            name: Set(name.into()),
            sheet: Set(sheet.into_json()),
            ..Default::default()
        };
        self.change_sheet(id, change).await
    }

    /// Deletes a sheet, or brings it back.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study has no such sheet.
    #[boxed]
    pub async fn set_sheet_deleted(&self, id: i64, deleted: bool) -> Result<()> {
        let deleted_at = Set(deleted.then(crate::studies::now));
        self.change_sheet(id, sheet::ActiveModel { deleted_at, ..Default::default() }).await
    }

    async fn change_sheet(&self, id: i64, mut change: sheet::ActiveModel) -> Result<()> {
        change.updated_at = Set(crate::studies::now());
        let done = sheet::Entity::update_many()
            .set(change)
            .col_expr(sheet::Column::Version, Expr::col(sheet::Column::Version).add(1))
            .filter(sheet::Column::Id.eq(id))
            .filter(sheet::Column::StudyId.eq(self.id()))
            .exec(&self.transaction)
            .await?;
        if done.rows_affected == 0 { Err(Error::NotFound("map sheet")) } else { Ok(()) }
    }

    /// Keeps a picture that stands on sheets.
    #[boxed]
    pub async fn put_sheet_picture(&self, sha256: &str, png: Vec<u8>) -> Result<()> {
        let row = sheet_picture::ActiveModel {
            study_id: Set(self.id()),
            sha256: Set(sha256.into()),
            png: Set(png),
        };
        let same = [sheet_picture::Column::StudyId, sheet_picture::Column::Sha256];
        sheet_picture::Entity::insert(row)
            .on_conflict(OnConflict::columns(same).do_nothing().to_owned())
            .exec_without_returning(&self.transaction)
            .await?;
        Ok(())
    }
}
