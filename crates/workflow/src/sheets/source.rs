//! Where maps on sheets take what they show from: a study, or what a recipe has computed.

use std::future::Future;

use bothros_core::Grid;
use bothros_products::Units;
use bothros_sheets::{Picture, Sheet, Words};
use bothros_store::{CellValue, RasterRole};

use super::compared::is_comparison;
use super::dots::{Covering, Levels};
use super::features::{Features, rings_of};
use super::filled::{Looked, SheetSources};
use super::ground::{Drawn, RasterLook};
use crate::{Error, Facts, Result, View as GroundView};

/// Rings of an outline, units of the CRS.
pub(super) type Rings = Vec<Vec<[f64; 2]>>;

/// What maps are drawn from.
pub(super) trait MapSource: Sync {
    /// The levels of a raster; none where there is no such raster.
    fn levels(
        &self,
        role: RasterRole,
        looked: &Looked,
    ) -> impl Future<Output = Result<Option<Levels>>> + Send;

    /// Cells of a raster that cover a frame, on the level that comes near its dots, with `rim` more on each side; none where
    /// there is no such raster, or it lies elsewhere.
    fn cells<T: CellValue>(
        &self,
        role: RasterRole,
        looked: &Looked,
        rim: usize,
    ) -> impl Future<Output = Result<Option<(Grid<T>, Covering)>>> + Send;

    /// What elevations, or a view of the ground, lie between, with so many per cent left out at each end.
    fn range(
        &self,
        facts: &Facts,
        view: Option<GroundView>,
        radius: Option<f64>,
        outer: f64,
    ) -> impl Future<Output = Result<(f32, f32)>> + Send;

    /// A raster layer that is no raster of cells kept: a picture behind the map, an index of the land.
    fn other_raster(
        &self,
        key: &str,
        looked: &Looked,
        look: &RasterLook,
        units: Units,
    ) -> impl Future<Output = Result<Option<Drawn>>> + Send;

    /// A layer of features; nothing where there is none.
    fn features(
        &self,
        key: &str,
        trial: Option<i64>,
        looked: &Looked,
        units: Units,
    ) -> impl Future<Output = Result<Features>> + Send;

    /// A study by its number.
    fn facts(&self, study: i64) -> impl Future<Output = Result<Facts>> + Send;

    /// A study with a DEM that is set aside in the place of the one at work.
    fn with_dem(&self, facts: Facts, dem: i64) -> impl Future<Output = Result<Facts>> + Send;

    /// What stands for the names in braces.
    fn words(&self, facts: &Facts, sheet: &Sheet, units: Units)
    -> impl Future<Output = Result<Words>> + Send;

    /// A picture that was given for a sheet.
    fn logo(&self, study: i64, sha256: &str) -> impl Future<Output = Result<Picture>> + Send;

    /// All rings of the catchment of a pour point.
    fn catchment(&self, study: i64, point: i64) -> impl Future<Output = Result<Option<Rings>>> + Send;
}

impl MapSource for SheetSources<'_> {
    async fn levels(&self, role: RasterRole, looked: &Looked) -> Result<Option<Levels>> {
        Ok(self.meta(role, looked).await?.map(|meta| Levels::of(&meta)))
    }

    async fn cells<T: CellValue>(
        &self,
        role: RasterRole,
        looked: &Looked,
        rim: usize,
    ) -> Result<Option<(Grid<T>, Covering)>> {
        self.window(role, looked, rim).await
    }

    async fn range(
        &self,
        facts: &Facts,
        view: Option<GroundView>,
        radius: Option<f64>,
        outer: f64,
    ) -> Result<(f32, f32)> {
        crate::range(self.store, facts, view, radius, outer).await
    }

    async fn other_raster(
        &self,
        key: &str,
        looked: &Looked,
        look: &RasterLook,
        units: Units,
    ) -> Result<Option<Drawn>> {
        self.other(key, looked, look, units).await
    }

    async fn features(
        &self,
        key: &str,
        trial: Option<i64>,
        looked: &Looked,
        units: Units,
    ) -> Result<Features> {
        // They were found on the DEM at work.
        let at_work = ["agreement", "catchments", "subbasins", "barriers"];
        if looked.facts.aside.is_some() && (at_work.contains(&key) || is_comparison(key)) {
            return Ok(Features::default());
        }
        match (key, trial) {
            ("streams", Some(trial)) => self.trial(trial, looked).await,
            (key, _) => self.layer(key, looked, units).await,
        }
    }

    async fn facts(&self, study: i64) -> Result<Facts> {
        Facts::of(&self.store.study(study).await?)
    }

    async fn with_dem(&self, facts: Facts, dem: i64) -> Result<Facts> {
        let all = self.store.candidates(facts.study).await?;
        let gone = || {
            let told = "a map shows a DEM that is not set aside any more: choose what it shows again";
            Error::Refused(told.into())
        };
        facts.with_dem(all.iter().find(|d| d.id == dem).ok_or_else(gone)?)
    }

    async fn words(&self, facts: &Facts, sheet: &Sheet, units: Units) -> Result<Words> {
        self.words_of(facts, sheet, units).await
    }

    async fn logo(&self, study: i64, sha256: &str) -> Result<Picture> {
        self.logo_of(study, sha256).await
    }

    async fn catchment(&self, study: i64, point: i64) -> Result<Option<Rings>> {
        let all = self.store.pour_points(study).await?;
        let found = all.into_iter().find(|p| p.id == point);
        Ok(found.map(|p| rings_of(p.outline.as_ref())).filter(|rings| !rings.is_empty()))
    }
}
