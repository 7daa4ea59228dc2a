//! Rasters in the database: written whole in a transaction, read whole or by window.

use bothros_core::{Cell, Frame, Grid, coarsen};
use bothros_packed::{Planes, compress, compress_difference, decompress};
use rayon::prelude::*;
use sea_orm::prelude::{ChronoDateTimeUtc, Expr};
use sea_orm::sea_query::SimpleExpr;
use sea_orm::{
    ActiveValue::Set, ColumnTrait, Condition, ConnectionTrait, DatabaseTransaction, EntityTrait, QueryFilter,
    QueryOrder, TransactionTrait,
};
use std::collections::HashMap;
use std::sync::Arc;

use crate::background::{self, pack_here};
use crate::blocks::{BLOCK, CellValue, levels};
use crate::change::locked;
use crate::dems::{at_work, number_at_work};
use crate::entity::{file, raster, raster_block};
use crate::raster_role::RasterRole;
use crate::{Change, Error, Result, Store, boxed};

/// Size and place of a raster.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RasterMeta {
    /// number; changes whenever the raster is replaced
    pub id: i64,
    /// rows
    pub rows: usize,
    /// columns
    pub cols: usize,
    /// number of levels, the finest included
    pub levels: usize,
    /// western edge, CRS units
    pub left: f64,
    /// northern edge, CRS units
    pub top: f64,
    /// width of a cell, CRS units
    pub cell_x: f64,
    /// height of a cell, CRS units
    pub cell_y: f64,
    /// number of the raster from which it is told apart: its finest level is kept as what is different
    pub base: Option<i64>,
}

impl RasterMeta {
    fn of(row: &raster::Model) -> Self {
        Self {
            id: row.id,
            rows: row.rows as usize,
            cols: row.cols as usize,
            levels: row.levels as usize,
            left: row.left,
            top: row.top,
            cell_x: row.cell_x,
            cell_y: row.cell_y,
            base: row.base_id,
        }
    }
    /// Rows and columns of a level.
    pub fn size_of_level(&self, level: usize) -> (usize, usize) {
        (0..level.min(64)).fold((self.rows, self.cols), |(r, c), _| (r.div_ceil(2), c.div_ceil(2)))
    }
    /// The place of a raster with square cells.
    pub fn frame(&self, unit_m: f64) -> Frame {
        Frame {
            rows: self.rows,
            cols: self.cols,
            left: self.left,
            top: self.top,
            cell_size: self.cell_x,
            unit_m,
        }
    }
}

/// Place of a new raster.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct NewRaster {
    /// what it is
    pub role: RasterRole,
    /// western edge, CRS units
    pub left: f64,
    /// northern edge, CRS units
    pub top: f64,
    /// width of a cell, CRS units
    pub cell_x: f64,
    /// height of a cell, CRS units
    pub cell_y: f64,
}

impl NewRaster {
    /// A raster with square cells at `frame`.
    pub fn at(role: RasterRole, frame: &Frame) -> Self {
        Self { role, left: frame.left, top: frame.top, cell_x: frame.cell_size, cell_y: frame.cell_size }
    }
}

/// Writes results in one transaction: all of them or none.
pub struct RasterWriter {
    transaction: DatabaseTransaction,
    study: i64,
    store: Store,
}

/// Blocks that go to the server in one statement.
const BLOCKS_AT_ONCE: usize = 8;

impl RasterWriter {
    /// Replaces a raster of the study; `progress` receives the share that is written and may stop the work
    /// by answering `false`.
    pub async fn put<T: CellValue>(
        &self,
        new: NewRaster,
        values: &Grid<T>,
        progress: &(dyn Fn(f64) -> bool + Sync),
    ) -> Result<i64> {
        self.put_beside(new, values, None, progress).await
    }

    /// The same for a raster that is mostly another one of the study, which has as many cells and stays as long: what is different
    /// takes less room.
    pub async fn put_beside<T: CellValue>(
        &self,
        new: NewRaster,
        values: &Grid<T>,
        base: Option<(&RasterMeta, &Grid<T>)>,
        progress: &(dyn Fn(f64) -> bool + Sync),
    ) -> Result<i64> {
        self.remove(&[new.role]).await?;
        let levels = levels(values.rows(), values.cols());
        let row = raster::ActiveModel {
            study_id: Set(self.study),
            dem_id: Set(number_at_work(&self.transaction, self.study).await?),
            role: Set(new.role.name().into()),
            cell_type: Set(T::NAME.into()),
            rows: Set(values.rows() as i32),
            cols: Set(values.cols() as i32),
            levels: Set(levels as i32),
            left: Set(new.left),
            top: Set(new.top),
            cell_x: Set(new.cell_x),
            cell_y: Set(new.cell_y),
            base_id: Set(base.map(|(meta, _)| meta.id)),
            ..Default::default()
        };
        let id = raster::Entity::insert(row).exec(&self.transaction).await?.last_insert_id;
        let mut coarser: Option<Grid<T>> = None;
        let mut done = 0.0;
        // The finest level is three quarters of all cells, and each next one a quarter of it.
        let mut share = 0.75;
        for level in 0..levels {
            if level > 0 {
                let finer = coarser.as_ref().unwrap_or(values);
                coarser = Some(pack_here(|| coarsen(finer, T::NODATA, new.role.coarser())));
            }
            let grid = coarser.as_ref().unwrap_or(values);
            let (down, across) = (grid.rows().div_ceil(BLOCK), grid.cols().div_ceil(BLOCK));
            let places: Vec<(usize, usize)> =
                (0..down).flat_map(|r| (0..across).map(move |c| (r, c))).collect();
            // While some blocks are sent, the next are compressed.
            let mut ready = Vec::new();
            for (at, chunk) in places.chunks(BLOCKS_AT_ONCE).enumerate() {
                if !progress((done + share * (at * BLOCKS_AT_ONCE) as f64 / places.len() as f64).min(1.0)) {
                    return Err(Error::Io(std::io::ErrorKind::Interrupted.into()));
                }
                let cut = |grid: &Grid<T>| -> Vec<Grid<T>> {
                    chunk.iter().map(|&(r, c)| grid.window(r * BLOCK, c * BLOCK, BLOCK, BLOCK)).collect()
                };
                let others = base.filter(|_| level == 0).map(|(_, values)| cut(values));
                let next = packed((id, level), chunk, cut(grid), others);
                let sent = self.send(std::mem::take(&mut ready));
                ((), ready) = tokio::try_join!(sent, next)?;
            }
            self.send(ready).await?;
            done += share;
            share /= 4.0;
        }
        Ok(id)
    }

    async fn send(&self, blocks: Vec<raster_block::ActiveModel>) -> Result<()> {
        if !blocks.is_empty() {
            raster_block::Entity::insert_many(blocks).exec_without_returning(&self.transaction).await?;
        }
        Ok(())
    }

    /// Removes rasters of the study. Readers can go on for a while.
    #[boxed]
    pub async fn remove(&self, roles: &[RasterRole]) -> Result<()> {
        raster::Entity::update_many()
            .col_expr(raster::Column::SupersededAt, Expr::value(crate::studies::now()))
            .filter(raster::Column::StudyId.eq(self.study))
            .filter(raster::Column::SupersededAt.is_null())
            .filter(raster::Column::DemId.in_subquery(at_work(self.study)))
            .filter(raster::Column::Role.is_in(roles.iter().map(|r| r.name())))
            .exec(&self.transaction)
            .await?;
        Ok(())
    }

    /// Begins a change of the study, locked against others; the rasters become visible when the change is committed.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study was deleted meanwhile.
    #[boxed]
    pub async fn into_change(self) -> Result<Change> {
        let study = locked(&self.transaction, self.study).await?;
        Ok(Change::new(self.transaction, study, self.store))
    }
}

/// Compresses blocks of a level of a raster, on threads of their own.
async fn packed<T: CellValue>(
    (raster, level): (i64, usize),
    places: &[(usize, usize)],
    blocks: Vec<Grid<T>>,
    others: Option<Vec<Grid<T>>>,
) -> Result<Vec<raster_block::ActiveModel>> {
    let for_job = background::in_job();
    let pack = move || {
        let one = |(at, block): (usize, &Grid<T>)| match &others {
            Some(others) => Ok(compress_difference(block.values(), others[at].values())?),
            None => Ok(compress(block.values())?),
        };
        let each = || blocks.par_iter().enumerate().map(one).collect::<Result<Vec<_>>>();
        background::pack(for_job, each)
    };
    let packed =
        tokio::task::spawn_blocking(pack).await.map_err(|e| Error::Io(std::io::Error::other(e)))??;
    let row = |(&(row, col), data): (&(usize, usize), Vec<u8>)| raster_block::ActiveModel {
        raster_id: Set(raster),
        level: Set(level as i32),
        row: Set(row as i32),
        col: Set(col as i32),
        data: Set(data),
    };
    Ok(places.iter().zip(packed).map(row).collect())
}

/// Size and place of all rasters of a study.
pub(crate) async fn rasters_of(
    db: &impl ConnectionTrait,
    study: i64,
) -> Result<HashMap<RasterRole, RasterMeta>> {
    rasters_where(db, study, raster::Column::DemId.in_subquery(at_work(study))).await
}

async fn rasters_where(
    db: &impl ConnectionTrait,
    study: i64,
    of_dem: SimpleExpr,
) -> Result<HashMap<RasterRole, RasterMeta>> {
    let found = raster::Entity::find()
        .filter(raster::Column::StudyId.eq(study))
        .filter(raster::Column::SupersededAt.is_null())
        .filter(of_dem)
        .all(db)
        .await?;
    let known = found.into_iter().filter_map(|r| Some((RasterRole::from_name(&r.role)?, RasterMeta::of(&r))));
    let mut known: HashMap<RasterRole, RasterMeta> = known.collect();
    // Where sinks were filled and nothing else was done, one raster is both.
    if let Some(depth) = known.get(&RasterRole::FillDepth).copied() {
        known.entry(RasterRole::CutFill).or_insert(depth);
    }
    Ok(known)
}

impl Store {
    /// Begins to write results of a study.
    #[boxed]
    pub async fn write(&self, study: i64) -> Result<RasterWriter> {
        Ok(RasterWriter { transaction: self.db.begin().await?, study, store: self.clone() })
    }

    /// Size and place of a raster, if the study has it.
    #[boxed]
    pub async fn raster(&self, study: i64, role: RasterRole) -> Result<Option<RasterMeta>> {
        Ok(self.rasters(study).await?.remove(&role))
    }

    /// Size and place of all rasters of a study, as they are at one moment.
    #[boxed]
    pub async fn rasters(&self, study: i64) -> Result<HashMap<RasterRole, RasterMeta>> {
        rasters_of(&self.db, study).await
    }

    /// Size and place of all rasters of a DEM of a study that is set aside; of the one at work where none is named.
    #[boxed]
    pub async fn rasters_of_dem(
        &self,
        study: i64,
        aside: Option<i64>,
    ) -> Result<HashMap<RasterRole, RasterMeta>> {
        match aside {
            None => self.rasters(study).await,
            Some(dem) => rasters_where(&self.db, study, raster::Column::DemId.eq(dem)).await,
        }
    }

    /// A raster of a study by its number, even where another has taken its place a short while ago.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study has no such raster.
    #[boxed]
    pub async fn raster_by_number(&self, study: i64, id: i64) -> Result<(RasterRole, RasterMeta)> {
        let read = async {
            let found =
                raster::Entity::find_by_id(id).one(&self.db).await?.ok_or(Error::NotFound("raster"))?;
            let role = RasterRole::from_name(&found.role).ok_or(Error::NotFound("raster"))?;
            Ok::<_, Error>((found.study_id, role, RasterMeta::of(&found)))
        };
        // A raster of a number never changes.
        let (of, role, meta) = self.metas.try_get_with(id, read).await.map_err(shared)?;
        match of == study {
            true => Ok((role, meta)),
            false => Err(Error::NotFound("raster")),
        }
    }

    /// Removes for good the rasters and files in whose place others have stood for longer than `age`, but for files
    /// that somebody reads.
    #[boxed]
    pub async fn purge_superseded(&self, age: std::time::Duration) -> Result<u64> {
        let before = ChronoDateTimeUtc::from(std::time::SystemTime::now() - age);
        let rasters = raster::Entity::delete_many()
            .filter(raster::Column::SupersededAt.lt(before))
            .exec(&self.db)
            .await?;
        let unread = Condition::any()
            .add(file::Column::ReadUntil.is_null())
            .add(file::Column::ReadUntil.lt(crate::studies::now()));
        let files = file::Entity::delete_many()
            .filter(file::Column::SupersededAt.lt(before))
            .filter(unread)
            .exec(&self.db)
            .await?;
        Ok(rasters.rows_affected + files.rows_affected)
    }

    /// Reads a raster whole. While some rows of blocks are put in their places, the next are fetched.
    pub async fn read_raster<T: CellValue>(&self, meta: &RasterMeta) -> Result<Grid<T>> {
        let (rows, cols) = (meta.rows, meta.cols);
        let mut values = vec![T::NODATA; rows * cols];
        let mut ahead = self.row_of(meta, 0).await?;
        for row in 0..rows.div_ceil(BLOCK) {
            let blocks = std::mem::take(&mut ahead);
            let place = async {
                let for_job = background::in_job();
                let placed = tokio::task::spawn_blocking(move || {
                    let from = row * BLOCK * cols;
                    let past = values.len().min(from + BLOCK * cols);
                    background::compute(for_job, || put_together(blocks, cols, &mut values[from..past]))?;
                    Ok::<_, Error>(values)
                });
                placed.await.map_err(|e| Error::Io(std::io::Error::other(e)))?
            };
            (values, ahead) = tokio::try_join!(place, self.row_of(meta, row + 1))?;
        }
        Ok(Grid::from_vec(rows, cols, values))
    }

    /// The blocks of one row of blocks at full resolution, from west to east; none below the last.
    async fn row_of(&self, meta: &RasterMeta, row: usize) -> Result<RowOfBlocks> {
        let others = async {
            match meta.base {
                Some(base) => Ok(Some(self.blocks_of_row(base, meta, row).await?)),
                None => Ok(None),
            }
        };
        let (blocks, others) = tokio::try_join!(self.blocks_of_row(meta.id, meta, row), others)?;
        Ok(RowOfBlocks { blocks, others })
    }

    async fn blocks_of_row(
        &self,
        id: i64,
        meta: &RasterMeta,
        row: usize,
    ) -> Result<Vec<raster_block::Model>> {
        if row * BLOCK >= meta.rows {
            return Ok(Vec::new());
        }
        let blocks = raster_block::Entity::find()
            .filter(raster_block::Column::RasterId.eq(id))
            .filter(raster_block::Column::Level.eq(0))
            .filter(raster_block::Column::Row.eq(row as i32))
            .order_by_asc(raster_block::Column::Col)
            .all(&self.db)
            .await?;
        if blocks.len() != meta.cols.div_ceil(BLOCK) {
            return Err(Error::NotFound("raster"));
        }
        Ok(blocks)
    }

    /// Reads a window of a level, `rows` x `cols` from `(row, col)`, which may lie partly or wholly
    /// beyond the raster; cells there are nodata. Blocks are cached.
    pub async fn read_window<T: CellValue>(
        &self,
        meta: &RasterMeta,
        level: usize,
        (row, col): (isize, isize),
        (rows, cols): (usize, usize),
    ) -> Result<Grid<T>> {
        let (all_rows, all_cols) = meta.size_of_level(level);
        let mut window = Grid::filled(rows, cols, T::NODATA);
        let (top, left) = (row.max(0) as usize, col.max(0) as usize);
        let bottom = row.saturating_add_unsigned(rows).clamp(0, all_rows as isize) as usize;
        let right = col.saturating_add_unsigned(cols).clamp(0, all_cols as isize) as usize;
        if top >= bottom || left >= right {
            return Ok(window);
        }
        for block_row in top / BLOCK..=(bottom - 1) / BLOCK {
            for block_col in left / BLOCK..=(right - 1) / BLOCK {
                let width = BLOCK.min(all_cols - block_col * BLOCK);
                let height = BLOCK.min(all_rows - block_row * BLOCK);
                let bytes = self.block::<T>(meta, level, (block_row, block_col), height * width).await?;
                let (r0, r1) = (top.max(block_row * BLOCK), bottom.min(block_row * BLOCK + height));
                let (c0, c1) = (left.max(block_col * BLOCK), right.min(block_col * BLOCK + width));
                let size = size_of::<T>();
                for r in r0..r1 {
                    let from = ((r - block_row * BLOCK) * width + (c0 - block_col * BLOCK)) * size;
                    let to = window
                        .index(Cell { row: (r as isize - row) as usize, col: (c0 as isize - col) as usize });
                    let target = &mut window.values_mut()[to..to + (c1 - c0)];
                    bytemuck::cast_slice_mut::<T, u8>(target)
                        .copy_from_slice(&bytes[from..from + (c1 - c0) * size]);
                }
            }
        }
        Ok(window)
    }

    async fn block<T: CellValue>(
        &self,
        meta: &RasterMeta,
        level: usize,
        (row, col): (usize, usize),
        count: usize,
    ) -> Result<Arc<Vec<u8>>> {
        let of = |id: i64| (id, level as i32, row as i32, col as i32);
        let read = async |id: i64| {
            let found = raster_block::Entity::find_by_id(of(id)).one(&self.db).await?;
            Ok::<_, Error>(decompress::<T>(&found.ok_or(Error::NotFound("raster"))?.data, count)?)
        };
        let base = meta.base.filter(|_| level == 0);
        let whole = async {
            let mut own = read(meta.id).await?;
            if let Some(base) = base {
                let other = async { Ok(Arc::new(read(base).await?)) };
                let other = self.blocks.try_get_with(of(base), other).await.map_err(shared)?;
                own.iter_mut().zip(&*other).for_each(|(own, other)| *own ^= other);
            }
            Ok::<_, Error>(Arc::new(own))
        };
        self.blocks.try_get_with(of(meta.id), whole).await.map_err(shared)
    }
}

/// An error that several were waiting for.
fn shared(error: Arc<Error>) -> Error {
    match &*error {
        Error::NotFound(what) => Error::NotFound(what),
        Error::Away => Error::Away,
        Error::DiskFull => Error::DiskFull,
        other => Error::Io(std::io::Error::other(other.to_string())),
    }
}

/// A row of blocks as they are kept, from west to east.
#[derive(Default)]
struct RowOfBlocks {
    blocks: Vec<raster_block::Model>,
    /// those of the raster from which they are told apart
    others: Option<Vec<raster_block::Model>>,
}

/// Copies the values of adjacent blocks to their places, in rows of this many columns.
fn put_together<T: CellValue>(row: RowOfBlocks, cols: usize, out: &mut [T]) -> Result<()> {
    let height = out.len() / cols.max(1);
    let width = |col: usize| BLOCK.min(cols - col * BLOCK);
    let unpack = |col: usize, block: &raster_block::Model| Planes::of::<T>(&block.data, height * width(col));
    let whole = |(col, block): (usize, &raster_block::Model)| {
        let own = unpack(col, block)?;
        Ok(match &row.others {
            Some(others) => own.different_from(&unpack(col, &others[col])?),
            None => own,
        })
    };
    let unpacked: Vec<Planes> = row.blocks.par_iter().enumerate().map(whole).collect::<Result<_>>()?;
    out.par_chunks_mut(cols.max(1)).enumerate().for_each(|(row, line)| {
        for (col, (planes, out)) in unpacked.iter().zip(line.chunks_mut(BLOCK)).enumerate() {
            planes.values(row * width(col), out);
        }
    });
    Ok(())
}
