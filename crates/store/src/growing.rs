//! Files that are kept while they are still being written.

use std::path::Path;

use sea_orm::{DatabaseTransaction, TransactionTrait};
use tokio::sync::watch;

use crate::change::locked;
use crate::files::{Reading, StoredFile, insert_file, show_file, store_pieces};
use crate::{Change, Error, FileRole, Result, Store, boxed};

/// How much of a file is as it will stay.
#[derive(Debug, Clone, Copy, Default)]
struct Extent {
    bytes: u64,
    whole: bool,
}

/// Tells how far a file has grown.
pub struct Growing(watch::Sender<Extent>);

/// Learns how far a file has grown.
#[derive(Debug, Clone)]
pub struct Grown(watch::Receiver<Extent>);

impl Growing {
    /// Of a file of which nothing is written.
    pub fn new() -> (Self, Grown) {
        let (growing, grown) = watch::channel(Extent::default());
        (Self(growing), Grown(grown))
    }

    /// Says that the first `bytes` are there and will not change. False where nobody keeps them any more.
    pub fn has(&self, bytes: u64) -> bool {
        self.0.send(Extent { bytes, whole: false }).is_ok()
    }

    /// Says that the file is whole, with so many bytes. A file of which this is never said is not kept.
    pub fn is_whole(&self, bytes: u64) {
        self.0.send_replace(Extent { bytes, whole: true });
    }
}

impl Grown {
    /// Of a file that is whole.
    pub(crate) fn whole(bytes: u64) -> Self {
        Self(watch::channel(Extent { bytes, whole: true }).1)
    }

    /// Waits until there are `bytes`, or the file is whole; how many there are.
    ///
    /// # Errors
    /// [`Error::Io`], interrupted, where it stops growing and is not whole.
    pub(crate) async fn to(&mut self, bytes: u64) -> Result<u64> {
        let enough = self.0.wait_for(|extent| extent.whole || extent.bytes >= bytes).await;
        enough.map(|extent| extent.bytes).map_err(|_| Error::Io(std::io::ErrorKind::Interrupted.into()))
    }
}

/// Writes a file into the database, in one transaction: all of it or nothing. The study can be changed by others until it is whole.
pub struct FileWriter {
    transaction: DatabaseTransaction,
    study: i64,
    store: Store,
}

impl Store {
    /// Begins to write a file of a study.
    ///
    /// # Errors
    /// [`Error::Database`].
    #[boxed]
    pub async fn write_file(&self, study: i64) -> Result<FileWriter> {
        Ok(FileWriter { transaction: self.db.begin().await?, study, store: self.clone() })
    }
}

impl FileWriter {
    /// Keeps a file while it grows; what the study had in this role is replaced as by [`Change::put_file`]. Returns the change
    /// that the file becomes visible with, locked against others.
    ///
    /// # Errors
    /// [`Error::Io`], interrupted, where the file never is whole; [`Error::NotFound`] where the study was deleted meanwhile.
    #[boxed]
    pub async fn put_growing(
        self,
        role: FileRole,
        name: &str,
        path: &Path,
        mut grown: Grown,
    ) -> Result<(Change, StoredFile)> {
        let Self { transaction, study, store } = self;
        // Not before there is something to read.
        grown.to(1).await?;
        let source = tokio::fs::File::open(path).await?.into_std().await;
        let row = insert_file(&transaction, study, role, name).await?;
        let (sha256, bytes) = store_pieces(&transaction, row.id, Reading::new(source), grown).await?;
        let study = locked(&transaction, study).await?;
        show_file(&transaction, study.id, role, row.id).await?;
        let kept = StoredFile { sha256, bytes, ..row };
        Ok((Change::new(transaction, study, store), kept))
    }
}
