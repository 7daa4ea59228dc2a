//! A piece of long work.

use sea_orm::entity::prelude::*;

/// A piece of long work.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "job")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// study
    pub study_id: i64,
    /// what is to be done
    pub kind: String,
    /// with what
    pub parameters: Json,
    /// queued, running, done, failed, cancelled, interrupted
    pub state: String,
    /// share that is done, 0 to 1
    pub progress: f64,
    /// what is being done now, or what went wrong
    pub message: String,
    /// whether cancellation was requested
    pub cancel_requested: bool,
    /// whether it is worked on in a process of its own, since another ended while it was at it
    pub apart: bool,
    /// how often it was begun
    pub attempts: i32,
    /// which process works on it
    pub worker: Option<String>,
    /// last sign of life of that process
    pub heartbeat_at: Option<ChronoDateTimeUtc>,
    /// when it was asked for
    pub created_at: ChronoDateTimeUtc,
    /// when it was begun
    pub started_at: Option<ChronoDateTimeUtc>,
    /// when it ended
    pub finished_at: Option<ChronoDateTimeUtc>,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
