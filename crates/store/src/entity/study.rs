//! A study: its inputs, settings and the facts of its results.

use sea_orm::entity::prelude::*;

/// A study and its settings; what was done to its DEMs is in `dem`.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "study")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// name
    pub name: String,
    /// what it is for
    pub description: String,
    /// when it was made
    pub created_at: ChronoDateTimeUtc,
    /// when it was last changed
    pub updated_at: ChronoDateTimeUtc,
    /// when it was deleted; it can be restored for a while
    pub deleted_at: Option<ChronoDateTimeUtc>,
    /// counts the changes of this row
    pub revision: i64,
    /// choices: threshold, snapping, style
    pub settings: Json,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
