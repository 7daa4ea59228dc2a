//! Purging of deleted and expired rows, and freeing their disk space.

use sea_orm::prelude::ChronoDateTimeUtc;
use sea_orm::{ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, Statement, TransactionTrait};

use crate::entity::study;
use crate::{Error, Result, Store, boxed};

/// Purge statements; undo entries come before what they restore.
const PURGED: [&str; 8] = [
    "DELETE FROM undo_entry WHERE created_at < $1",
    // A raster of values that neither the study nor anything that can be undone names any more.
    "DELETE FROM file f WHERE f.role = 'values' AND f.created_at < $1
        AND NOT EXISTS (SELECT 1 FROM study s WHERE s.id = f.study_id AND s.settings::text LIKE '%' || f.sha256 || '%')
        AND NOT EXISTS (SELECT 1 FROM undo_entry u WHERE u.study_id = f.study_id AND u.inverse::text LIKE '%' || f.sha256 || '%')",
    "DELETE FROM layer WHERE deleted_at < $1",
    "DELETE FROM backdrop WHERE deleted_at < $1",
    "DELETE FROM trial WHERE deleted_at < $1",
    "DELETE FROM sheet WHERE deleted_at < $1",
    "DELETE FROM pour_point WHERE deleted_at < $1",
    "DELETE FROM job j WHERE finished_at < $1 AND EXISTS (SELECT 1 FROM job l WHERE l.study_id = j.study_id AND l.id > j.id)",
];

impl Store {
    /// Deletes a study for good that was deleted before, and gives its room on the disk back.
    ///
    /// # Errors
    /// [`Error::NotFound`] where it is not among the deleted ones.
    #[boxed]
    pub async fn purge_study(&self, id: i64) -> Result<()> {
        let gone = study::Entity::delete_many()
            .filter(study::Column::Id.eq(id))
            .filter(study::Column::DeletedAt.is_not_null())
            .exec(&self.db)
            .await?;
        if gone.rows_affected == 0 {
            return Err(Error::NotFound("deleted study"));
        }
        self.give_back_room().await
    }

    /// Frees the space of deleted rows for reuse, and returns it to the disk where it lies at the end.
    async fn give_back_room(&self) -> Result<()> {
        self.db
            .execute_unprepared("VACUUM (TRUNCATE) raster_block, file_chunk, layer, backdrop, trial")
            .await?;
        // What was deleted stands in the log of the database until this.
        self.db.execute_unprepared("CHECKPOINT").await?;
        Ok(())
    }

    /// Removes for good the studies that were deleted longer ago than `age`; and returns their number.
    #[boxed]
    pub async fn purge_deleted(&self, age: std::time::Duration) -> Result<u64> {
        let before = ChronoDateTimeUtc::from(std::time::SystemTime::now() - age);
        let gone =
            study::Entity::delete_many().filter(study::Column::DeletedAt.lt(before)).exec(&self.db).await?;
        if gone.rows_affected > 0 {
            self.give_back_room().await?;
        }
        Ok(gone.rows_affected)
    }

    /// Forgets the changes that were made longer ago than `age`, which can be undone no more then, and removes for good
    /// the layers, pictures, trials and pour points that were deleted longer ago. Jobs that were finished longer ago go
    /// too, but for the last of each study. Returns the number of rows.
    #[boxed]
    pub async fn purge_changes(&self, age: std::time::Duration) -> Result<u64> {
        let before = ChronoDateTimeUtc::from(std::time::SystemTime::now() - age);
        let transaction = self.db.begin().await?;
        let mut gone = 0;
        for sql in PURGED {
            let backend = transaction.get_database_backend();
            let purge = Statement::from_sql_and_values(backend, sql, [before.into()]);
            gone += transaction.execute_raw(purge).await?.rows_affected();
        }
        transaction.commit().await?;
        if gone > 0 {
            self.give_back_room().await?;
        }
        Ok(gone)
    }
}
