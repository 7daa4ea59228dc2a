//! Planning and beginning a batch: from a study, or from a recipe with its files.

use std::path::{Path, PathBuf};

use bothros_recipe::PROGRAM;
use bothros_recipe::batch::{Batch as Plan, Varied};
use bothros_store::{Batch, MadeBy, NewBatch, NewRun, Store};
use serde_json::json;
use tempfile::TempDir;
use toml::{Table, Value};

use crate::recipe::bundle::{Beside, Laid, LaidDem, lay_out, lay_out_aside};
use crate::recipe::given::{Unpacked, unpacked};
use crate::{Error, Facts, NewDemFile, Result, blocking, boxed};

/// What a batch runs.
pub enum Given {
    /// the recipe of a study as it is now
    Study(i64),
    /// a recipe with the files that it reads, as a zip
    Zip(PathBuf),
    /// a recipe, and files that lie beside it
    Text {
        /// TOML
        recipe: String,
        /// what the recipe calls each, and where it lies
        files: Vec<(String, PathBuf)>,
    },
}

/// What varies between the runs of a batch.
#[derive(Default)]
pub struct WhatVaries {
    /// keys of the recipe with the values that they take in turn
    pub keys: Vec<(String, Vec<Value>)>,
    /// DEMs that take the place of the recipe's, a run for each
    pub dems: Vec<NewDemFile>,
    /// whether each pour point of the study gets a run of its own
    pub each_point: bool,
    /// whether each DEM of the study, those that it keeps aside too, gets a run of its own
    pub each_dem: bool,
}

/// A batch that is asked for.
pub struct BatchWish {
    /// what it runs
    pub given: Given,
    /// what varies
    pub varies: WhatVaries,
    /// most bytes that a zip may hold
    pub limit: u64,
}

/// A batch that can be begun.
pub struct PlannedBatch {
    /// its runs
    pub plan: Plan,
    /// what its runs read
    inputs: Vec<(String, PathBuf)>,
    /// holds what its runs read
    _dir: TempDir,
}

fn refused(error: bothros_recipe::Error) -> Error {
    Error::Refused(error.to_string())
}

/// Plans a batch: all its runs are checked.
///
/// # Errors
/// [`Error::Refused`] with the key, the run or the file that is wrong; those of the store and the disk.
#[boxed]
pub async fn plan_batch(store: &Store, wish: BatchWish) -> Result<PlannedBatch> {
    let dir = tempfile::tempdir()?;
    let BatchWish { given, varies, limit } = wish;
    let (mut points, mut aside, mut title) = (Vec::new(), Vec::new(), String::new());
    let (text, mut inputs) = match given {
        Given::Study(study) => {
            let facts = Facts::of(&store.study(study).await?)?;
            if varies.each_point {
                points =
                    store.pour_points(study).await?.into_iter().filter(|p| p.catchment.is_some()).collect();
            }
            let Laid { text, mut files } =
                lay_out(store, &facts, dir.path(), Beside { dem: true, pages: false }).await?;
            if varies.each_dem {
                aside = lay_out_aside(store, &facts, dir.path()).await?;
                files.extend(aside.iter().flat_map(|dem| dem.files.iter().cloned()));
                title = facts.source.as_ref().map_or(String::new(), |s| s.title());
            }
            let inputs: Vec<_> =
                files.into_iter().map(|name| (name.clone(), dir.path().join(name))).collect();
            (text, inputs)
        }
        Given::Zip(path) => {
            let into = dir.path().to_owned();
            let Unpacked { text, files } = blocking(move || unpacked(&path, &into, limit)).await?;
            (text, files)
        }
        Given::Text { recipe, files } => (recipe, files),
    };
    let mut keys = Table::new();
    for (key, values) in varies.keys {
        if keys.insert(key.clone(), Value::Array(values)).is_some() {
            return Err(Error::Refused(format!("{key} varies twice")));
        }
    }
    if !varies.dems.is_empty() {
        let mut all = Vec::new();
        for (at, dem) in varies.dems.iter().enumerate() {
            let name = beside(&dem.file, at + 1);
            all.push(Value::Array(vec![Value::String(name.clone())]));
            let projection = dem.path.with_extension("prj");
            if projection.exists() {
                inputs.push((
                    Path::new(&name).with_extension("prj").to_string_lossy().into_owned(),
                    projection,
                ));
            }
            inputs.push((name, dem.path.clone()));
        }
        if keys.insert("terrain.dem".into(), Value::Array(all)).is_some() {
            return Err(Error::Refused("terrain.dem varies twice".into()));
        }
    }
    let mut runs = Vec::new();
    if varies.each_point {
        if points.is_empty() {
            return Err(Error::Refused("there is no pour point that could have a run of its own".into()));
        }
        for (at, point) in points.iter().enumerate() {
            let file = format!("pour_point_{}.csv", at + 1);
            let path = dir.path().join(&file);
            let mut csv = csv::Writer::from_path(&path).map_err(|e| Error::Io(std::io::Error::other(e)))?;
            let (x, y) = (point.x.to_string(), point.y.to_string());
            for row in [["name", "x", "y"], [point.name.as_str(), x.as_str(), y.as_str()]] {
                csv.write_record(row).map_err(|e| Error::Io(std::io::Error::other(e)))?;
            }
            csv.flush()?;
            inputs.push((file.clone(), path));
            let key = |k: &str, v: &str| (k.to_owned(), Value::String(v.to_owned()));
            let name = point.name.chars().any(|c| c.is_ascii_alphanumeric()).then_some(point.name.as_str());
            let number = format!("point {}", at + 1);
            runs.push(Table::from_iter([
                key("name", name.unwrap_or(&number)),
                key("catchments.pour_points", &file),
            ]));
        }
    }
    if varies.each_dem {
        runs = with_dems(runs, &title, &aside)?;
    }
    // A recipe that nothing varies in is one run.
    if keys.is_empty() && runs.is_empty() {
        runs.push(Table::from_iter([("name".to_owned(), Value::String("run".into()))]));
    }
    let plan = Plan::varied(&text, Varied { keys, runs }, Path::new("")).map_err(refused)?;
    for run in &plan.runs {
        run.recipe.stay_inside().map_err(refused)?;
        for (key, path) in run.recipe.paths() {
            let written = path.to_string_lossy();
            let file = written.rsplit_once('#').map_or(written.as_ref(), |(file, _)| file);
            let there = |name: &String| Path::new(name) == path || Path::new(name) == Path::new(file);
            if !inputs.iter().any(|(name, _)| there(name)) {
                let what = format!("{key}: {file} is not among the files that came with the recipe");
                return Err(Error::Refused(what));
            }
        }
    }
    Ok(PlannedBatch { plan, inputs, _dir: dir })
}

/// Each run with the DEM at work, then with each of those that are kept aside.
fn with_dems(runs: Vec<Table>, title: &str, aside: &[LaidDem]) -> Result<Vec<Table>> {
    if aside.is_empty() {
        return Err(Error::Refused("the study keeps no other DEM aside that was prepared".into()));
    }
    let terrain =
        |of: &LaidDem| Value::try_from(&of.terrain).map_err(|e| Error::Refused(format!("{}: {e}", of.title)));
    let mut dems = vec![(title, None)];
    for of in aside {
        dems.push((of.title.as_str(), Some(terrain(of)?)));
    }
    let alone = vec![Table::new()];
    let runs = if runs.is_empty() { alone } else { runs };
    let mut out = Vec::new();
    for (title, terrain) in &dems {
        for run in &runs {
            let mut run = run.clone();
            let own = run.get("name").and_then(Value::as_str).map_or(String::new(), |own| format!(" {own}"));
            run.insert("name".into(), Value::String(format!("{title}{own}")));
            run.extend(terrain.iter().map(|t| ("terrain".to_owned(), t.clone())));
            out.push(run);
        }
    }
    Ok(out)
}

/// What a file is called beside a recipe: its own name, in letters that every file system takes.
fn beside(file: &str, number: usize) -> String {
    let (stem, end) = file.rsplit_once('.').unwrap_or((file, "tif"));
    let plain = |c: char| if c.is_ascii_alphanumeric() || c == '-' { c } else { '_' };
    let stem: String = stem.chars().map(plain).take(60).collect();
    let end = if matches!(end.to_ascii_lowercase().as_str(), "asc" | "txt") { "asc" } else { "tif" };
    format!("{stem}_{number}.{end}")
}

impl PlannedBatch {
    /// Begins it.
    ///
    /// # Errors
    /// Those of the store.
    #[boxed]
    pub async fn begin(self, store: &Store, name: &str, made_by: MadeBy) -> Result<Batch> {
        let run = |run: &bothros_recipe::batch::PlannedRun| NewRun {
            name: run.name.clone(),
            own: json!(run.own),
            recipe: run.text.clone(),
        };
        let new = NewBatch {
            name: name.into(),
            made_by,
            keys: self.plan.keys.clone(),
            program: PROGRAM.into(),
            runs: self.plan.runs.iter().map(run).collect(),
            inputs: self.inputs.clone(),
        };
        Ok(store.begin_batch(new).await?)
    }
}
