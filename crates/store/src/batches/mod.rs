//! Batches: runs of recipes, with what they read and what they wrote.

mod files;
mod work;

use std::path::PathBuf;

use sea_orm::prelude::Expr;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, FromQueryResult, QueryFilter, QueryOrder,
    QuerySelect, QueryTrait, Statement, TransactionTrait,
};
use serde_json::Value as Json;

pub use files::BatchFile;
pub use work::{RunOutcome, RunWorker};

use crate::entity::{batch, run};
use crate::{Error, JobState, Result, Store, boxed};

pub use batch::Model as Batch;
pub use run::Model as Run;

/// Who begins a batch.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MadeBy {
    /// a page
    Page,
    /// the service for scripts
    Service,
}

impl MadeBy {
    /// Its name in the database.
    pub fn name(self) -> &'static str {
        match self {
            Self::Page => "page",
            Self::Service => "service",
        }
    }
}

/// A batch that is begun.
pub struct NewBatch {
    /// name
    pub name: String,
    /// who begins it
    pub made_by: MadeBy,
    /// keys that differ between its runs
    pub keys: Vec<String>,
    /// the program and version that works on it
    pub program: String,
    /// files that its runs read: what recipes call them, and where they lie
    pub inputs: Vec<(String, PathBuf)>,
    /// its runs, in their order
    pub runs: Vec<NewRun>,
}

/// A run that is queued.
pub struct NewRun {
    /// name, unique within the batch
    pub name: String,
    /// keys that are its own, with their values as text
    pub own: Json,
    /// what is run, TOML
    pub recipe: String,
}

/// A batch and how far it is.
#[derive(Debug, Clone, PartialEq, FromQueryResult)]
pub struct BatchHead {
    /// number
    pub id: i64,
    /// name
    pub name: String,
    /// who began it
    pub made_by: String,
    /// the program and version that works on it
    pub program: String,
    /// when
    pub created_at: sea_orm::prelude::ChronoDateTimeUtc,
    /// all runs
    pub runs: i64,
    /// runs that wait or are worked on
    pub active: i64,
    /// runs that are done
    pub done: i64,
    /// runs that failed or whose process ended twice
    pub failed: i64,
}

impl Run {
    /// Whether it waits or is worked on.
    pub fn is_active(&self) -> bool {
        self.state == JobState::Queued.name() || self.state == JobState::Running.name()
    }

    /// Wall time of its last attempt, seconds, once it has ended.
    pub fn seconds(&self) -> Option<f64> {
        let (begun, ended) = (self.started_at?, self.finished_at?);
        Some((ended - begun).num_milliseconds() as f64 / 1000.0)
    }
}

impl Store {
    /// What scripts must know to be let in; made where there is none, or anew.
    ///
    /// # Errors
    /// Those of the database.
    #[boxed]
    pub async fn service_token(&self, anew: bool) -> Result<String> {
        let made = format!("{}{}", uuid::Uuid::new_v4().simple(), uuid::Uuid::new_v4().simple());
        let sql = match anew {
            false => {
                "INSERT INTO service (token) VALUES ($1) ON CONFLICT (one) DO UPDATE SET token = service.token RETURNING token"
            }
            true => {
                "INSERT INTO service (token) VALUES ($1) ON CONFLICT (one) DO UPDATE SET token = EXCLUDED.token RETURNING token"
            }
        };
        let pool = self.db.get_postgres_connection_pool();
        Ok(sea_orm::sqlx::query_scalar(sql).bind(made).fetch_one(pool).await?)
    }

    /// Begins a batch: its files are kept and its runs queued, all or nothing.
    ///
    /// # Errors
    /// Those of the database, and of reading the files.
    #[boxed]
    pub async fn begin_batch(&self, new: NewBatch) -> Result<Batch> {
        let transaction = self.db.begin().await?;
        let row = batch::ActiveModel {
            name: Set(new.name),
            made_by: Set(new.made_by.name().into()),
            keys: Set(serde_json::to_value(new.keys)?),
            program: Set(new.program),
            created_at: Set(crate::studies::now()),
            ..Default::default()
        };
        let begun = row.insert(&transaction).await?;
        for (name, path) in &new.inputs {
            files::put(&transaction, (begun.id, None), name, path).await?;
        }
        let rows = new.runs.into_iter().zip(1..).map(|(new, number)| run::ActiveModel {
            batch_id: Set(begun.id),
            number: Set(number),
            name: Set(new.name),
            own: Set(new.own),
            recipe: Set(new.recipe),
            state: Set(JobState::Queued.name().into()),
            progress: Set(0.0),
            message: Set("waiting for a worker".into()),
            cancel_requested: Set(false),
            attempts: Set(0),
            created_at: Set(crate::studies::now()),
            ..Default::default()
        });
        let rows: Vec<_> = rows.collect();
        // A statement takes 65,535 values at most.
        for some in rows.chunks(1000) {
            run::Entity::insert_many(some.to_vec()).exec_without_returning(&transaction).await?;
        }
        transaction.commit().await?;
        Ok(begun)
    }

    /// All batches, the last one first.
    #[boxed]
    pub async fn batches(&self) -> Result<Vec<BatchHead>> {
        let sql = "SELECT b.id, b.name, b.made_by, b.program, b.created_at, count(r.id) AS runs,
                count(r.id) FILTER (WHERE r.state IN ('queued', 'running')) AS active,
                count(r.id) FILTER (WHERE r.state = 'done') AS done,
                count(r.id) FILTER (WHERE r.state IN ('failed', 'interrupted')) AS failed
            FROM batch b LEFT JOIN run r ON r.batch_id = b.id GROUP BY b.id ORDER BY b.id DESC";
        let statement = Statement::from_string(sea_orm::DatabaseBackend::Postgres, sql);
        Ok(BatchHead::find_by_statement(statement).all(&self.db).await?)
    }

    /// A batch.
    ///
    /// # Errors
    /// [`Error::NotFound`].
    #[boxed]
    pub async fn batch(&self, id: i64) -> Result<Batch> {
        batch::Entity::find_by_id(id).one(&self.db).await?.ok_or(Error::NotFound("batch"))
    }

    /// The runs of a batch, in their order.
    #[boxed]
    pub async fn runs(&self, batch: i64) -> Result<Vec<Run>> {
        let found =
            run::Entity::find().filter(run::Column::BatchId.eq(batch)).order_by_asc(run::Column::Number);
        Ok(found.all(&self.db).await?)
    }

    /// Runs that were begun in one way, in these states, the last one first.
    #[boxed]
    pub async fn runs_made_by(
        &self,
        by: MadeBy,
        states: &[&'static str],
        offset: u64,
        limit: u64,
    ) -> Result<Vec<Run>> {
        let batches = batch::Entity::find()
            .select_only()
            .column(batch::Column::Id)
            .filter(batch::Column::MadeBy.eq(by.name()));
        let found = run::Entity::find()
            .filter(run::Column::BatchId.in_subquery(batches.into_query()))
            .filter(run::Column::State.is_in(states.iter().copied()))
            .order_by_desc(run::Column::Id)
            .offset(offset)
            .limit(limit);
        Ok(found.all(&self.db).await?)
    }

    /// A run.
    ///
    /// # Errors
    /// [`Error::NotFound`].
    #[boxed]
    pub async fn run(&self, id: i64) -> Result<Run> {
        run::Entity::find_by_id(id).one(&self.db).await?.ok_or(Error::NotFound("run"))
    }

    /// Stops the runs of a batch that have not ended: those that wait at once, those that are worked on at their next check.
    #[boxed]
    pub async fn stop_batch(&self, batch: i64) -> Result<()> {
        self.stop_where(run::Column::BatchId.eq(batch)).await
    }

    /// Stops a run that has not ended, as [`Store::stop_batch`].
    #[boxed]
    pub async fn stop_run(&self, id: i64) -> Result<()> {
        self.stop_where(run::Column::Id.eq(id)).await
    }

    async fn stop_where(&self, which: sea_orm::sea_query::SimpleExpr) -> Result<()> {
        run::Entity::update_many()
            .col_expr(run::Column::State, Expr::value(JobState::Cancelled.name()))
            .col_expr(run::Column::FinishedAt, Expr::value(crate::studies::now()))
            .col_expr(run::Column::Message, Expr::value("stopped before it began"))
            .filter(which.clone())
            .filter(run::Column::State.eq(JobState::Queued.name()))
            .exec(&self.db)
            .await?;
        run::Entity::update_many()
            .col_expr(run::Column::CancelRequested, Expr::value(true))
            .filter(which)
            .filter(run::Column::State.eq(JobState::Running.name()))
            .exec(&self.db)
            .await?;
        Ok(())
    }

    /// Queues again what was stopped in a batch, and what failed where `failed` is set. What is done is not run again. How
    /// many.
    #[boxed]
    pub async fn take_up_batch(&self, batch: i64, failed: bool) -> Result<u64> {
        let mut states = vec![JobState::Cancelled.name(), JobState::Interrupted.name()];
        if failed {
            states.push(JobState::Failed.name());
        }
        let queued = run::Entity::update_many()
            .col_expr(run::Column::State, Expr::value(JobState::Queued.name()))
            .col_expr(run::Column::Message, Expr::value("waiting for a worker"))
            .col_expr(run::Column::Progress, Expr::value(0.0))
            .col_expr(run::Column::Attempts, Expr::value(0))
            .col_expr(run::Column::CancelRequested, Expr::value(false))
            .filter(run::Column::BatchId.eq(batch))
            .filter(run::Column::State.is_in(states))
            .exec(&self.db)
            .await?;
        Ok(queued.rows_affected)
    }

    /// Deletes a batch with all that its runs wrote. A run that is worked on is stopped.
    ///
    /// # Errors
    /// [`Error::NotFound`].
    #[boxed]
    pub async fn delete_batch(&self, id: i64) -> Result<()> {
        match batch::Entity::delete_by_id(id).exec(&self.db).await?.rows_affected {
            0 => Err(Error::NotFound("batch")),
            _ => Ok(()),
        }
    }
}
