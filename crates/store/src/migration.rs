//! Migrations: files of SQL, in order. None of them changes once it was released.

use sea_orm_migration::prelude::*;

pub struct Migrator;

/// Name and SQL of each step.
const STEPS: [(&str, &str); 21] = [
    ("m0001_studies_rasters_jobs", include_str!("../migrations/0001_studies_rasters_jobs.sql")),
    ("m0002_layers_barriers", include_str!("../migrations/0002_layers_barriers.sql")),
    ("m0003_candidates", include_str!("../migrations/0003_candidates.sql")),
    ("m0004_backdrops", include_str!("../migrations/0004_backdrops.sql")),
    ("m0005_trials", include_str!("../migrations/0005_trials.sql")),
    ("m0006_safety", include_str!("../migrations/0006_safety.sql")),
    ("m0007_one_way_to_change", include_str!("../migrations/0007_one_way_to_change.sql")),
    ("m0008_package_fingerprint", include_str!("../migrations/0008_package_fingerprint.sql")),
    ("m0009_dem", include_str!("../migrations/0009_dem.sql")),
    ("m0010_lists", include_str!("../migrations/0010_lists.sql")),
    ("m0011_styles", include_str!("../migrations/0011_styles.sql")),
    ("m0012_value_rasters", include_str!("../migrations/0012_value_rasters.sql")),
    ("m0013_earlier_packages", include_str!("../migrations/0013_earlier_packages.sql")),
    ("m0014_thresholds_and_coverage", include_str!("../migrations/0014_thresholds_and_coverage.sql")),
    ("m0015_realisations", include_str!("../migrations/0015_realisations.sql")),
    ("m0016_beginnings", include_str!("../migrations/0016_beginnings.sql")),
    ("m0017_sheets", include_str!("../migrations/0017_sheets.sql")),
    ("m0018_batches", include_str!("../migrations/0018_batches.sql")),
    ("m0019_blocks_as_they_are", include_str!("../migrations/0019_blocks_as_they_are.sql")),
    ("m0020_recipes", include_str!("../migrations/0020_recipes.sql")),
    ("m0021_said_once", include_str!("../migrations/0021_said_once.sql")),
];

#[sea_orm_migration::async_trait::async_trait]
impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        STEPS.iter().map(|&(name, sql)| Box::new(Step { name, sql }) as Box<dyn MigrationTrait>).collect()
    }
}

struct Step {
    name: &'static str,
    sql: &'static str,
}

impl MigrationName for Step {
    fn name(&self) -> &str {
        self.name
    }
}

#[sea_orm_migration::async_trait::async_trait]
impl MigrationTrait for Step {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(self.sql).await?;
        Ok(())
    }

    /// Migrations are not reversible: restore a backup instead.
    async fn down(&self, _manager: &SchemaManager) -> Result<(), DbErr> {
        Err(DbErr::Migration(format!("{} is not taken back: restore a backup from before", self.name)))
    }
}
