//! Files of batches, in chunks.

use std::path::Path;

use sea_orm::{
    ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect,
};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

use crate::entity::{batch_file, batch_file_chunk};
use crate::{Error, PIECE, Result, Store, boxed};

pub use batch_file::Model as BatchFile;

/// Keeps a file: of a batch, or of a run of it.
pub(super) async fn put(
    db: &impl ConnectionTrait,
    (batch, run): (i64, Option<i64>),
    name: &str,
    path: &Path,
) -> Result<()> {
    let mut source = tokio::fs::File::open(path).await?;
    let row = batch_file::ActiveModel {
        batch_id: Set(batch),
        run_id: Set(run),
        name: Set(name.into()),
        bytes: Set(source.metadata().await?.len() as i64),
        ..Default::default()
    };
    let id = batch_file::Entity::insert(row).exec(db).await?.last_insert_id;
    for sequence in 0.. {
        let mut data = Vec::with_capacity(PIECE);
        if (&mut source).take(PIECE as u64).read_to_end(&mut data).await? == 0 {
            break;
        }
        let row =
            batch_file_chunk::ActiveModel { file_id: Set(id), sequence: Set(sequence), data: Set(data) };
        batch_file_chunk::Entity::insert(row).exec_without_returning(db).await?;
    }
    Ok(())
}

/// Forgets what a run wrote before.
pub(super) async fn drop_of_run(db: &impl ConnectionTrait, run: i64) -> Result<()> {
    batch_file::Entity::delete_many().filter(batch_file::Column::RunId.eq(run)).exec(db).await?;
    Ok(())
}

impl Store {
    /// The files that the runs of a batch read, or that one of its runs wrote, by name.
    #[boxed]
    pub async fn batch_files(&self, batch: i64, run: Option<i64>) -> Result<Vec<BatchFile>> {
        let found = batch_file::Entity::find().filter(batch_file::Column::BatchId.eq(batch));
        let found = match run {
            Some(run) => found.filter(batch_file::Column::RunId.eq(run)),
            None => found.filter(batch_file::Column::RunId.is_null()),
        };
        Ok(found.order_by_asc(batch_file::Column::Name).all(&self.db).await?)
    }

    /// Names of the files that the runs of a batch wrote, by the numbers of the runs.
    #[boxed]
    pub async fn files_of_runs(&self, batch: i64) -> Result<std::collections::HashMap<i64, Vec<String>>> {
        let found = batch_file::Entity::find()
            .filter(batch_file::Column::BatchId.eq(batch))
            .filter(batch_file::Column::RunId.is_not_null())
            .order_by_asc(batch_file::Column::Name);
        let mut all: std::collections::HashMap<i64, Vec<String>> = Default::default();
        for file in found.all(&self.db).await? {
            if let Some(run) = file.run_id {
                all.entry(run).or_default().push(file.name);
            }
        }
        Ok(all)
    }

    /// A piece of a file of a batch, of [`PIECE`] bytes but for the last; none past its end.
    #[boxed]
    pub async fn batch_file_piece(&self, id: i64, sequence: i32) -> Result<Option<Vec<u8>>> {
        Ok(batch_file_chunk::Entity::find_by_id((id, sequence)).one(&self.db).await?.map(|c| c.data))
    }

    /// Writes a file of a batch to disk.
    ///
    /// # Errors
    /// [`Error::NotFound`] where it was deleted meanwhile.
    #[boxed]
    pub async fn fetch_batch_file(&self, id: i64, path: &Path) -> Result<()> {
        let pieces = batch_file_chunk::Entity::find()
            .select_only()
            .column(batch_file_chunk::Column::Sequence)
            .filter(batch_file_chunk::Column::FileId.eq(id))
            .order_by_asc(batch_file_chunk::Column::Sequence)
            .into_tuple::<i32>()
            .all(&self.db)
            .await?;
        let mut target = tokio::fs::File::create(path).await?;
        for sequence in pieces {
            let piece = self.batch_file_piece(id, sequence).await?.ok_or(Error::NotFound("file"))?;
            target.write_all(&piece).await?;
        }
        target.flush().await?;
        Ok(())
    }
}
