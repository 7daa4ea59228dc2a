//! A raster of a study.

use sea_orm::entity::prelude::*;

/// A raster of a study.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "raster")]
pub struct Model {
    /// number; a raster that replaces another gets a new one
    #[sea_orm(primary_key)]
    pub id: i64,
    /// study
    pub study_id: i64,
    /// what it is
    pub role: String,
    /// type of the values
    pub cell_type: String,
    /// rows
    pub rows: i32,
    /// columns
    pub cols: i32,
    /// number of levels, the finest included
    pub levels: i32,
    /// easting of the western edge, CRS units
    pub left: f64,
    /// northing of the northern edge, CRS units
    pub top: f64,
    /// width of a cell, CRS units
    pub cell_x: f64,
    /// height of a cell, CRS units
    pub cell_y: f64,
    /// the raster that the finest level was compared with: blocks hold what is different
    pub base_id: Option<i64>,
    /// the DEM it belongs to
    pub dem_id: i64,
    /// when another took its place; it goes soon after
    pub superseded_at: Option<ChronoDateTimeUtc>,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
