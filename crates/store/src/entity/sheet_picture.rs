//! A picture that stands on sheets.

use sea_orm::entity::prelude::*;

/// A picture that stands on sheets.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "sheet_picture")]
pub struct Model {
    /// study
    #[sea_orm(primary_key, auto_increment = false)]
    pub study_id: i64,
    /// SHA-256 of the picture as it was given, hexadecimal
    #[sea_orm(primary_key, auto_increment = false)]
    pub sha256: String,
    /// the picture
    pub png: Vec<u8>,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
