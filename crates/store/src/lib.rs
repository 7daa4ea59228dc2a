//! The store: studies, files, rasters as compressed blocks, jobs, pour points, the log. All of it
//! is in PostgreSQL. This crate knows nothing of HTTP or templates.

mod at_hand;
mod backdrops;
pub mod background;
pub mod backup;
mod barriers;
mod batches;
mod blocks;
mod change;
mod copying;
mod dems;
mod entity;
mod error;
mod events;
mod files;
mod growing;
mod jobs;
pub mod kept;
mod kept_thresholds;
mod layers;
mod log;
mod migration;
mod pour_points;
mod purging;
mod raster_role;
mod rasters;
mod recipes;
pub mod server;
mod sheets;
mod studies;
mod sum;
mod trials;
mod undo;

pub use backdrops::{Backdrop, NewBackdrop};
pub use barriers::NewBarrier;
pub use batches::{Batch, BatchFile, BatchHead, MadeBy, NewBatch, NewRun, Run, RunOutcome, RunWorker};
pub use blocks::{BLOCK, CellValue};
pub use change::{Change, Record};
pub use entity::{
    barrier::Model as Barrier, dem::Model as Dem, job::Model as Job, log_entry::Model as LogEntry,
    pour_point::Model as PourPoint, sheet::Model as SheetRow,
};
pub use error::{Error, Result};
pub use events::{Event, Events};
pub use files::{FileRole, PIECE, StoredFile};
pub use growing::{FileWriter, Growing, Grown};
pub use jobs::{JobHandle, JobKind, JobState, Outcome, Worker};
pub use kept::{Kept, Versioned};
pub use kept_thresholds::KeptThreshold;
pub use layers::{Layer, LayerFeature, LayerRole, LayerShape, Shape};
pub use log::LogLine;
pub use pour_points::{Delineated, NewPourPoint, Snapping};
pub use raster_role::RasterRole;
pub use rasters::{NewRaster, RasterMeta, RasterWriter};
pub use recipes::{KeptRecipe, NewRecipe};
pub use studies::{Study, StudyChange, StudyHead, StudyPart, now};
pub use sum::FileSum;
pub use trials::Trial;
pub use undo::{Inverse, Undoable};

/// Boxes the future of an async function: what it does is compiled here, not once more in every crate that awaits it.
pub(crate) use async_recursion::async_recursion as boxed;

use moka::policy::EvictionPolicy;
use sea_orm::{ConnectOptions, Database, DatabaseConnection};
use sea_orm_migration::MigratorTrait;

/// The store: a pool of connections, and a cache of raster blocks.
#[derive(Clone)]
pub struct Store {
    db: DatabaseConnection,
    blocks: moka::future::Cache<(i64, i32, i32, i32), std::sync::Arc<Vec<u8>>>,
    /// sizes and places of rasters by their numbers, with the study and the role
    metas: moka::future::Cache<i64, (i64, RasterRole, RasterMeta)>,
    at_hand: at_hand::AtHand,
}

impl Store {
    /// Checks integrity: rasters have all their blocks, files all their bytes.
    ///
    /// # Errors
    /// [`Error::Backup`] with what is missing.
    #[boxed]
    pub async fn check(&self) -> Result<()> {
        let missing = [
            (
                "blocks of rasters",
                "SELECT count(*) FROM raster r WHERE (SELECT count(*) FROM raster_block b WHERE b.raster_id = r.id AND b.level = 0)
                    <> ((r.rows + 511) / 512) * ((r.cols + 511) / 512)",
            ),
            (
                "bytes of files",
                "SELECT count(*) FROM file f
                    WHERE (SELECT coalesce(sum(coalesce(c.unpacked, length(c.data))), 0) FROM file_chunk c WHERE c.file_id = f.id) <> f.bytes",
            ),
        ];
        for (what, sql) in missing {
            let count: i64 =
                sea_orm::sqlx::query_scalar(sql).fetch_one(self.db.get_postgres_connection_pool()).await?;
            if count > 0 {
                return Err(Error::Backup(format!("{what} are missing ({count})")));
            }
        }
        Ok(())
    }

    /// Forgets what was read, as after the database was replaced by another.
    pub fn forget(&self) {
        self.blocks.invalidate_all();
        self.metas.invalidate_all();
    }

    /// Closes all connections.
    ///
    /// # Errors
    /// [`Error::Database`].
    #[boxed]
    pub async fn close(self) -> Result<()> {
        Ok(self.db.close().await?)
    }

    /// Connects, and brings the tables up to date.
    ///
    /// # Errors
    /// [`Error::Database`] where the server does not answer or refuses.
    #[boxed]
    pub async fn connect(url: &str) -> Result<Self> {
        let mut options = ConnectOptions::new(url);
        options.max_connections(16).sqlx_logging(false);
        let db = Database::connect(options).await?;
        migration::Migrator::up(&db, None).await?;
        apalis_postgres::PostgresStorage::setup(db.get_postgres_connection_pool())
            .await
            .map_err(|e| Error::Queue(e.to_string()))?;
        // Decompressed blocks, by size: 256 MiB.
        let blocks = moka::future::Cache::builder()
            .eviction_policy(EvictionPolicy::lru())
            .weigher(|_, block: &std::sync::Arc<Vec<u8>>| block.len() as u32)
            .max_capacity(256 << 20)
            .build();
        Ok(Self {
            db,
            blocks,
            metas: moka::future::Cache::builder()
                .eviction_policy(EvictionPolicy::lru())
                .max_capacity(4096)
                .build(),
            at_hand: at_hand::AtHand::default(),
        })
    }
}
