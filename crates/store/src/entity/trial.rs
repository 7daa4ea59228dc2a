//! A network that was tried, and how it did.

use sea_orm::entity::prelude::*;

/// A network that was tried, and how it did.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "trial")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// study
    pub study_id: i64,
    /// tells what was varied
    pub name: String,
    /// threshold, DEM, conditioning, method, scores
    pub facts: Json,
    /// what the analyst says of it
    pub remark: String,
    /// why it became the study's network; null where it is not
    pub justification: Option<String>,
    /// its lines, compressed
    pub lines: Vec<u8>,
    /// when it was kept
    pub created_at: ChronoDateTimeUtc,
    /// when it was deleted, if it was
    pub deleted_at: Option<ChronoDateTimeUtc>,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
