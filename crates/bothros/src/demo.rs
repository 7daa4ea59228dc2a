//! Loading the demo scenario as studies.

use std::path::Path;
use std::time::{Duration, Instant};

use anyhow::{Context, bail};
use bothros_core::catchments::SnapTo;
use bothros_core::{Area, Threshold};
use bothros_demo::{Scenario, generate, write_aerial, write_files, write_sheets};
use bothros_store::{JobKind, Kept, LayerRole, Record, Store, Study};
use bothros_workflow::{
    Facts, GridCache, NewLayer, NewPicture, NewStudy, PourPointPlace, Provenance, add_backdrop, add_layer,
    add_pour_point, begin_study, set_snapping, set_threshold,
};

use crate::boxed;
use crate::serve::say;

const NAME: &str = "Sorrel Water";
/// What lies beside the DEM; the culvert survey is left for the analyst to add.
const LAYERS: [(LayerRole, &str); 5] = [
    (LayerRole::MappedStreams, "mapped_streams.gpkg"),
    (LayerRole::Lakes, "reservoir.gpkg"),
    (LayerRole::Dams, "dam.gpkg"),
    (LayerRole::Sites, "town.gpkg"),
    (LayerRole::Boundaries, "published_boundary.gpkg"),
];
const POOR: &str = "Sorrel region, 30 m";

fn generated() -> anyhow::Result<Scenario> {
    let begun = Instant::now();
    let scenario = generate(&|what| println!("  {:5.1} s  {what}", begun.elapsed().as_secs_f64()))?;
    say(format_args!("  {:5.1} s  generated", begun.elapsed().as_secs_f64()));
    Ok(scenario)
}

/// Writes the scenario's files.
pub fn write(directory: &Path) -> anyhow::Result<()> {
    std::fs::create_dir_all(directory).with_context(|| format!("making {}", directory.display()))?;
    write_files(&generated()?, directory)
}

/// Waits until a study's job has ended, printing its progress.
async fn finish(store: &Store, study: i64) -> anyhow::Result<()> {
    let mut said = String::new();
    loop {
        let job = store.last_job(study).await?.context("the study has no job")?;
        if !job.is_active() {
            if job.state != "done" {
                bail!("{}: {}", job.title(), job.message);
            }
            return Ok(());
        }
        if job.message != said {
            say(format_args!("          {}: {} ({:.0} %)", job.title(), job.message, job.progress * 100.0));
            said = job.message;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

async fn import(store: &Store, name: &str, description: &str, path: &Path) -> anyhow::Result<Study> {
    let file = path.file_name().and_then(|n| n.to_str()).unwrap_or("dem.tif");
    let (study, _) = begin_study(
        store,
        NewStudy {
            name,
            description,
            file,
            path,
            projection: None,
            more: Vec::new(),
            provenance: Default::default(),
        },
    )
    .await?;
    finish(store, study.id).await?;
    Ok(study)
}

/// Makes the demo studies unless they are there, and the simulated archive's files in `archive`. An interrupted
/// start is completed.
#[boxed]
pub async fn load(store: &Store, grids: &GridCache, archive: &Path) -> anyhow::Result<()> {
    let studies = store.studies().await?;
    if studies.iter().any(|s| s.name == NAME) && studies.iter().any(|s| s.name == POOR) {
        return Ok(());
    }
    say(format_args!("Generating the demo scenario"));
    let scenario = tokio::task::spawn_blocking(generated).await??;
    let dir = tempfile::tempdir()?;
    let (path, archive) = (dir.path().to_owned(), archive.to_owned());
    let scenario = tokio::task::spawn_blocking(move || -> anyhow::Result<Scenario> {
        write_files(&scenario, &path)?;
        // What the simulated archive gives away comes from the same ground.
        write_sheets(&scenario, &archive)?;
        write_aerial(&scenario, &archive)?;
        Ok(scenario)
    })
    .await??;
    say(format_args!("Loading it"));
    for (name, file) in [(POOR, "region_dem_30m.tif"), (NAME, "sorrel_dem_4m.tif")] {
        for left_over in studies.iter().filter(|s| s.name == name) {
            store.delete_study(left_over.id).await?;
        }
        let description = match name {
            NAME => "New culverts under the Marlpit railway and Long Causeway: the 4 m survey",
            _ => "The poor alternative: geographic, whole metres, smoothed",
        };
        // It gets its name when all of it is there, so that a broken start is told from a whole one.
        let study = import(store, &format!("{name} (loading)"), description, &dir.path().join(file)).await?;
        if name == NAME {
            for (role, file) in LAYERS {
                let new = NewLayer {
                    role,
                    file: file.into(),
                    path: dir.path().join(file),
                    layer: None,
                    crs: None,
                    source: "made up for the demo".into(),
                    date: String::new(),
                    // As of a map of streams; all else fits the DEM.
                    scale: if role == LayerRole::MappedStreams { "1:25,000" } else { "4 m" }.into(),
                    licence: "none needed".into(),
                };
                add_layer(store, study.id, new).await?;
            }
            for file in ["aerial.tif", "old_map.png"] {
                let provenance = Provenance { source: "made up for the demo".into(), ..Default::default() };
                let new = NewPicture { file: file.into(), path: dir.path().join(file), provenance };
                add_backdrop(store, study.id, new).await?;
            }
            store.enqueue(study.id, JobKind::Review, Kept::empty()).await?;
            finish(store, study.id).await?;
            store.enqueue(study.id, JobKind::Route, Kept::empty()).await?;
            finish(store, study.id).await?;
            let facts = Facts::of(&store.study(study.id).await?)?;
            let frame = facts.terrain.context("the DEM is prepared")?.frame;
            set_threshold(store, grids, study.id, Threshold::from_area(Area::km2(0.12), &frame)).await?;
            // Gauges are placed to a few metres, so the nearest stream is theirs.
            set_snapping(store, study.id, 100.0, SnapTo::NearestStream).await?;
            for gauge in &scenario.gauges {
                let place = PourPointPlace {
                    name: gauge.name.into(),
                    x: gauge.x,
                    y: gauge.y,
                    area_m2: None,
                    own: None,
                };
                add_pour_point(store, grids, study.id, place).await?;
            }
        }
        let change = store.change(study.id).await?;
        change.describe(name, description).await?;
        change.commit(Record::default()).await?;
    }
    for left_over in store.studies().await?.iter().filter(|s| s.name.ends_with("(loading)")) {
        store.delete_study(left_over.id).await?;
    }
    Ok(())
}
