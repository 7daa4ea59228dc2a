//! A compressed block of a raster.

use sea_orm::entity::prelude::*;

/// A compressed block of a raster.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "raster_block")]
pub struct Model {
    /// raster
    #[sea_orm(primary_key, auto_increment = false)]
    pub raster_id: i64,
    /// 0 is the finest; each level halves the number of rows and columns
    #[sea_orm(primary_key, auto_increment = false)]
    pub level: i32,
    /// row of blocks
    #[sea_orm(primary_key, auto_increment = false)]
    pub row: i32,
    /// column of blocks
    #[sea_orm(primary_key, auto_increment = false)]
    pub col: i32,
    /// compressed values
    pub data: Vec<u8>,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
