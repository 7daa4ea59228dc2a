//! A line of the log of a study.

use sea_orm::entity::prelude::*;

/// A line of the log of a study.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "log_entry")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// study
    pub study_id: i64,
    /// when
    pub at: ChronoDateTimeUtc,
    /// stage
    pub stage: String,
    /// what was done, with settings and effect in words
    pub text: String,
    /// settings
    pub settings: Json,
    /// time taken, milliseconds
    pub took_ms: i64,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
