//! A threshold that the analyst begins with.

use sea_orm::entity::prelude::*;

/// A threshold that the analyst begins with.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "kept_threshold")]
pub struct Model {
    /// number
    #[sea_orm(primary_key)]
    pub id: i64,
    /// what it is called
    pub name: String,
    /// where it comes from, or what it is for
    pub reason: String,
    /// contributing area, m²
    pub area_m2: f64,
    /// when it was kept
    pub created_at: ChronoDateTimeUtc,
}

/// It stands alone.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
