//! Files in the database, in chunks, so that any worker can reach them.

use std::io::Read;
use std::path::Path;

use sea_orm::prelude::{ChronoDateTimeUtc, Expr};
use sea_orm::{
    ActiveValue::Set, ColumnTrait, Condition, DatabaseTransaction, EntityTrait, QueryFilter, QueryOrder,
    QuerySelect,
};
use tokio::io::AsyncWriteExt;

use crate::dems::{at_work, number_at_work};
use crate::entity::{file, file_chunk};
use crate::growing::Grown;
use crate::{Change, Error, FileSum, Result, Store, boxed};

/// What a file is to its study.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileRole {
    /// the DEM as it was given, or the first of its files
    Dem,
    /// another file that the DEM is put together from
    DemPart,
    /// the CRS beside an ASCII grid
    Projection,
    /// weights of cells, e.g. rain
    Weights,
    /// a raster whose values are told of catchments
    Values,
    /// part of a layer that waits to be read
    LayerPart,
    /// the package that was written last
    Package,
    /// a package that was written before it
    EarlierPackage,
    /// the atlas that was written last
    Atlas,
    /// the recipe that was taken up last, with what it reads, as a zip
    Recipe,
}

impl FileRole {
    /// Whether a file of this role belongs to a DEM, and not to the study.
    fn is_of_dem(self) -> bool {
        matches!(self, Self::Dem | Self::DemPart | Self::Projection)
    }
    fn name(self) -> &'static str {
        match self {
            Self::Dem => "dem",
            Self::DemPart => "dem_part",
            Self::Projection => "prj",
            Self::Weights => "weights",
            Self::Values => "values",
            Self::LayerPart => "layer_part",
            Self::Package => "package",
            Self::EarlierPackage => "earlier_package",
            Self::Atlas => "atlas",
            Self::Recipe => "recipe",
        }
    }
}

/// Whether a file belongs to the DEM that a study works on, or to the study whatever DEM that is.
fn of_now(study: i64) -> Condition {
    Condition::any().add(file::Column::DemId.is_null()).add(file::Column::DemId.in_subquery(at_work(study)))
}

/// A file that is kept.
#[derive(Debug, Clone, PartialEq)]
pub struct StoredFile {
    /// number
    pub id: i64,
    /// name as the user knows it
    pub name: String,
    /// size in bytes
    pub bytes: u64,
    /// SHA-256, hexadecimal
    pub sha256: String,
    /// when it came
    pub at: ChronoDateTimeUtc,
}

fn stored(row: file::Model) -> StoredFile {
    StoredFile { id: row.id, name: row.name, bytes: row.bytes as u64, sha256: row.sha256, at: row.created_at }
}

/// Bytes in a piece of a file; the last may have fewer.
pub const PIECE: usize = 1 << 20;

/// Pieces that go to the server in one statement.
const PIECES_AT_ONCE: usize = 4;

/// A file on its way into the database, with the sum of what was read of it.
pub(crate) struct Reading {
    source: std::fs::File,
    sum: FileSum,
    /// whether pieces become much smaller; those of a file are alike
    packs: bool,
}

/// A piece as it is kept, and how many bytes it had where it was made smaller.
type Piece = (Vec<u8>, Option<i32>);

/// A piece made smaller where its bytes are mostly numbers of four bytes; none where that does not take a quarter off.
fn smaller(piece: &[u8]) -> Result<Option<Piece>> {
    let Ok(words) = bytemuck::try_cast_slice::<u8, [u8; 4]>(piece) else { return Ok(None) };
    let packed = bothros_packed::compress(words)?;
    Ok((packed.len() * 4 < piece.len() * 3).then_some((packed, Some(piece.len() as i32))))
}

impl Reading {
    pub(crate) fn new(source: std::fs::File) -> Self {
        Self { source, sum: FileSum::default(), packs: true }
    }

    /// Reads the next pieces of `bytes` in all, on a thread of its own.
    async fn next(mut self, bytes: u64) -> Result<(Self, Vec<Piece>)> {
        let read = move || {
            let mut pieces = Vec::new();
            let mut left = bytes;
            while left > 0 {
                let wanted = left.min(PIECE as u64);
                let mut piece = Vec::with_capacity(wanted as usize);
                if (&mut self.source).take(wanted).read_to_end(&mut piece)? as u64 != wanted {
                    return Err(Error::Io(std::io::ErrorKind::UnexpectedEof.into()));
                }
                left -= wanted;
                self.sum.add(&piece);
                let packed = if self.packs { smaller(&piece)? } else { None };
                self.packs = packed.is_some();
                pieces.push(packed.unwrap_or((piece, None)));
            }
            Ok((self, pieces))
        };
        tokio::task::spawn_blocking(read).await.map_err(|e| Error::Io(std::io::Error::other(e)))?
    }
}

/// Puts what is read into the database as the pieces of a file; its sum and its size.
pub(crate) async fn store_pieces(
    transaction: &DatabaseTransaction,
    id: i64,
    mut reading: Reading,
    mut grown: Grown,
) -> Result<(String, u64)> {
    const AT_ONCE: u64 = (PIECES_AT_ONCE * PIECE) as u64;
    let (mut pieces, mut sequence, mut read) = (Vec::new(), 0i32, 0);
    // While some pieces are sent, the next are read and their sum is taken.
    loop {
        let rows = std::mem::take(&mut pieces).into_iter().zip(sequence..);
        let rows: Vec<_> = rows
            .map(|((data, unpacked), sequence)| file_chunk::ActiveModel {
                file_id: Set(id),
                sequence: Set(sequence),
                data: Set(data),
                unpacked: Set(unpacked),
            })
            .collect();
        sequence += rows.len() as i32;
        let send = async {
            if !rows.is_empty() {
                file_chunk::Entity::insert_many(rows).exec_without_returning(transaction).await?;
            }
            Ok::<_, Error>(())
        };
        let next = async {
            let there = grown.to(read + AT_ONCE).await?;
            let bytes = (there - read).min(AT_ONCE);
            Ok((bytes, reading.next(bytes).await?))
        };
        let ((), (bytes, (next, found))) = tokio::try_join!(send, next)?;
        (reading, pieces) = (next, found);
        if bytes == 0 {
            break;
        }
        read += bytes;
    }
    let sha256 = reading.sum.hexadecimal();
    let done = file::ActiveModel {
        id: Set(id),
        sha256: Set(sha256.clone()),
        bytes: Set(read as i64),
        ..Default::default()
    };
    file::Entity::update(done).exec(transaction).await?;
    Ok((sha256, read))
}

/// A new file of a study, of which nothing is known yet: it counts as one that was replaced until [`show_file`].
pub(crate) async fn insert_file(
    transaction: &DatabaseTransaction,
    study: i64,
    role: FileRole,
    name: &str,
) -> Result<StoredFile> {
    let dem_id = match role.is_of_dem() {
        true => Some(number_at_work(transaction, study).await?),
        false => None,
    };
    let at = crate::studies::now();
    let row = file::ActiveModel {
        study_id: Set(study),
        dem_id: Set(dem_id),
        role: Set(role.name().into()),
        name: Set(name.into()),
        bytes: Set(0),
        sha256: Set(String::new()),
        created_at: Set(at),
        superseded_at: Set(Some(at)),
        ..Default::default()
    };
    let id = file::Entity::insert(row).exec(transaction).await?.last_insert_id;
    Ok(StoredFile { id, name: name.into(), bytes: 0, sha256: String::new(), at })
}

/// Puts the file `new` of a study in its place: what it had in this role is replaced, but for files of which there may be many; the
/// package becomes an earlier one.
pub(crate) async fn show_file(
    transaction: &DatabaseTransaction,
    study: i64,
    role: FileRole,
    new: i64,
) -> Result<()> {
    let others = file::Entity::update_many()
        .filter(file::Column::StudyId.eq(study))
        .filter(file::Column::SupersededAt.is_null())
        .filter(file::Column::Role.eq(role.name()));
    match role {
        FileRole::DemPart | FileRole::LayerPart | FileRole::Values => {}
        FileRole::Package => {
            let earlier = Expr::value(FileRole::EarlierPackage.name());
            others.col_expr(file::Column::Role, earlier).exec(transaction).await?;
        }
        _ => {
            // Somebody may be downloading the one before.
            let now = Expr::value(crate::studies::now());
            let others = others.col_expr(file::Column::SupersededAt, now).filter(of_now(study));
            others.exec(transaction).await?;
        }
    }
    let shown = file::ActiveModel { id: Set(new), superseded_at: Set(None), ..Default::default() };
    file::Entity::update(shown).exec(transaction).await?;
    Ok(())
}

impl Store {
    /// The file of a study in a role, if there is one.
    #[boxed]
    pub async fn file(&self, study: i64, role: FileRole) -> Result<Option<StoredFile>> {
        let found = file::Entity::find()
            .filter(file::Column::StudyId.eq(study))
            .filter(of_now(study))
            .filter(file::Column::SupersededAt.is_null())
            .filter(file::Column::Role.eq(role.name()))
            .one(&self.db)
            .await?;
        Ok(found.map(stored))
    }

    /// All files of a study in a role.
    #[boxed]
    pub async fn files(&self, study: i64, role: FileRole) -> Result<Vec<StoredFile>> {
        let found = file::Entity::find()
            .filter(file::Column::StudyId.eq(study))
            .filter(of_now(study))
            .filter(file::Column::SupersededAt.is_null())
            .filter(file::Column::Role.eq(role.name()))
            .order_by_asc(file::Column::Id);
        Ok(found.all(&self.db).await?.into_iter().map(stored).collect())
    }

    /// The packages of a study that are kept, the last one first.
    #[boxed]
    pub async fn kept_packages(&self, study: i64) -> Result<Vec<StoredFile>> {
        let roles = [FileRole::Package, FileRole::EarlierPackage].map(FileRole::name);
        let found = file::Entity::find()
            .filter(file::Column::StudyId.eq(study))
            .filter(file::Column::SupersededAt.is_null())
            .filter(file::Column::Role.is_in(roles))
            .order_by_desc(file::Column::Id);
        Ok(found.all(&self.db).await?.into_iter().map(stored).collect())
    }

    /// A package of a study by its number.
    ///
    /// # Errors
    /// [`Error::NotFound`] where it has none of that number.
    #[boxed]
    pub async fn kept_package(&self, study: i64, id: i64) -> Result<StoredFile> {
        let found = self.kept_packages(study).await?.into_iter().find(|f| f.id == id);
        found.ok_or(Error::NotFound("package"))
    }

    /// A DEM file of the study at work by its SHA-256, if there is one.
    #[boxed]
    pub async fn dem_part(&self, study: i64, sha256: &str) -> Result<Option<StoredFile>> {
        self.file_by_sum(study, FileRole::DemPart, sha256).await
    }

    /// A file of a DEM that is set aside: in a role, and with a SHA-256 where one is given.
    #[boxed]
    pub async fn file_of_dem(
        &self,
        dem: i64,
        role: FileRole,
        sha256: Option<&str>,
    ) -> Result<Option<StoredFile>> {
        let found = file::Entity::find()
            .filter(file::Column::DemId.eq(dem))
            .filter(file::Column::SupersededAt.is_null())
            .filter(file::Column::Role.eq(role.name()));
        let found = match sha256 {
            Some(sum) => found.filter(file::Column::Sha256.eq(sum)),
            None => found,
        };
        Ok(found.one(&self.db).await?.map(stored))
    }

    /// A file of a study in a role by its SHA-256, if there is one.
    #[boxed]
    pub async fn file_by_sum(&self, study: i64, role: FileRole, sha256: &str) -> Result<Option<StoredFile>> {
        let found = file::Entity::find()
            .filter(file::Column::StudyId.eq(study))
            .filter(of_now(study))
            .filter(file::Column::Role.eq(role.name()))
            .filter(file::Column::Sha256.eq(sha256))
            .one(&self.db)
            .await?;
        Ok(found.map(stored))
    }

    /// Says that a file is being read: for so long it stays, even where another takes its place.
    #[boxed]
    pub async fn hold_file(&self, id: i64, for_: std::time::Duration) -> Result<()> {
        let until = ChronoDateTimeUtc::from(std::time::SystemTime::now() + for_);
        file::Entity::update_many()
            .col_expr(file::Column::ReadUntil, Expr::value(until))
            .filter(file::Column::Id.eq(id))
            .exec(&self.db)
            .await?;
        Ok(())
    }

    /// A piece of a file of [`PIECE`] bytes, or `None` past its end.
    #[boxed]
    pub async fn file_piece(&self, id: i64, sequence: i32) -> Result<Option<Vec<u8>>> {
        let Some(chunk) = file_chunk::Entity::find_by_id((id, sequence)).one(&self.db).await? else {
            return Ok(None);
        };
        Ok(Some(match chunk.unpacked {
            Some(bytes) => bothros_packed::decompress::<[u8; 4]>(&chunk.data, bytes as usize / 4)?,
            None => chunk.data,
        }))
    }

    /// Writes a kept file to disk.
    #[boxed]
    pub async fn fetch_file(&self, id: i64, path: &Path) -> Result<()> {
        if self.at_hand.take(id, path) {
            return Ok(());
        }
        let pieces = file_chunk::Entity::find()
            .select_only()
            .column(file_chunk::Column::Sequence)
            .filter(file_chunk::Column::FileId.eq(id))
            .order_by_asc(file_chunk::Column::Sequence)
            .into_tuple::<i32>()
            .all(&self.db)
            .await?;
        let mut target = tokio::fs::File::create(path).await?;
        for sequence in pieces {
            let piece = self.file_piece(id, sequence).await?.ok_or(Error::NotFound("file"))?;
            target.write_all(&piece).await?;
        }
        target.flush().await?;
        Ok(())
    }
}

impl Change {
    /// Says what a file was written from, by [`Store::fingerprint`] as it was then.
    #[boxed]
    pub async fn written_from(&self, file: i64, fingerprint: String) -> Result<()> {
        let row =
            file::ActiveModel { id: Set(file), fingerprint: Set(Some(fingerprint)), ..Default::default() };
        file::Entity::update(row).exec(&self.transaction).await?;
        Ok(())
    }

    /// Forgets a package; who reads it reads it to its end.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study has none of that number.
    #[boxed]
    pub async fn drop_package(&self, id: i64) -> Result<()> {
        let roles = [FileRole::Package, FileRole::EarlierPackage].map(FileRole::name);
        let done = file::Entity::update_many()
            .col_expr(file::Column::SupersededAt, Expr::value(crate::studies::now()))
            .filter(file::Column::Id.eq(id))
            .filter(file::Column::StudyId.eq(self.id()))
            .filter(file::Column::Role.is_in(roles))
            .filter(file::Column::SupersededAt.is_null())
            .exec(&self.transaction)
            .await?;
        match done.rows_affected {
            0 => Err(Error::NotFound("package")),
            _ => Ok(()),
        }
    }

    /// Keeps a file; it replaces what the study had in this role, but for [`FileRole::DemPart`],
    /// [`FileRole::LayerPart`] and [`FileRole::Values`], of which there may be many, and for [`FileRole::Package`], which
    /// becomes an earlier one.
    #[boxed]
    pub async fn put_file(&self, role: FileRole, name: &str, path: &Path) -> Result<StoredFile> {
        let (transaction, study) = (&self.transaction, self.id());
        let source = tokio::fs::File::open(path).await?;
        let bytes = source.metadata().await?.len();
        let row = insert_file(transaction, study, role, name).await?;
        let reading = Reading::new(source.into_std().await);
        let (sha256, bytes) = store_pieces(transaction, row.id, reading, Grown::whole(bytes)).await?;
        show_file(transaction, study, role, row.id).await?;
        if role.is_of_dem() {
            self.store.at_hand.keep(row.id, path);
        }
        Ok(StoredFile { sha256, bytes, ..row })
    }

    /// Forgets all files of the study in a role.
    #[boxed]
    pub async fn drop_files(&self, role: FileRole) -> Result<()> {
        file::Entity::delete_many()
            .filter(file::Column::StudyId.eq(self.id()))
            .filter(of_now(self.id()))
            .filter(file::Column::Role.eq(role.name()))
            .exec(&self.transaction)
            .await?;
        Ok(())
    }
}
