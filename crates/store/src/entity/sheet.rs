//! A map sheet.

use sea_orm::entity::prelude::*;

/// A map sheet.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "sheet")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// study
    pub study_id: i64,
    /// what it is called
    pub name: String,
    /// its page and parts
    pub sheet: Json,
    /// counts changes
    pub version: i32,
    /// when it was changed last
    pub updated_at: ChronoDateTimeUtc,
    /// when it was deleted, if it was
    pub deleted_at: Option<ChronoDateTimeUtc>,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
