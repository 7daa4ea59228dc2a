//! A file that belongs to a study, kept in chunks.

use sea_orm::entity::prelude::*;

/// A file that belongs to a study, kept in chunks.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "file")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// study
    pub study_id: i64,
    /// what it is
    pub role: String,
    /// name as the user knows it
    pub name: String,
    /// size in bytes
    pub bytes: i64,
    /// SHA-256, hexadecimal
    pub sha256: String,
    /// when it came
    pub created_at: ChronoDateTimeUtc,
    /// the DEM it belongs to; none where it belongs to the study
    pub dem_id: Option<i64>,
    /// when another took its place; it goes when nobody reads it any more
    pub superseded_at: Option<ChronoDateTimeUtc>,
    /// what it rests on, where it was written from the study
    pub fingerprint: Option<String>,
    /// how long it is held for a reader who reports nothing more
    pub read_until: Option<ChronoDateTimeUtc>,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
