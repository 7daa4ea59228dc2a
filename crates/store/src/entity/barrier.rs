//! A barrier that was proposed, and what was decided.

use sea_orm::entity::prelude::*;

/// A barrier that was proposed, and what was decided.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "barrier")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// study
    pub study_id: i64,
    /// easting of its crest
    pub x: f64,
    /// northing of its crest
    pub y: f64,
    /// what was measured
    pub facts: Json,
    /// from 0 to 1
    pub score: f64,
    /// whether the last search found it
    pub found: bool,
    /// breach, fill, keep, or nothing yet
    pub decision: Option<String>,
    /// another breach line than the proposed one
    pub line: Option<Json>,
    /// the DEM it belongs to
    pub dem_id: i64,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
