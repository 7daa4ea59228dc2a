//! A change that can be undone.

use sea_orm::entity::prelude::*;

/// A change that can be undone.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "undo_entry")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// study
    pub study_id: i64,
    /// what was done, in words
    pub label: String,
    /// how it is undone
    pub inverse: Json,
    /// when it was done
    pub created_at: ChronoDateTimeUtc,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
