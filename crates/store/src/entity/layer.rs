//! A layer of features: mapped streams, breach lines, walls, lakes.

use sea_orm::entity::prelude::*;

/// A layer of features.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "layer")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// study
    pub study_id: i64,
    /// what it is to the study
    pub role: String,
    /// name as the user knows it
    pub name: String,
    /// where it comes from: file, source, date, scale, licence, checksum
    pub provenance: Json,
    /// number of features
    pub features: i32,
    /// counts changes, so that two people do not overwrite each other
    pub version: i32,
    /// the features, compressed
    pub data: Vec<u8>,
    /// when it was deleted, if it was
    pub deleted_at: Option<ChronoDateTimeUtc>,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
