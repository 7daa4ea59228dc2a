//! Studies: made, changed, duplicated, deleted and restored.

use std::collections::HashMap;

use sea_orm::prelude::ChronoDateTimeUtc;
use sea_orm::sea_query::Expr;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, FromQueryResult,
    QueryFilter, QueryOrder, QuerySelect, Statement, TransactionTrait,
};
use serde_json::Value as Json;

use crate::dems::number_at_work;
use crate::entity::{dem, pour_point, study};
use crate::{Change, Error, Kept, Result, Store, boxed};

/// The time now.
/// The time.
pub fn now() -> ChronoDateTimeUtc {
    ChronoDateTimeUtc::from(std::time::SystemTime::now())
}

/// A part of a study that later stages write.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StudyPart {
    /// the DEM file as it was given
    Source,
    /// the prepared DEM
    Terrain,
    /// the sinks and barriers that were found before conditioning
    Review,
    /// what filling and routing found
    Routing,
    /// the network at the chosen threshold
    Network,
    /// what realisations of the DEM showed
    Uncertainty,
}

/// New values of parts of a study; `None` empties the part.
pub type StudyChange = Vec<(StudyPart, Option<Kept>)>;

/// A study with what was done to the DEM that it works on.
#[derive(Debug, Clone, PartialEq, FromQueryResult)]
pub struct Study {
    /// number
    pub id: i64,
    /// name
    pub name: String,
    /// what it is for
    pub description: String,
    /// when it was made
    pub created_at: ChronoDateTimeUtc,
    /// when it was last changed
    pub updated_at: ChronoDateTimeUtc,
    /// when it was deleted; it can be restored for a while
    pub deleted_at: Option<ChronoDateTimeUtc>,
    /// counts its changes
    pub revision: i64,
    /// choices: threshold, snapping, style
    pub settings: Json,
    /// the DEM file as it was given, and what was said of it
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

/// Studies that meet a condition, in SQL, each with the DEM at work as it is at the same moment.
pub(crate) async fn find(
    db: &impl ConnectionTrait,
    condition: &str,
    values: Vec<sea_orm::Value>,
) -> Result<Vec<Study>> {
    let sql = format!(
        "SELECT s.id, s.name, s.description, s.created_at, s.updated_at, s.deleted_at, s.revision,
            settings_of(s.id) AS settings, source_of(d.id) AS source, d.terrain, d.review, d.routing, d.network, d.uncertainty
            FROM study s JOIN dem d ON d.study_id = s.id AND d.at_work WHERE {condition}"
    );
    let statement = Statement::from_sql_and_values(db.get_database_backend(), sql, values);
    Ok(Study::find_by_statement(statement).all(db).await?)
}

/// One study that is not deleted.
pub(crate) async fn one(db: &impl ConnectionTrait, id: i64) -> Result<Study> {
    let found = find(db, "s.id = $1 AND s.deleted_at IS NULL", vec![id.into()]).await?;
    found.into_iter().next().ok_or(Error::NotFound("study"))
}

/// Keeps what is known of the files of a DEM: those beside the first are rows of their own.
pub(crate) async fn put_source(db: &impl ConnectionTrait, dem: i64, source: Option<Json>) -> Result<()> {
    let values = [dem.into(), source.into()];
    db.execute_raw(Statement::from_sql_and_values(
        db.get_database_backend(),
        "SELECT put_source($1, $2)",
        values,
    ))
    .await?;
    Ok(())
}

fn apply(model: &mut dem::ActiveModel, change: StudyChange) {
    for (part, value) in change {
        let value = value.map(Kept::into_json);
        match part {
            StudyPart::Source => {}
            StudyPart::Terrain => model.terrain = Set(value),
            StudyPart::Review => model.review = Set(value),
            StudyPart::Routing => model.routing = Set(value),
            StudyPart::Network => model.network = Set(value),
            StudyPart::Uncertainty => model.uncertainty = Set(value),
        }
    }
}

/// One study in a list of studies.
#[derive(Debug, Clone, PartialEq, FromQueryResult)]
pub struct StudyHead {
    /// number
    pub id: i64,
    /// name
    pub name: String,
    /// the beginning of what it is for
    pub description: String,
    /// when it was last changed
    pub updated_at: ChronoDateTimeUtc,
    /// how often it was changed
    pub revision: i64,
}

impl Store {
    /// All studies that are not deleted, the last changed first.
    #[boxed]
    pub async fn studies(&self) -> Result<Vec<Study>> {
        find(&self.db, "s.deleted_at IS NULL ORDER BY s.updated_at DESC, s.id DESC", vec![]).await
    }

    /// Returns the entries of the list of studies, the most recently changed first.
    #[boxed]
    pub async fn study_heads(&self) -> Result<Vec<StudyHead>> {
        let found = study::Entity::find()
            .select_only()
            .columns([
                study::Column::Id,
                study::Column::Name,
                study::Column::UpdatedAt,
                study::Column::Revision,
            ])
            .expr_as(Expr::cust("left(description, 400)"), "description")
            .filter(study::Column::DeletedAt.is_null())
            .order_by_desc(study::Column::UpdatedAt)
            .order_by_desc(study::Column::Id);
        Ok(found.into_model::<StudyHead>().all(&self.db).await?)
    }

    /// Studies by their numbers.
    #[boxed]
    pub async fn studies_of(&self, ids: Vec<i64>) -> Result<Vec<Study>> {
        find(&self.db, "s.id = ANY($1) AND s.deleted_at IS NULL", vec![ids.into()]).await
    }

    /// Revision of a study: data read at the same revision is current.
    ///
    /// # Errors
    /// [`Error::NotFound`] where there is no such study.
    #[boxed]
    pub async fn revision(&self, id: i64) -> Result<i64> {
        let found = study::Entity::find_by_id(id)
            .select_only()
            .column(study::Column::Revision)
            .filter(study::Column::DeletedAt.is_null())
            .into_tuple();
        found.one(&self.db).await?.ok_or(Error::NotFound("study"))
    }

    /// Pour points of all studies that have some, by study.
    #[boxed]
    pub async fn pour_point_counts(&self) -> Result<HashMap<i64, usize>> {
        let found: Vec<(i64, i64)> = pour_point::Entity::find()
            .select_only()
            .column(pour_point::Column::StudyId)
            .column_as(pour_point::Column::Id.count(), "points")
            .filter(pour_point::Column::DeletedAt.is_null())
            .group_by(pour_point::Column::StudyId)
            .into_tuple()
            .all(&self.db)
            .await?;
        Ok(found.into_iter().map(|(study, points)| (study, points as usize)).collect())
    }

    /// Fingerprint of everything that a package of the study would rest on.
    ///
    /// # Errors
    /// [`Error::NotFound`] where there is no such study.
    #[boxed]
    pub async fn fingerprint(&self, study: i64) -> Result<String> {
        #[derive(FromQueryResult)]
        struct Known {
            fingerprint: Option<String>,
        }
        let sql = "SELECT study_fingerprint($1) AS fingerprint";
        let statement = Statement::from_sql_and_values(self.db.get_database_backend(), sql, [study.into()]);
        let known = Known::find_by_statement(statement).one(&self.db).await?;
        known.and_then(|k| k.fingerprint).ok_or(Error::NotFound("study"))
    }

    /// For each study with a package, or for one, whether the study is still what the package was written from.
    #[boxed]
    pub async fn packages(&self, of: Option<i64>) -> Result<HashMap<i64, bool>> {
        #[derive(FromQueryResult)]
        struct Known {
            study_id: i64,
            fresh: bool,
        }
        let sql = "SELECT f.study_id, coalesce(f.fingerprint = study_fingerprint(f.study_id), false) AS fresh
            FROM file f WHERE f.role = 'package' AND f.superseded_at IS NULL AND ($1::bigint IS NULL OR f.study_id = $1)";
        let statement = Statement::from_sql_and_values(self.db.get_database_backend(), sql, [of.into()]);
        let found = Known::find_by_statement(statement).all(&self.db).await?;
        Ok(found.into_iter().map(|known| (known.study_id, known.fresh)).collect())
    }

    /// All that is kept of a study as text, for one that cannot be read any more: JSON of its rows, without rasters
    /// and files.
    ///
    /// # Errors
    /// [`Error::NotFound`] where there is no such study.
    #[boxed]
    pub async fn raw_study(&self, id: i64) -> Result<String> {
        let sql = "SELECT jsonb_pretty(jsonb_build_object(
                'study', to_jsonb(s) || jsonb_build_object('settings', settings_of(s.id)),
                'dems', (SELECT jsonb_agg(to_jsonb(d) || jsonb_build_object('source', source_of(d.id)))
                    FROM dem d WHERE d.study_id = s.id),
                'pour_points', (SELECT jsonb_agg(to_jsonb(p)) FROM pour_point p WHERE p.study_id = s.id),
                'barriers', (SELECT jsonb_agg(to_jsonb(b)) FROM barrier b WHERE b.study_id = s.id),
                'trials', (SELECT jsonb_agg(to_jsonb(t) - 'lines') FROM trial t WHERE t.study_id = s.id),
                'sheets', (SELECT jsonb_agg(to_jsonb(t)) FROM sheet t WHERE t.study_id = s.id),
                'layers', (SELECT jsonb_agg(to_jsonb(l) - 'data') FROM layer l WHERE l.study_id = s.id),
                'log', (SELECT jsonb_agg(to_jsonb(e) ORDER BY e.id) FROM log_entry e WHERE e.study_id = s.id),
                'files', (SELECT jsonb_agg(to_jsonb(f)) FROM file f WHERE f.study_id = s.id))) AS text
            FROM study s WHERE s.id = $1 AND s.deleted_at IS NULL";
        #[derive(FromQueryResult)]
        struct Raw {
            text: String,
        }
        let statement = Statement::from_sql_and_values(self.db.get_database_backend(), sql, [id.into()]);
        let found = Raw::find_by_statement(statement).one(&self.db).await?;
        Ok(found.ok_or(Error::NotFound("study"))?.text)
    }

    /// Studies that were deleted and can still be restored, the last deleted first.
    #[boxed]
    pub async fn deleted_studies(&self) -> Result<Vec<Study>> {
        find(&self.db, "s.deleted_at IS NOT NULL ORDER BY s.deleted_at DESC", vec![]).await
    }

    /// A study by number.
    #[boxed]
    pub async fn study(&self, id: i64) -> Result<Study> {
        one(&self.db, id).await
    }

    /// Makes a study, as a change that is being made: it is there once the change is kept.
    #[boxed]
    pub async fn create_study(&self, name: &str, description: &str, source: Option<Kept>) -> Result<Change> {
        let row = study::ActiveModel {
            name: Set(name.into()),
            description: Set(description.into()),
            created_at: Set(now()),
            updated_at: Set(now()),
            deleted_at: Set(None),
            settings: Set(Json::Object(Default::default())),
            ..Default::default()
        };
        let transaction = self.db.begin().await?;
        let made = row.insert(&transaction).await?;
        crate::dems::begin(&transaction, made.id, source.map(Kept::into_json)).await?;
        let study = one(&transaction, made.id).await?;
        Ok(Change::new(transaction, study, self.clone()))
    }

    /// Deletes a study; it can be restored until it is purged.
    #[boxed]
    pub async fn delete_study(&self, id: i64) -> Result<()> {
        let row = study::ActiveModel {
            id: Set(self.study(id).await?.id),
            deleted_at: Set(Some(now())),
            ..Default::default()
        };
        row.update(&self.db).await?;
        Ok(())
    }

    /// Brings a deleted study back.
    #[boxed]
    pub async fn restore_study(&self, id: i64) -> Result<()> {
        let found = study::Entity::find_by_id(id).one(&self.db).await?.ok_or(Error::NotFound("study"))?;
        let row = study::ActiveModel { id: Set(found.id), deleted_at: Set(None), ..Default::default() };
        row.update(&self.db).await?;
        Ok(())
    }
}

impl Change {
    /// Changes name and description.
    #[boxed]
    pub async fn describe(&self, name: &str, description: &str) -> Result<()> {
        let row = study::ActiveModel {
            id: Set(self.id()),
            name: Set(name.into()),
            description: Set(description.into()),
            ..Default::default()
        };
        row.update(&self.transaction).await?;
        Ok(())
    }

    /// Changes parts of the study.
    #[boxed]
    pub async fn set(&self, change: StudyChange) -> Result<()> {
        let dem = number_at_work(&self.transaction, self.id()).await?;
        for (_, source) in change.iter().filter(|(part, _)| *part == StudyPart::Source) {
            put_source(&self.transaction, dem, source.clone().map(Kept::into_json)).await?;
        }
        if change.iter().all(|(part, _)| *part == StudyPart::Source) {
            return Ok(());
        }
        let mut row = dem::ActiveModel { id: Set(dem), ..Default::default() };
        apply(&mut row, change);
        row.update(&self.transaction).await?;
        Ok(())
    }

    /// Changes the choices of the analyst. Lists among them, of changes to streams by hand and of what was said of
    /// shortfalls, are rows of their own.
    #[boxed]
    pub async fn set_settings(&self, settings: Kept) -> Result<()> {
        let values = [self.id().into(), settings.into_json().into()];
        let backend = self.transaction.get_database_backend();
        let put = Statement::from_sql_and_values(backend, "SELECT put_settings($1, $2)", values);
        self.transaction.execute_raw(put).await?;
        Ok(())
    }
}
