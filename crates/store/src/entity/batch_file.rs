//! A file that the runs of a batch read, or that a run wrote.

use sea_orm::entity::prelude::*;

/// A file that the runs of a batch read, or that a run wrote.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "batch_file")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// the batch
    pub batch_id: i64,
    /// the run that wrote it; none where runs read it
    pub run_id: Option<i64>,
    /// its name
    pub name: String,
    /// size in bytes
    pub bytes: i64,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
