//! A run of a recipe.

use sea_orm::entity::prelude::*;

/// A run of a recipe.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "run")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// the batch that it belongs to
    pub batch_id: i64,
    /// its place in the batch, from 1
    pub number: i32,
    /// its name, unique within the batch
    pub name: String,
    /// keys that are its own, with their values as text
    pub own: Json,
    /// what is run
    pub recipe: String,
    /// by the names of [`JobState`](crate::JobState)
    pub state: String,
    /// the share that is done
    pub progress: f64,
    /// what it does now, or what went wrong
    pub message: String,
    /// whether it was asked to stop
    pub cancel_requested: bool,
    /// who works on it
    pub worker: Option<String>,
    /// how often it was begun
    pub attempts: i32,
    /// last sign of life
    pub heartbeat_at: Option<ChronoDateTimeUtc>,
    /// when it was queued
    pub created_at: ChronoDateTimeUtc,
    /// when it was begun
    pub started_at: Option<ChronoDateTimeUtc>,
    /// when it ended
    pub finished_at: Option<ChronoDateTimeUtc>,
    /// its summary.json
    pub summary: Option<Json>,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
