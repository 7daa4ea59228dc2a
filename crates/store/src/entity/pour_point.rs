//! A pour point with its catchment.

use sea_orm::entity::prelude::*;

/// A pour point with its catchment.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "pour_point")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// study
    pub study_id: i64,
    /// name
    pub name: String,
    /// easting as given, study CRS
    pub x: f64,
    /// northing as given, study CRS
    pub y: f64,
    /// snapping distance, metres
    pub snap_m: f64,
    /// to what it snaps
    pub snap_to: String,
    /// the catchment: cell, distance moved, measures; none where routing has not been done
    pub catchment: Option<Json>,
    /// the outline as GeoJSON coordinates, study CRS
    pub outline: Option<Json>,
    /// why there is no catchment
    pub problem: Option<String>,
    /// when it was deleted; undo brings it back
    pub deleted_at: Option<ChronoDateTimeUtc>,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
