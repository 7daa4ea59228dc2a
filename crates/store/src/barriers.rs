//! Barriers that were proposed, and what was decided about them.

use std::collections::HashMap;

use sea_orm::{ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder};
use serde_json::Value as Json;

use crate::dems::{all_at_work, at_work, number_at_work};
use crate::entity::barrier;
use crate::{Barrier, Change, Error, Kept, Result, Store, boxed};

/// A barrier as a search found it.
#[derive(Debug, Clone, PartialEq)]
pub struct NewBarrier {
    /// easting of its crest
    pub x: f64,
    /// northing of its crest
    pub y: f64,
    /// from 0 to 1
    pub score: f64,
    /// what was measured
    pub facts: Kept,
}

impl Store {
    /// The barriers of a study, the likeliest first; those that the last search did not find, but about
    /// which something was decided, come last.
    #[boxed]
    pub async fn barriers(&self, study: i64) -> Result<Vec<Barrier>> {
        let found = barrier::Entity::find()
            .filter(barrier::Column::DemId.in_subquery(at_work(study)))
            .order_by_desc(barrier::Column::Found)
            .order_by_desc(barrier::Column::Score)
            .order_by_asc(barrier::Column::Id);
        Ok(found.all(&self.db).await?)
    }

    /// The barriers of all studies about which something was decided, by study, in the order of [`Store::barriers`].
    #[boxed]
    pub async fn decided_barriers(&self) -> Result<HashMap<i64, Vec<Barrier>>> {
        let found = barrier::Entity::find()
            .filter(barrier::Column::DemId.in_subquery(all_at_work()))
            .filter(barrier::Column::Decision.is_not_null())
            .order_by_desc(barrier::Column::Found)
            .order_by_desc(barrier::Column::Score)
            .order_by_asc(barrier::Column::Id);
        let mut all: HashMap<i64, Vec<Barrier>> = HashMap::new();
        for one in found.all(&self.db).await? {
            all.entry(one.study_id).or_default().push(one);
        }
        Ok(all)
    }

    /// One barrier of a study.
    #[boxed]
    pub async fn barrier(&self, study: i64, id: i64) -> Result<Barrier> {
        let found =
            barrier::Entity::find_by_id(id).filter(barrier::Column::DemId.in_subquery(at_work(study)));
        found.one(&self.db).await?.ok_or(Error::NotFound("barrier"))
    }
}

impl Change {
    /// Keeps what a search found. A barrier whose crest lies within `near` CRS units of one known before
    /// takes its place, number and decision; of those known before and not found now, only those stay
    /// about which something was decided.
    #[boxed]
    pub async fn keep_barriers(&self, new: Vec<NewBarrier>, near: f64) -> Result<()> {
        let (transaction, study) = (&self.transaction, self.id());
        let dem = number_at_work(transaction, study).await?;
        let mut known = barrier::Entity::find()
            .filter(barrier::Column::DemId.in_subquery(at_work(study)))
            .all(transaction)
            .await?;
        for one in new {
            let away = |b: &Barrier| (b.x - one.x).hypot(b.y - one.y);
            let nearest = (0..known.len()).filter(|&i| away(&known[i]) <= near);
            let nearest = nearest.min_by(|&a, &b| away(&known[a]).total_cmp(&away(&known[b])));
            let mut row = match nearest {
                Some(at) => known.swap_remove(at).into(),
                None => barrier::ActiveModel {
                    study_id: Set(study),
                    dem_id: Set(dem),
                    decision: Set(None),
                    line: Set(None),
                    ..Default::default()
                },
            };
            (row.x, row.y) = (Set(one.x), Set(one.y));
            (row.score, row.facts, row.found) = (Set(one.score), Set(one.facts.into_json()), Set(true));
            row.save(transaction).await?;
        }
        for gone in known {
            if gone.decision.is_none() {
                barrier::Entity::delete_by_id(gone.id).exec(transaction).await?;
            } else {
                let mut row: barrier::ActiveModel = gone.into();
                row.found = Set(false);
                row.update(transaction).await?;
            }
        }
        Ok(())
    }

    /// Decides about a barrier; `line` replaces the proposed one. Returns the barrier as it was.
    #[boxed]
    pub async fn decide(&self, id: i64, decision: Option<&str>, line: Option<Json>) -> Result<Barrier> {
        let found =
            barrier::Entity::find_by_id(id).filter(barrier::Column::DemId.in_subquery(at_work(self.id())));
        let before = found.one(&self.transaction).await?.ok_or(Error::NotFound("barrier"))?;
        let mut row: barrier::ActiveModel = before.clone().into();
        (row.decision, row.line) = (Set(decision.map(str::to_owned)), Set(line));
        row.update(&self.transaction).await?;
        Ok(before)
    }
}
