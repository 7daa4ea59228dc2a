//! A picture to judge the study against: an aerial image, a scanned map.

use sea_orm::entity::prelude::*;

/// A picture.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "backdrop")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// study
    pub study_id: i64,
    /// name as the user knows it
    pub name: String,
    /// columns
    pub width: i32,
    /// rows
    pub height: i32,
    /// where it lies: CRS, the six numbers of its place, the points it was placed by; null while unknown
    pub place: Option<Json>,
    /// where it comes from: file, source, date, scale, licence, checksum
    pub provenance: Json,
    /// counts changes of its place
    pub version: i32,
    /// the pixels, as PNG
    pub picture: Vec<u8>,
    /// when it was deleted, if it was
    pub deleted_at: Option<ChronoDateTimeUtc>,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
