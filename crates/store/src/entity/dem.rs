//! A DEM of a study, with all that was done to it.

use sea_orm::entity::prelude::*;

/// A DEM of a study, with all that was done to it.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "dem")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// study
    pub study_id: i64,
    /// what it is called while it is set aside
    pub name: String,
    /// whether it is the one that the study works on
    pub at_work: bool,
    /// the DEM files as they were given
    pub source: Option<Json>,
    /// the prepared DEM
    pub terrain: Option<Json>,
    /// the sinks and barriers that were found before conditioning
    pub review: Option<Json>,
    /// what filling and routing found
    pub routing: Option<Json>,
    /// the network at the chosen threshold
    pub network: Option<Json>,
    /// what realisations of the DEM showed
    pub uncertainty: Option<Json>,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
