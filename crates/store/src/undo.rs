//! Changes that can be undone, newest first.

use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, QueryOrder,
    QuerySelect,
};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use crate::entity::undo_entry;
use crate::kept::{self, Kept, Versioned};
use crate::{Change, Result, Store, boxed};

/// How a change is undone.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "do", rename_all = "snake_case")]
pub enum Inverse {
    /// a pour point was added
    RemovePourPoint {
        /// its number
        id: i64,
    },
    /// a pour point was deleted
    RestorePourPoint {
        /// its number
        id: i64,
    },
    /// a pour point was moved or renamed
    ChangePourPoint {
        /// its number
        id: i64,
        /// the name it had
        name: String,
        /// the easting it had
        x: f64,
        /// the northing it had
        y: f64,
        /// how it was snapped: distance in metres, rule; none where an earlier version kept this
        #[serde(default)]
        snapping: Option<(f64, String)>,
    },
    /// a layer was added
    RemoveLayer {
        /// its number
        id: i64,
    },
    /// a layer was deleted
    RestoreLayer {
        /// its number
        id: i64,
    },
    /// a picture was added
    RemoveBackdrop {
        /// its number
        id: i64,
    },
    /// a picture was deleted
    RestoreBackdrop {
        /// its number
        id: i64,
    },
    /// a picture was placed
    PlaceBackdrop {
        /// its number
        id: i64,
        /// where it was before
        placing: Option<Json>,
    },
    /// a feature was drawn
    RemoveFeature {
        /// the layer's number
        layer: i64,
        /// the feature's number in it
        feature: u32,
    },
    /// a feature was deleted
    RestoreFeature {
        /// the layer's number
        layer: i64,
        /// the feature
        feature: Json,
    },
    /// something was decided about a barrier
    Decide {
        /// its number
        barrier: i64,
        /// what had been decided before
        decision: Option<String>,
        /// the line it had, where it was not the proposed one
        line: Option<Json>,
    },
    /// choices were changed
    SetSettings {
        /// what they were
        settings: Json,
    },
    /// the DEM was prepared otherwise
    Prepare {
        /// how it was prepared before
        preparing: Json,
    },
    /// the files of the DEM were changed
    SetSource {
        /// what they were
        source: Json,
    },
    /// a trial was kept
    RemoveTrial {
        /// its number
        id: i64,
    },
    /// a trial was deleted
    RestoreTrial {
        /// its number
        id: i64,
    },
    /// a trial was described
    DescribeTrial {
        /// its number
        id: i64,
        /// the name it had
        name: String,
        /// the remark it had
        remark: String,
    },
    /// the study was described
    DescribeStudy {
        /// the name it had
        name: String,
        /// the description it had
        description: String,
    },
    /// another trial became the study's network
    ChooseTrial {
        /// the one that was it before
        id: Option<i64>,
        /// why it was
        justification: String,
        /// the threshold before, in cells
        cells: Option<u32>,
    },
    /// a sheet was added
    RemoveSheet {
        /// its number
        id: i64,
    },
    /// a sheet was deleted
    RestoreSheet {
        /// its number
        id: i64,
    },
    /// a sheet was changed
    SetSheet {
        /// its number
        id: i64,
        /// the name it had
        name: String,
        /// what was on it
        sheet: Json,
    },
    /// several things were changed at once
    All {
        /// what undoes each, in the order in which it is to be done
        all: Vec<Inverse>,
    },
    /// the threshold was changed
    SetThreshold {
        /// the threshold it had, in cells
        cells: u32,
    },
}

impl Versioned for Inverse {
    const WHAT: &'static str = "what undoes the last change";
}

/// A change that can be undone.
#[derive(Debug, Clone, PartialEq)]
pub struct Undoable {
    /// number
    pub id: i64,
    /// in words
    pub label: String,
    /// how it is undone
    pub inverse: Inverse,
}

pub(crate) async fn insert(
    db: &impl ConnectionTrait,
    study: i64,
    label: &str,
    inverse: &Inverse,
) -> Result<()> {
    let row = undo_entry::ActiveModel {
        study_id: Set(study),
        label: Set(label.into()),
        inverse: Set(Kept::of(inverse)?.into_json()),
        created_at: Set(crate::studies::now()),
        ..Default::default()
    };
    row.insert(db).await?;
    let oldest = undo_entry::Entity::find()
        .select_only()
        .column(undo_entry::Column::Id)
        .filter(undo_entry::Column::StudyId.eq(study))
        .order_by_desc(undo_entry::Column::Id)
        .offset(UNDOABLE)
        .into_tuple::<i64>()
        .one(db)
        .await?;
    if let Some(oldest) = oldest {
        undo_entry::Entity::delete_many()
            .filter(undo_entry::Column::StudyId.eq(study))
            .filter(undo_entry::Column::Id.lte(oldest))
            .exec(db)
            .await?;
    }
    Ok(())
}

/// How many changes of a study can be undone.
const UNDOABLE: u64 = 200;

async fn last(db: &impl ConnectionTrait, study: i64) -> Result<Option<Undoable>> {
    let found = undo_entry::Entity::find()
        .filter(undo_entry::Column::StudyId.eq(study))
        .order_by_desc(undo_entry::Column::Id)
        .one(db)
        .await?;
    let read = |row: undo_entry::Model| {
        Ok::<_, crate::Error>(Undoable { id: row.id, label: row.label, inverse: kept::read(row.inverse)? })
    };
    found.map(read).transpose()
}

impl Store {
    /// The last change that can be undone.
    ///
    /// # Errors
    /// [`crate::Error::Unreadable`] where this version cannot read it.
    #[boxed]
    pub async fn last_change(&self, study: i64) -> Result<Option<Undoable>> {
        last(&self.db, study).await
    }
}

impl Change {
    /// Takes the last change off the list of those that can be undone, if it is still the one of that number;
    /// returns whether
    /// it was.
    ///
    /// # Errors
    /// [`crate::Error::Database`].
    #[boxed]
    pub async fn take(&self, id: i64) -> Result<bool> {
        if last(&self.transaction, self.id()).await?.is_none_or(|now| now.id != id) {
            return Ok(false);
        }
        undo_entry::Entity::delete_by_id(id).exec(&self.transaction).await?;
        Ok(true)
    }
}
