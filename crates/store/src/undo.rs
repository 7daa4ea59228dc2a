//! Changes that can be undone, newest first.

use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, ModelTrait, QueryFilter,
    QueryOrder,
};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use crate::entity::undo_entry;
use crate::kept::{self, Kept, Versioned};
use crate::{Result, Store};

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
    /// another trial became the study's network
    ChooseTrial {
        /// the one that was it before
        id: Option<i64>,
        /// why it was
        justification: String,
        /// the threshold before, in cells
        cells: Option<u32>,
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

/// What was undone.
#[derive(Debug, Clone, PartialEq)]
pub struct Undone {
    /// in words
    pub label: String,
    /// how
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
        ..Default::default()
    };
    row.insert(db).await?;
    Ok(())
}

impl Store {
    /// Remembers how a change is undone.
    pub async fn remember(&self, study: i64, label: &str, inverse: &Inverse) -> Result<()> {
        insert(&self.db, study, label, inverse).await
    }

    /// Takes the last change off the list, to be undone by the caller.
    pub async fn take_last_change(&self, study: i64) -> Result<Option<Undone>> {
        let Some(last) = undo_entry::Entity::find()
            .filter(undo_entry::Column::StudyId.eq(study))
            .order_by_desc(undo_entry::Column::Id)
            .one(&self.db)
            .await?
        else {
            return Ok(None);
        };
        let undone = Undone { label: last.label.clone(), inverse: kept::read(last.inverse.clone())? };
        last.delete(&self.db).await?;
        Ok(Some(undone))
    }
}
