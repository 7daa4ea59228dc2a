//! A piece of a file.

use sea_orm::entity::prelude::*;

/// A piece of a file.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "file_chunk")]
pub struct Model {
    /// file
    #[sea_orm(primary_key, auto_increment = false)]
    pub file_id: i64,
    /// place in the file, from 0
    #[sea_orm(primary_key, auto_increment = false)]
    pub sequence: i32,
    /// bytes, packed where `unpacked` says so
    pub data: Vec<u8>,
    /// how many bytes they were before; none where they are as they came
    pub unpacked: Option<i32>,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
