//! The tables and how they came to be.

use sea_orm_migration::prelude::*;

pub struct Migrator;

#[sea_orm_migration::async_trait::async_trait]
impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![
            Box::new(First),
            Box::new(Layers),
            Box::new(Candidates),
            Box::new(Backdrops),
            Box::new(Trials),
            Box::new(Safety),
        ]
    }
}

struct First;

impl MigrationName for First {
    fn name(&self) -> &str {
        "m0001_studies_rasters_jobs"
    }
}

const UP: &str = r#"
CREATE TABLE study (
    id bigserial PRIMARY KEY,
    name text NOT NULL,
    description text NOT NULL,
    created_at timestamptz NOT NULL,
    updated_at timestamptz NOT NULL,
    deleted_at timestamptz,
    source jsonb,
    terrain jsonb,
    routing jsonb,
    network jsonb,
    settings jsonb NOT NULL
);
CREATE TABLE file (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    role text NOT NULL,
    name text NOT NULL,
    bytes bigint NOT NULL,
    sha256 text NOT NULL,
    created_at timestamptz NOT NULL
);
CREATE INDEX ON file (study_id);
CREATE TABLE file_chunk (
    file_id bigint NOT NULL REFERENCES file ON DELETE CASCADE,
    sequence integer NOT NULL,
    data bytea NOT NULL,
    PRIMARY KEY (file_id, sequence)
);
-- Both are compressed already, or not worth it.
ALTER TABLE file_chunk ALTER COLUMN data SET STORAGE EXTERNAL;
CREATE TABLE raster (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    role text NOT NULL,
    cell_type text NOT NULL,
    rows integer NOT NULL,
    cols integer NOT NULL,
    levels integer NOT NULL,
    "left" double precision NOT NULL,
    top double precision NOT NULL,
    cell_x double precision NOT NULL,
    cell_y double precision NOT NULL,
    UNIQUE (study_id, role)
);
CREATE TABLE raster_block (
    raster_id bigint NOT NULL REFERENCES raster ON DELETE CASCADE,
    level integer NOT NULL,
    row integer NOT NULL,
    col integer NOT NULL,
    data bytea NOT NULL,
    PRIMARY KEY (raster_id, level, row, col)
);
ALTER TABLE raster_block ALTER COLUMN data SET STORAGE EXTERNAL;
CREATE TABLE job (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    kind text NOT NULL,
    parameters jsonb NOT NULL,
    state text NOT NULL,
    progress double precision NOT NULL,
    message text NOT NULL,
    cancel_requested boolean NOT NULL,
    attempts integer NOT NULL,
    worker text,
    heartbeat_at timestamptz,
    created_at timestamptz NOT NULL,
    started_at timestamptz,
    finished_at timestamptz
);
CREATE INDEX ON job (study_id);
CREATE UNIQUE INDEX one_job_per_study ON job (study_id) WHERE state IN ('queued', 'running');
CREATE TABLE log_entry (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    at timestamptz NOT NULL,
    stage text NOT NULL,
    text text NOT NULL,
    settings jsonb NOT NULL,
    took_ms bigint NOT NULL
);
CREATE INDEX ON log_entry (study_id);
CREATE TABLE pour_point (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    name text NOT NULL,
    x double precision NOT NULL,
    y double precision NOT NULL,
    catchment jsonb,
    outline jsonb,
    problem text,
    deleted_at timestamptz
);
CREATE INDEX ON pour_point (study_id);
CREATE TABLE undo_entry (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    label text NOT NULL,
    inverse jsonb NOT NULL
);
CREATE INDEX ON undo_entry (study_id);
"#;

#[sea_orm_migration::async_trait::async_trait]
impl MigrationTrait for First {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(UP).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let tables = "undo_entry, pour_point, log_entry, job, raster_block, raster, file_chunk, file, study";
        manager.get_connection().execute_unprepared(&format!("DROP TABLE {tables}")).await?;
        Ok(())
    }
}

struct Layers;

impl MigrationName for Layers {
    fn name(&self) -> &str {
        "m0002_layers_barriers"
    }
}

const LAYERS: &str = r#"
ALTER TABLE study ADD COLUMN review jsonb;
CREATE TABLE layer (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    role text NOT NULL,
    name text NOT NULL,
    provenance jsonb NOT NULL,
    features integer NOT NULL,
    version integer NOT NULL,
    data bytea NOT NULL,
    deleted_at timestamptz
);
ALTER TABLE layer ALTER COLUMN data SET STORAGE EXTERNAL;
CREATE INDEX ON layer (study_id);
CREATE TABLE barrier (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    x double precision NOT NULL,
    y double precision NOT NULL,
    facts jsonb NOT NULL,
    score double precision NOT NULL,
    found boolean NOT NULL,
    decision text,
    line jsonb
);
CREATE INDEX ON barrier (study_id);
"#;

#[sea_orm_migration::async_trait::async_trait]
impl MigrationTrait for Layers {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(LAYERS).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager
            .get_connection()
            .execute_unprepared("DROP TABLE barrier, layer; ALTER TABLE study DROP COLUMN review")
            .await?;
        Ok(())
    }
}

struct Candidates;

impl MigrationName for Candidates {
    fn name(&self) -> &str {
        "m0003_candidates"
    }
}

const CANDIDATES: &str = r#"
CREATE TABLE candidate (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    name text NOT NULL,
    source jsonb,
    terrain jsonb,
    review jsonb,
    routing jsonb,
    network jsonb
);
CREATE INDEX ON candidate (study_id);
ALTER TABLE raster ADD COLUMN parked bigint REFERENCES candidate ON DELETE CASCADE;
ALTER TABLE file ADD COLUMN parked bigint REFERENCES candidate ON DELETE CASCADE;
ALTER TABLE barrier ADD COLUMN parked bigint REFERENCES candidate ON DELETE CASCADE;
ALTER TABLE raster DROP CONSTRAINT raster_study_id_role_key;
ALTER TABLE raster ADD UNIQUE NULLS NOT DISTINCT (study_id, role, parked);
"#;

#[sea_orm_migration::async_trait::async_trait]
impl MigrationTrait for Candidates {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(CANDIDATES).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let back = "DELETE FROM raster WHERE parked IS NOT NULL; DELETE FROM file WHERE parked IS NOT NULL;
            DELETE FROM barrier WHERE parked IS NOT NULL;
            ALTER TABLE raster DROP COLUMN parked, ADD UNIQUE (study_id, role);
            ALTER TABLE file DROP COLUMN parked; ALTER TABLE barrier DROP COLUMN parked; DROP TABLE candidate";
        manager.get_connection().execute_unprepared(back).await?;
        Ok(())
    }
}

struct Backdrops;

impl MigrationName for Backdrops {
    fn name(&self) -> &str {
        "m0004_backdrops"
    }
}

const BACKDROPS: &str = r#"
CREATE TABLE backdrop (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    name text NOT NULL,
    width integer NOT NULL,
    height integer NOT NULL,
    place jsonb,
    provenance jsonb NOT NULL,
    version integer NOT NULL,
    picture bytea NOT NULL,
    deleted_at timestamptz
);
ALTER TABLE backdrop ALTER COLUMN picture SET STORAGE EXTERNAL;
CREATE INDEX ON backdrop (study_id);
"#;

#[sea_orm_migration::async_trait::async_trait]
impl MigrationTrait for Backdrops {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(BACKDROPS).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared("DROP TABLE backdrop").await?;
        Ok(())
    }
}

struct Trials;

impl MigrationName for Trials {
    fn name(&self) -> &str {
        "m0005_trials"
    }
}

const TRIALS: &str = r#"
CREATE TABLE trial (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    name text NOT NULL,
    facts jsonb NOT NULL,
    remark text NOT NULL,
    justification text,
    lines bytea NOT NULL,
    created_at timestamptz NOT NULL,
    deleted_at timestamptz
);
ALTER TABLE trial ALTER COLUMN lines SET STORAGE EXTERNAL;
CREATE INDEX ON trial (study_id);
"#;

#[sea_orm_migration::async_trait::async_trait]
impl MigrationTrait for Trials {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(TRIALS).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared("DROP TABLE trial").await?;
        Ok(())
    }
}

struct Safety;

impl MigrationName for Safety {
    fn name(&self) -> &str {
        "m0006_safety"
    }
}

#[sea_orm_migration::async_trait::async_trait]
impl MigrationTrait for Safety {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(include_str!("../migrations/0006_safety.sql")).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let back = "DELETE FROM raster WHERE superseded_at IS NOT NULL; DELETE FROM file WHERE superseded_at IS NOT NULL;
            DROP INDEX raster_of_study;
            ALTER TABLE raster DROP COLUMN superseded_at, ADD UNIQUE NULLS NOT DISTINCT (study_id, role, parked);
            ALTER TABLE file DROP COLUMN superseded_at, DROP COLUMN read_until;
            DROP TRIGGER study_revised ON study; DROP FUNCTION study_revised;
            ALTER TABLE study DROP COLUMN revision; ALTER TABLE job DROP COLUMN apart";
        manager.get_connection().execute_unprepared(back).await?;
        Ok(())
    }
}
