//! A piece of a kept recipe with what it reads.

use sea_orm::entity::prelude::*;

/// A piece of a kept recipe with what it reads.
#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "recipe_chunk")]
pub struct Model {
    /// recipe
    #[sea_orm(primary_key, auto_increment = false)]
    pub recipe_id: i64,
    /// place in the file, from 0
    #[sea_orm(primary_key, auto_increment = false)]
    pub sequence: i32,
    /// bytes
    pub data: Vec<u8>,
}

/// Joins are written where they are needed.
#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
