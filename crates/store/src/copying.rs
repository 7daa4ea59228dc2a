//! A study is copied, as it is at one moment.

use sea_orm::sea_query::ExprTrait;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, DatabaseTransaction, EntityTrait,
    IsolationLevel, QueryFilter, QueryOrder, QuerySelect, TransactionTrait,
};

use serde_json::Value as Json;

use crate::dems::number_at_work;
use crate::entity::{dem, file, pour_point, sheet, study, trial};
use crate::studies::{Study, now, one};
use crate::{Error, Result, Store, boxed};

impl Store {
    /// A copy of a study with all it holds but its jobs, its undo list and the DEMs that are set aside.
    #[boxed]
    pub async fn duplicate_study(&self, id: i64, name: &str) -> Result<Study> {
        // All of it as it is at one moment, whatever is written meanwhile.
        let moment = Some(IsolationLevel::RepeatableRead);
        let transaction = self.db.begin_with_config(moment, None).await?;
        let original = study::Entity::find_by_id(id)
            .filter(study::Column::DeletedAt.is_null())
            .one(&transaction)
            .await?;
        let original = original.ok_or(Error::NotFound("study"))?;
        let mut row: study::ActiveModel = original.into();
        row.id = sea_orm::ActiveValue::NotSet;
        row.name = Set(name.into());
        row.created_at = Set(now());
        row.updated_at = Set(now());
        let new = row.insert(&transaction).await?.id;
        let old_dem = number_at_work(&transaction, id).await?;
        let found = dem::Entity::find_by_id(old_dem).one(&transaction).await?;
        let mut row: dem::ActiveModel = found.ok_or(Error::NotFound("study"))?.into();
        row.id = sea_orm::ActiveValue::NotSet;
        row.study_id = Set(new);
        let dem = row.insert(&transaction).await?.id;
        for sql in [
            format!("SELECT put_settings({new}, settings_of({id}))"),
            format!("SELECT put_source({dem}, source_of({old_dem}))"),
            format!("INSERT INTO log_entry (study_id, at, stage, text, settings, took_ms)
                SELECT {new}, at, stage, text, settings, took_ms FROM log_entry WHERE study_id = {id} ORDER BY id"),
            format!("INSERT INTO pour_point (study_id, name, x, y, snap_m, snap_to, catchment, outline, problem)
                SELECT {new}, name, x, y, snap_m, snap_to, catchment, outline, problem FROM pour_point
                WHERE study_id = {id} AND deleted_at IS NULL ORDER BY id"),
            // Settings name a pour point by its number.
            format!("UPDATE study SET settings = jsonb_set(settings, '{{handover,alone}}', to_jsonb(n.id))
                FROM (SELECT id, row_number() OVER (ORDER BY id) AS at FROM pour_point WHERE study_id = {id} AND deleted_at IS NULL) o
                JOIN (SELECT id, row_number() OVER (ORDER BY id) AS at FROM pour_point WHERE study_id = {new}) n USING (at)
                WHERE study.id = {new} AND study.settings #> '{{handover,alone}}' = to_jsonb(o.id)"),
            format!("INSERT INTO layer (study_id, role, name, provenance, features, version, data)
                SELECT {new}, role, name, provenance, features, version, data FROM layer
                WHERE study_id = {id} AND deleted_at IS NULL ORDER BY id"),
            format!("INSERT INTO backdrop (study_id, name, width, height, place, provenance, version, picture)
                SELECT {new}, name, width, height, place, provenance, version, picture FROM backdrop
                WHERE study_id = {id} AND deleted_at IS NULL ORDER BY id"),
            format!("INSERT INTO trial (study_id, name, facts, remark, justification, lines, created_at)
                SELECT {new}, name, facts, remark, justification, lines, created_at FROM trial
                WHERE study_id = {id} AND deleted_at IS NULL ORDER BY id"),
            format!("INSERT INTO sheet (study_id, name, sheet, version, updated_at)
                SELECT {new}, name, sheet, version, updated_at FROM sheet
                WHERE study_id = {id} AND deleted_at IS NULL ORDER BY id"),
            format!("INSERT INTO sheet_picture (study_id, sha256, png)
                SELECT {new}, sha256, png FROM sheet_picture WHERE study_id = {id}"),
            format!("INSERT INTO barrier (study_id, dem_id, x, y, facts, score, found, decision, line)
                SELECT {new}, {dem}, x, y, facts, score, found, decision, line FROM barrier
                WHERE dem_id = {old_dem} ORDER BY id"),
            format!("INSERT INTO raster (study_id, dem_id, role, cell_type, rows, cols, levels, \"left\", top, cell_x, cell_y)
                SELECT {new}, {dem}, role, cell_type, rows, cols, levels, \"left\", top, cell_x, cell_y
                FROM raster WHERE dem_id = {old_dem} AND superseded_at IS NULL"),
            format!("INSERT INTO raster_block SELECT n.id, b.level, b.row, b.col, b.data
                FROM raster o JOIN raster n ON n.role = o.role AND n.dem_id = {dem}
                JOIN raster_block b ON b.raster_id = o.id WHERE o.dem_id = {old_dem} AND o.superseded_at IS NULL"),
            format!("UPDATE raster n SET base_id = nb.id
                FROM raster o JOIN raster ob ON ob.id = o.base_id JOIN raster nb ON nb.role = ob.role AND nb.dem_id = {dem}
                WHERE n.role = o.role AND n.dem_id = {dem} AND o.dem_id = {old_dem} AND o.superseded_at IS NULL"),
        ] {
            transaction.execute_unprepared(&sql).await?;
        }
        copy_files(&transaction, (id, old_dem), (new, dem)).await?;
        renumber_sheets(&transaction, id, new).await?;
        let copy = one(&transaction, new).await?;
        transaction.commit().await?;
        Ok(copy)
    }
}

/// Pour points and trials of a study, by their numbers.
async fn numbers(db: &DatabaseTransaction, study: i64) -> Result<[Vec<i64>; 2]> {
    let points = pour_point::Entity::find()
        .select_only()
        .column(pour_point::Column::Id)
        .filter(pour_point::Column::StudyId.eq(study))
        .filter(pour_point::Column::DeletedAt.is_null())
        .order_by_asc(pour_point::Column::Id);
    let trials = trial::Entity::find()
        .select_only()
        .column(trial::Column::Id)
        .filter(trial::Column::StudyId.eq(study))
        .filter(trial::Column::DeletedAt.is_null())
        .order_by_asc(trial::Column::Id);
    Ok([points.into_tuple().all(db).await?, trials.into_tuple().all(db).await?])
}

/// Sheets name pour points and trials by their numbers: those of the copy take their place. DEMs that are set aside are not
/// copied.
async fn renumber_sheets(transaction: &DatabaseTransaction, from: i64, to: i64) -> Result<()> {
    let (old, new) = (numbers(transaction, from).await?, numbers(transaction, to).await?);
    let renumbered = |value: &mut Json, which: usize| {
        let at = value.as_i64().and_then(|id| old[which].iter().position(|o| *o == id));
        if let Some(id) = at.and_then(|at| new[which].get(at)) {
            *value = (*id).into();
        }
    };
    for mut row in sheet::Entity::find().filter(sheet::Column::StudyId.eq(to)).all(transaction).await? {
        let parts = row.sheet.get_mut("parts").and_then(Json::as_array_mut);
        for part in parts.into_iter().flatten() {
            for (place, which) in [("/what/fit/point", 0), ("/what/alone", 0), ("/what/shown/trial", 1)] {
                if let Some(value) = part.pointer_mut(place) {
                    renumbered(value, which);
                }
            }
            if let Some(shown) = part.pointer_mut("/what/shown").and_then(Json::as_object_mut)
                && shown.get("study").is_none_or(Json::is_null)
            {
                shown.remove("candidate");
            }
        }
        let changed = sheet::ActiveModel { id: Set(row.id), sheet: Set(row.sheet), ..Default::default() };
        changed.update(transaction).await?;
    }
    Ok(())
}

/// Copies the files of a study, each for itself: two may have the same contents.
async fn copy_files(
    transaction: &DatabaseTransaction,
    (from, from_dem): (i64, i64),
    (to, to_dem): (i64, i64),
) -> Result<()> {
    let files = file::Entity::find()
        .filter(file::Column::StudyId.eq(from))
        .filter(file::Column::DemId.is_null().or(file::Column::DemId.eq(from_dem)))
        .filter(file::Column::SupersededAt.is_null())
        .order_by_asc(file::Column::Id);
    for original in files.all(transaction).await? {
        let id = original.id;
        let mut row: file::ActiveModel = original.clone().into();
        row.id = sea_orm::ActiveValue::NotSet;
        row.dem_id = Set(original.dem_id.map(|_| to_dem));
        (row.study_id, row.read_until) = (Set(to), Set(None));
        let copy = file::Entity::insert(row).exec(transaction).await?.last_insert_id;
        let chunks = format!(
            "INSERT INTO file_chunk SELECT {copy}, sequence, data, unpacked FROM file_chunk WHERE file_id = {id}"
        );
        transaction.execute_unprepared(&chunks).await?;
    }
    Ok(())
}
