//! A recipe that is kept beside the studies.

use sea_orm::entity::prelude::*;

/// A recipe that is kept beside the studies.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "recipe")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// its name; no two share one
    pub name: String,
    /// what it is for
    pub about: String,
    /// where it comes from
    pub origin: String,
    /// TOML
    pub recipe: String,
    /// size with what it reads, bytes
    pub bytes: i64,
    /// when it was kept
    pub created_at: ChronoDateTimeUtc,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
