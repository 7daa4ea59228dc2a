//! Thresholds that the analyst begins with in any study.

use sea_orm::ActiveValue::{NotSet, Set};
use sea_orm::sea_query::{Expr, ExprTrait, Func};
use sea_orm::{ActiveModelTrait, ColumnTrait, EntityTrait, QueryFilter, QueryOrder};

use crate::entity::kept_threshold as row;
pub use crate::entity::kept_threshold::Model as KeptThreshold;
use crate::{Error, Result, Store, boxed};

impl Store {
    /// All of them, the smallest first.
    #[boxed]
    pub async fn kept_thresholds(&self) -> Result<Vec<KeptThreshold>> {
        Ok(row::Entity::find()
            .order_by_asc(row::Column::AreaM2)
            .order_by_asc(row::Column::Id)
            .all(&self.db)
            .await?)
    }

    /// Keeps one; one of the same name, whatever its case, is replaced.
    #[boxed]
    pub async fn keep_threshold(&self, name: &str, reason: &str, area_m2: f64) -> Result<()> {
        let same = Expr::expr(Func::lower(Expr::col(row::Column::Name))).eq(name.to_lowercase());
        row::Entity::delete_many().filter(same).exec(&self.db).await?;
        let new = row::ActiveModel {
            id: NotSet,
            name: Set(name.into()),
            reason: Set(reason.into()),
            area_m2: Set(area_m2),
            created_at: NotSet,
        };
        new.insert(&self.db).await?;
        Ok(())
    }

    /// Forgets one.
    ///
    /// # Errors
    /// [`Error::NotFound`] where it is gone already.
    #[boxed]
    pub async fn forget_threshold(&self, id: i64) -> Result<()> {
        match row::Entity::delete_many().filter(row::Column::Id.eq(id)).exec(&self.db).await?.rows_affected {
            0 => Err(Error::NotFound("kept threshold")),
            _ => Ok(()),
        }
    }
}
