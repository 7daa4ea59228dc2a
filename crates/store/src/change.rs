//! The one way to change a study: it is locked until the change is committed, together with its undo entry, its log
//! entry and the job that it starts.

use sea_orm::sea_query::LockType;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, DatabaseTransaction, EntityTrait, QueryFilter,
    QuerySelect, TransactionTrait,
};

use crate::entity::study;
use crate::jobs::JobKind;
use crate::log::LogLine;
use crate::raster_role::RasterRole;
use crate::rasters::RasterMeta;
use crate::undo::Inverse;
use crate::{Error, Job, Kept, Result, Store, Study, boxed};

/// What is written beside a change, in the same transaction.
#[derive(Debug, Clone, Default)]
pub struct Record {
    /// what undoes it: in words, and how
    pub undo: Option<(String, Inverse)>,
    /// its line in the log
    pub log: Option<LogLine>,
    /// the job that it starts
    pub job: Option<(JobKind, Kept)>,
}

impl Record {
    /// A line in the log and nothing else.
    pub fn log(line: LogLine) -> Self {
        Self { log: Some(line), ..Self::default() }
    }

    /// A job and nothing else.
    pub fn job(kind: JobKind, parameters: Kept) -> Self {
        Self { job: Some((kind, parameters)), ..Self::default() }
    }

    /// The same, and what undoes the change.
    #[must_use]
    pub fn undone_by(mut self, label: impl Into<String>, inverse: Inverse) -> Self {
        self.undo = Some((label.into(), inverse));
        self
    }

    /// The same, and the job that the change starts.
    #[must_use]
    pub fn starting(mut self, kind: JobKind, parameters: Kept) -> Self {
        self.job = Some((kind, parameters));
        self
    }
}

/// A change to a study that is being made. Nobody else changes the study meanwhile; reading it does not wait. Without a
/// commit nothing is changed.
pub struct Change {
    pub(crate) transaction: DatabaseTransaction,
    study: Study,
    pub(crate) store: Store,
}

impl Change {
    pub(crate) fn new(transaction: DatabaseTransaction, study: Study, store: Store) -> Self {
        Self { transaction, study, store }
    }

    /// The study as it was when the change began.
    pub fn study(&self) -> &Study {
        &self.study
    }

    /// The study's number.
    pub fn id(&self) -> i64 {
        self.study.id
    }

    /// Where a raster of the study lies now, if it has it.
    ///
    /// # Errors
    /// [`Error::Database`].
    #[boxed]
    pub async fn raster(&self, role: RasterRole) -> Result<Option<RasterMeta>> {
        Ok(crate::rasters::rasters_of(&self.transaction, self.id()).await?.remove(&role))
    }

    /// Errors where a job is queued or running.
    ///
    /// # Errors
    /// [`Error::Busy`] with what runs.
    #[boxed]
    pub async fn check_idle(&self) -> Result<()> {
        match crate::jobs::active(&self.transaction, self.id()).await? {
            Some(job) => Err(Error::Busy(job.title().into())),
            None => Ok(()),
        }
    }

    /// Keeps the change and what is recorded beside it; the job that it starts, if it starts one.
    ///
    /// # Errors
    /// [`Error::Busy`] where a job is to be started while another is queued or running. Nothing is changed then.
    #[boxed]
    pub async fn commit(self, record: Record) -> Result<Option<Job>> {
        let Self { transaction, study, store } = self;
        if let Some((label, inverse)) = record.undo {
            crate::undo::insert(&transaction, study.id, &label, &inverse).await?;
        }
        if let Some(line) = record.log {
            line.insert(&transaction, study.id).await?;
        }
        let job = match record.job {
            Some((kind, parameters)) => {
                Some(crate::jobs::insert(&transaction, study.id, kind, parameters).await?)
            }
            None => None,
        };
        let touched = study::ActiveModel {
            id: Set(study.id),
            updated_at: Set(crate::studies::now()),
            ..Default::default()
        };
        touched.update(&transaction).await?;
        transaction.commit().await?;
        if let Some(job) = &job {
            // Where this process ends here, the job is found and pushed later.
            store.push(job.id).await?;
            store.tell_job(job).await?;
        }
        Ok(job)
    }
}

/// A study that nobody else changes until the transaction ends.
pub(crate) async fn locked(transaction: &DatabaseTransaction, id: i64) -> Result<Study> {
    // Rasters that are being written refer to the study; this lock does not wait for them.
    let found =
        study::Entity::find_by_id(id).filter(study::Column::DeletedAt.is_null()).lock(LockType::NoKeyUpdate);
    found.one(transaction).await?.ok_or(Error::NotFound("study"))?;
    // As it is now that nobody else changes it.
    crate::studies::one(transaction, id).await
}

impl Store {
    /// Begins a change to a study; waits while another user changes it.
    ///
    /// # Errors
    /// [`Error::NotFound`] where there is no such study.
    #[boxed]
    pub async fn change(&self, study: i64) -> Result<Change> {
        let transaction = self.db.begin().await?;
        let study = locked(&transaction, study).await?;
        Ok(Change::new(transaction, study, self.clone()))
    }

    /// Begins a change that starts a job or must not come in between one.
    ///
    /// # Errors
    /// [`Error::Busy`] where a job is queued or running; [`Error::NotFound`] where there is no such study.
    #[boxed]
    pub async fn change_idle(&self, study: i64) -> Result<Change> {
        let change = self.change(study).await?;
        change.check_idle().await?;
        Ok(change)
    }
}
