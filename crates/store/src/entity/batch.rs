//! Runs of one recipe.

use sea_orm::entity::prelude::*;

/// Runs of one recipe.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "batch")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// name
    pub name: String,
    /// whether a page began it or the service for scripts
    pub made_by: String,
    /// keys that differ between its runs, in their order
    pub keys: Json,
    /// the program and version that made it, and that alone works on it
    pub program: String,
    /// when it was begun
    pub created_at: ChronoDateTimeUtc,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
