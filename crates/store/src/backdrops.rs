//! Pictures behind the map: kept, placed, deleted.

use sea_orm::{
    ActiveValue::Set, ColumnTrait, EntityTrait, FromQueryResult, QueryFilter, QueryOrder, QuerySelect, Select,
};
use serde::Serialize;
use serde_json::Value as Json;

use crate::entity::backdrop;
use crate::kept;
use crate::{Change, Error, Kept, Result, Store, boxed};

/// A picture without its pixels.
#[derive(Debug, Clone, PartialEq, Serialize, FromQueryResult)]
pub struct Backdrop {
    /// number
    pub id: i64,
    /// name as the user knows it
    pub name: String,
    /// columns
    pub width: i32,
    /// rows
    pub height: i32,
    /// where it lies; `None` while that is not known
    pub place: Option<Json>,
    /// where it comes from
    pub provenance: Json,
    /// counts changes of its place
    pub version: i32,
}

/// A picture that is to be kept.
#[derive(Debug, Clone)]
pub struct NewBackdrop {
    /// name as the user knows it
    pub name: String,
    /// columns
    pub width: usize,
    /// rows
    pub height: usize,
    /// where it lies, if that is known
    pub place: Option<Kept>,
    /// where it comes from
    pub provenance: Json,
    /// the pixels, as PNG
    pub picture: Vec<u8>,
}

const COLUMNS: [backdrop::Column; 7] = [
    backdrop::Column::Id,
    backdrop::Column::Name,
    backdrop::Column::Width,
    backdrop::Column::Height,
    backdrop::Column::Place,
    backdrop::Column::Provenance,
    backdrop::Column::Version,
];

/// Pictures that are not deleted, without their pixels.
fn described() -> Select<backdrop::Entity> {
    backdrop::Entity::find().select_only().columns(COLUMNS).filter(backdrop::Column::DeletedAt.is_null())
}

impl Store {
    /// The pictures of a study, in the order in which they came.
    #[boxed]
    pub async fn backdrops(&self, study: i64) -> Result<Vec<Backdrop>> {
        let found =
            described().filter(backdrop::Column::StudyId.eq(study)).order_by_asc(backdrop::Column::Id);
        Ok(found.into_model::<Backdrop>().all(&self.db).await?)
    }

    /// One picture.
    ///
    /// # Errors
    /// [`Error::NotFound`] where the study has no such picture.
    #[boxed]
    pub async fn backdrop(&self, study: i64, id: i64) -> Result<Backdrop> {
        self.backdrops(study).await?.into_iter().find(|b| b.id == id).ok_or(Error::NotFound("picture"))
    }

    /// Its pixels, as PNG.
    #[boxed]
    pub async fn backdrop_picture(&self, id: i64) -> Result<Vec<u8>> {
        let found = backdrop::Entity::find_by_id(id).one(&self.db).await?;
        Ok(found.ok_or(Error::NotFound("picture"))?.picture)
    }
}

impl Change {
    /// Keeps a picture.
    #[boxed]
    pub async fn add_backdrop(&self, new: NewBackdrop) -> Result<i64> {
        let row = backdrop::ActiveModel {
            study_id: Set(self.id()),
            name: Set(new.name),
            width: Set(new.width as i32),
            height: Set(new.height as i32),
            place: Set(new.place.map(Kept::into_json)),
            provenance: Set(kept::checked(&new.provenance)?),
            version: Set(1),
            picture: Set(new.picture),
            ..Default::default()
        };
        let id = backdrop::Entity::insert(row).exec(&self.transaction).await?.last_insert_id;
        Ok(id)
    }

    /// Sets where a picture lies, or that it is not known; returns where it lay before.
    #[boxed]
    pub async fn place_backdrop(&self, id: i64, place: Option<Kept>) -> Result<Option<Json>> {
        let found =
            described().filter(backdrop::Column::StudyId.eq(self.id())).filter(backdrop::Column::Id.eq(id));
        let now = found.into_model::<Backdrop>().one(&self.transaction).await?;
        let now = now.ok_or(Error::NotFound("picture"))?;
        let row = backdrop::ActiveModel {
            place: Set(place.map(Kept::into_json)),
            version: Set(now.version + 1),
            ..Default::default()
        };
        let of = backdrop::Entity::update_many().set(row).filter(backdrop::Column::Id.eq(id));
        of.exec(&self.transaction).await?;
        Ok(now.place)
    }

    /// Deletes a picture, or brings it back.
    #[boxed]
    pub async fn set_backdrop_deleted(&self, id: i64, deleted: bool) -> Result<()> {
        let row = backdrop::ActiveModel {
            deleted_at: Set(deleted.then(crate::studies::now)),
            ..Default::default()
        };
        let done = backdrop::Entity::update_many()
            .set(row)
            .filter(backdrop::Column::Id.eq(id))
            .filter(backdrop::Column::StudyId.eq(self.id()))
            .exec(&self.transaction)
            .await?;
        if done.rows_affected == 0 { Err(Error::NotFound("picture")) } else { Ok(()) }
    }
}
