//! Recipes that are kept beside the studies, each as a zip with what it reads.

use std::path::Path;

use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, PaginatorTrait, QueryFilter, QueryOrder,
    TransactionTrait,
};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

use crate::entity::{recipe, recipe_chunk};
use crate::{Error, PIECE, Result, Store, boxed, now};

pub use recipe::Model as KeptRecipe;

/// A recipe that is to be kept.
#[derive(Debug, Clone)]
pub struct NewRecipe<'a> {
    /// its name
    pub name: &'a str,
    /// what it is for
    pub about: &'a str,
    /// where it comes from
    pub origin: &'a str,
    /// TOML
    pub recipe: &'a str,
    /// a zip with it and what it reads
    pub zip: &'a Path,
}

impl Store {
    /// The kept recipes, by name.
    #[boxed]
    pub async fn recipes(&self) -> Result<Vec<KeptRecipe>> {
        Ok(recipe::Entity::find().order_by_asc(recipe::Column::Name).all(&self.db).await?)
    }

    /// A kept recipe.
    ///
    /// # Errors
    /// [`Error::NotFound`].
    #[boxed]
    pub async fn recipe(&self, id: i64) -> Result<KeptRecipe> {
        recipe::Entity::find_by_id(id).one(&self.db).await?.ok_or(Error::NotFound("recipe"))
    }

    /// Whether a recipe but that of a number has a name.
    #[boxed]
    pub async fn recipe_name_taken(&self, name: &str, but: Option<i64>) -> Result<bool> {
        let found = recipe::Entity::find().filter(recipe::Column::Name.eq(name));
        let found = found.filter(recipe::Column::Id.ne(but.unwrap_or(0)));
        Ok(found.count(&self.db).await? > 0)
    }

    /// Keeps a recipe; its number.
    pub async fn keep_recipe(&self, new: NewRecipe<'_>) -> Result<i64> {
        let mut source = tokio::fs::File::open(new.zip).await?;
        let row = recipe::ActiveModel {
            name: Set(new.name.into()),
            about: Set(new.about.into()),
            origin: Set(new.origin.into()),
            recipe: Set(new.recipe.into()),
            bytes: Set(source.metadata().await?.len() as i64),
            created_at: Set(now()),
            ..Default::default()
        };
        let transaction = self.db.begin().await?;
        let id = row.insert(&transaction).await?.id;
        for sequence in 0.. {
            let mut data = Vec::with_capacity(PIECE);
            if (&mut source).take(PIECE as u64).read_to_end(&mut data).await? == 0 {
                break;
            }
            let row =
                recipe_chunk::ActiveModel { recipe_id: Set(id), sequence: Set(sequence), data: Set(data) };
            recipe_chunk::Entity::insert(row).exec_without_returning(&transaction).await?;
        }
        transaction.commit().await?;
        Ok(id)
    }

    /// Writes a kept recipe with what it reads to disk, as a zip.
    ///
    /// # Errors
    /// [`Error::NotFound`] where it was deleted meanwhile.
    #[boxed]
    pub async fn fetch_recipe(&self, id: i64, path: &Path) -> Result<()> {
        let bytes = self.recipe(id).await?.bytes;
        let mut target = tokio::fs::File::create(path).await?;
        for sequence in 0..(bytes as u64).div_ceil(PIECE as u64) as i32 {
            let piece = recipe_chunk::Entity::find_by_id((id, sequence)).one(&self.db).await?;
            target.write_all(&piece.ok_or(Error::NotFound("recipe"))?.data).await?;
        }
        target.flush().await?;
        Ok(())
    }

    /// Gives a kept recipe another name, and says what it is for.
    ///
    /// # Errors
    /// [`Error::NotFound`].
    #[boxed]
    pub async fn describe_recipe(&self, id: i64, name: &str, about: &str) -> Result<()> {
        let row = recipe::ActiveModel {
            id: Set(id),
            name: Set(name.into()),
            about: Set(about.into()),
            ..Default::default()
        };
        self.recipe(id).await?;
        row.update(&self.db).await?;
        Ok(())
    }

    /// Deletes a kept recipe.
    ///
    /// # Errors
    /// [`Error::NotFound`].
    #[boxed]
    pub async fn delete_recipe(&self, id: i64) -> Result<()> {
        match recipe::Entity::delete_by_id(id).exec(&self.db).await?.rows_affected {
            0 => Err(Error::NotFound("recipe")),
            _ => Ok(()),
        }
    }
}
