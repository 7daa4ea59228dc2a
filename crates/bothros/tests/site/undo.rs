//! Whatever is done to a study, undoing all of it leaves the study as it was.

use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

use bothros_core::Threshold;
use bothros_core::calibration::Side;
use bothros_core::catchments::{Formula, Holds, SnapTo};
use bothros_core::conditioning::TreatSinks;
use bothros_core::network::Edit;
use bothros_store::{LayerRole, Shape, Store};
use bothros_workflow::*;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use serde_json::{Value, json};

use crate::support::{FRAME, Site, valley_file};

/// Something an analyst does. Numbers choose among what is there.
#[derive(Debug, Clone)]
enum Act {
    Threshold(u32),
    Tolerance(f64),
    Snapping(f64, bool),
    Concentration(Option<u8>, usize, String),
    Point(f64, f64),
    MovePoint(usize, f64, f64),
    RenamePoint(usize, String),
    DeletePoint(usize),
    Draw(bool, f64, f64),
    Reshape(usize, f64, f64),
    DeleteFeature(usize),
    RemoveLayer(usize),
    Decide(usize, u8),
    Condition(f64, bool),
    Head(f64, f64),
    TakeBack,
    Mark(f64, f64, u8),
    Keep,
    DescribeTrial(usize, String),
    DeleteTrial(usize),
    Choose(usize, String),
    DescribeStudy(String),
    Weights,
    AddRaster(String),
    RemoveRaster(usize),
    Alone(usize),
    Shapefiles(bool),
}

/// A place on the DEM, or a little beside it.
fn place() -> impl Strategy<Value = (f64, f64)> {
    (-0.02..1.02f64, -0.02..1.02f64).prop_map(|(u, v)| {
        let [west, south, east, north] = FRAME.extent();
        (west + u * (east - west), south + v * (north - south))
    })
}

fn act() -> impl Strategy<Value = Act> {
    let name = || "[a-zà-ö 水]{1,12}";
    let file_name = || "[a-z_0-9]{1,20}";
    let one = || 0..6usize;
    prop_oneof![
        3 => (1..6000u32).prop_map(Act::Threshold),
        1 => (1.0..600.0f64).prop_map(Act::Tolerance),
        1 => (0.0..200.0f64, any::<bool>()).prop_map(|(m, nearest)| Act::Snapping(m, nearest)),
        1 => (proptest::option::of(30u8..=100), 0..9usize, name()).prop_map(|(n, f, why)| Act::Concentration(n, f, why)),
        4 => place().prop_map(|(x, y)| Act::Point(x, y)),
        3 => (one(), place()).prop_map(|(n, (x, y))| Act::MovePoint(n, x, y)),
        2 => (one(), name()).prop_map(|(n, name)| Act::RenamePoint(n, name)),
        2 => one().prop_map(Act::DeletePoint),
        3 => (any::<bool>(), place()).prop_map(|(site, (x, y))| Act::Draw(site, x, y)),
        2 => (one(), place()).prop_map(|(n, (x, y))| Act::Reshape(n, x, y)),
        2 => one().prop_map(Act::DeleteFeature),
        1 => one().prop_map(Act::RemoveLayer),
        2 => (one(), 0..4u8).prop_map(|(n, d)| Act::Decide(n, d)),
        2 => (0.0..9.0f64, any::<bool>()).prop_map(|(m, fill)| Act::Condition(m, fill)),
        2 => place().prop_map(|(x, y)| Act::Head(x, y)),
        1 => Just(Act::TakeBack),
        2 => (place(), 0..3u8).prop_map(|((x, y), v)| Act::Mark(x, y, v)),
        2 => Just(Act::Keep),
        1 => (one(), file_name()).prop_map(|(n, name)| Act::DescribeTrial(n, name)),
        1 => one().prop_map(Act::DeleteTrial),
        2 => (one(), name()).prop_map(|(n, why)| Act::Choose(n, why)),
        1 => name().prop_map(Act::DescribeStudy),
        1 => Just(Act::Weights),
        1 => name().prop_map(Act::AddRaster),
        1 => one().prop_map(Act::RemoveRaster),
        1 => one().prop_map(Act::Alone),
        1 => any::<bool>().prop_map(Act::Shapefiles),
    ]
}

/// One of several, where there are some.
fn pick<T: Clone>(all: &[T], n: usize) -> Option<T> {
    all.get(n % all.len().max(1)).cloned()
}

/// Does it; what the study does not allow is refused, and changes nothing.
async fn perform(site: &Site, calibration: &Calibration, study: i64, act: Act) -> Result<()> {
    let (store, grids) = (site.store(), &site.running.grids);
    let points: Vec<i64> = store.pour_points(study).await?.iter().map(|p| p.id).collect();
    let trials_now: Vec<i64> = store.trials(study).await?.iter().map(|t| t.id).collect();
    let layers = store.layers(study).await?;
    let mut features = Vec::new();
    for layer in &layers {
        features.extend(store.layer(study, layer.id).await?.1.into_iter().map(|f| (layer.clone(), f)));
    }
    match act {
        Act::Threshold(cells) => drop(set_threshold(store, grids, study, Threshold::cells(cells)).await?),
        Act::Tolerance(m) => set_tolerance(store, study, Some(m)).await?,
        Act::Snapping(m, nearest) => {
            let to = if nearest { SnapTo::NearestStream } else { SnapTo::Largest };
            set_snapping(store, study, m, to).await?;
        }
        Act::Concentration(number, formula, reason) => {
            let formula = Formula::ALL.get(formula).map(|f| f.key().to_owned());
            let how = Concentration {
                curve_number: number.map(f64::from),
                formula,
                reason,
                ..Concentration::default()
            };
            set_concentration(store, grids, study, how).await?;
        }
        Act::Point(x, y) => {
            drop(
                add_pour_point(
                    store,
                    grids,
                    study,
                    PourPointPlace { name: String::new(), x, y, area_m2: None, own: None },
                )
                .await?,
            );
        }
        Act::MovePoint(n, x, y) => {
            if let Some(id) = pick(&points, n) {
                move_pour_point(store, grids, study, id, (x, y)).await?;
            }
        }
        Act::RenamePoint(n, name) => {
            if let Some(id) = pick(&points, n) {
                rename_pour_point(store, study, id, &name).await?;
            }
        }
        Act::DeletePoint(n) => {
            if let Some(id) = pick(&points, n) {
                delete_pour_point(store, study, id).await?;
            }
        }
        Act::Draw(is_site, x, y) => {
            let (role, shape) = match is_site {
                true => (LayerRole::Sites, Shape::Point([x, y])),
                false => (LayerRole::BreachLines, Shape::Line(vec![[x, y], [x, y - 40.0]])),
            };
            draw(store, study, Drawn { role, name: None, elevation: None, shape }).await?;
        }
        Act::Reshape(n, x, y) => {
            if let Some((layer, feature)) = pick(&features, n) {
                let shape = match feature.shape {
                    Shape::Point(_) => Shape::Point([x, y]),
                    _ => Shape::Line(vec![[x, y], [x + 10.0, y - 40.0]]),
                };
                reshape(store, study, layer.id, feature.id, Some(shape)).await?;
            }
        }
        Act::DeleteFeature(n) => {
            if let Some((layer, feature)) = pick(&features, n) {
                reshape(store, study, layer.id, feature.id, None).await?;
            }
        }
        Act::RemoveLayer(n) => {
            if let Some(layer) = pick(&layers, n) {
                remove_layer(store, study, layer.id).await?;
            }
        }
        Act::Decide(n, which) => {
            let barriers: Vec<i64> = store.barriers(study).await?.iter().map(|b| b.id).collect();
            if let Some(id) = pick(&barriers, n) {
                let all = [None, Some(Decision::Breach), Some(Decision::Fill), Some(Decision::Keep)];
                decide(store, study, id, all[usize::from(which)], None).await?;
            }
        }
        Act::Condition(m, fill) => {
            let sinks = if fill { TreatSinks::Fill } else { TreatSinks::BreachThenFill };
            let wanted = Choices { max_fill_depth_m: Some(m), sinks, ..Choices::default() };
            choose_conditioning(store, study, wanted).await?;
        }
        Act::Head(x, y) => {
            let new = StreamEdit { edit: Edit::Head { at: [x, y] }, reason: "seen there".into() };
            edit_streams(store, grids, study, Some(new), None).await?;
        }
        Act::TakeBack => edit_streams(store, grids, study, None, Some(0)).await?,
        Act::Mark(x, y, verdict) => {
            let said = match verdict {
                0 => None,
                1 => Some((Verdict::Accepted, "a ditch".to_owned())),
                _ => Some((Verdict::ToMend, String::new())),
            };
            mark_shortfall(store, study, Side::Extra, &[[x, y], [x + 50.0, y]], said).await?;
        }
        Act::Keep => {
            let facts = Facts::of(&store.study(study).await?)?;
            let threshold = facts.network.ok_or_else(Error::not_routed)?.threshold;
            let of = (threshold, tolerance(store, &facts).await?.m);
            keep_trial(store, grids, calibration, study, of, "").await?;
        }
        Act::DescribeTrial(n, name) => {
            if let Some(id) = pick(&trials_now, n) {
                describe_trial(store, study, id, &name, "a remark").await?;
            }
        }
        Act::DeleteTrial(n) => {
            if let Some(id) = pick(&trials_now, n) {
                delete_trial(store, study, id).await?;
            }
        }
        Act::Choose(n, why) => {
            if let Some(id) = pick(&trials_now, n) {
                choose_trial(store, grids, study, id, &why).await?;
            }
        }
        Act::DescribeStudy(name) => describe_study(store, study, name.trim(), "described").await?,
        Act::Weights => remove_weights(store, study).await?,
        Act::AddRaster(name) => {
            let dir = tempfile::tempdir()?;
            let path = valley_file(dir.path());
            let (unit, file, provenance) = ("m".into(), "valley.tif".into(), Provenance::default());
            let new = NewValueRaster { name, unit, holds: Holds::Values, file, path, provenance };
            add_raster(store, study, new).await?;
        }
        Act::RemoveRaster(n) => {
            let all = Facts::of(&store.study(study).await?)?.settings.rasters;
            if let Some(raster) = pick(&all, n) {
                remove_raster(store, study, &raster.name).await?;
            }
        }
        Act::Shapefiles(wanted) => {
            bothros_workflow::add_format(store, study, bothros_workflow::MoreFormat::Shapefiles, wanted)
                .await?
        }
        Act::Alone(n) => hand_out_alone(store, study, pick(&points, n)).await?,
    }
    Ok(())
}

/// All of a study that undo is answerable for.
async fn state(store: &Store, study: i64) -> Value {
    let row = store.study(study).await.unwrap();
    let mut layers = Vec::new();
    for layer in store.layers(study).await.unwrap() {
        let features = store.layer(study, layer.id).await.unwrap().1;
        // A layer that was made for what was drawn stays, empty.
        if !features.is_empty() {
            layers.push(json!([layer.id, layer.role, layer.name, features]));
        }
    }
    let points: Vec<Value> = store
        .pour_points(study)
        .await
        .unwrap()
        .into_iter()
        .map(|p| json!([p.id, p.name, p.x, p.y, p.snap_m, p.snap_to, p.catchment, p.outline, p.problem]))
        .collect();
    let barriers: Vec<Value> =
        store.barriers(study).await.unwrap().into_iter().map(|b| json!([b.id, b.decision, b.line])).collect();
    let trials: Vec<Value> = store
        .trials(study)
        .await
        .unwrap()
        .into_iter()
        .map(|t| json!([t.id, t.name, t.remark, t.facts, t.justification]))
        .collect();
    json!({ "name": row.name, "description": row.description, "settings": row.settings, "network": row.network,
        "routing": row.routing, "layers": layers, "points": points, "barriers": barriers, "trials": trials })
}

#[test]
fn undoing_everything_leaves_a_study_as_it_was() {
    // Without optimisation the steps' futures are large.
    let machine = std::thread::Builder::new().stack_size(64 << 20).spawn(drive).unwrap();
    if let Err(panic) = machine.join() {
        std::panic::resume_unwind(panic);
    }
}

/// Drives a study with random actions and takes all of them back, again and again.
fn drive() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    let (site, study, calibration) = runtime.block_on(async {
        let site = Site::new().await;
        let dir = tempfile::tempdir().unwrap();
        let study = site.study(&valley_file(dir.path()), "machine").await;
        for job in ["review", "route"] {
            site.send(&format!("/studies/{study}/{job}"), &[]).await;
            assert_eq!(site.finish(study).await.state, "done");
        }
        // Something is there before all that is undone.
        let place =
            PourPointPlace { name: "gauge".into(), x: 502_005.0, y: 4_757_500.0, area_m2: None, own: None };
        add_pour_point(site.store(), &site.running.grids, study, place).await.unwrap();
        let shape = Shape::Line(vec![[501_000.0, 4_759_000.0], [501_000.0, 4_758_900.0]]);
        let wall = Drawn { role: LayerRole::Walls, name: None, elevation: None, shape };
        draw(site.store(), study, wall).await.unwrap();
        choose_conditioning(site.store(), study, Choices { fill_voids: true, ..Choices::default() })
            .await
            .unwrap();
        let calibration = Calibration::default();
        let facts = Facts::of(&site.store().study(study).await.unwrap()).unwrap();
        let of = (facts.network.unwrap().threshold, 15.0);
        keep_trial(site.store(), &site.running.grids, &calibration, study, of, "").await.unwrap();
        (site, study, calibration)
    });
    let store = site.store();
    // What was done so far is not undone.
    let begun = runtime.block_on(async { store.last_change(study).await.unwrap().unwrap().id });
    let before = runtime.block_on(state(store, study));
    let done = AtomicUsize::new(0);
    let mut runner = TestRunner::new(Config { cases: 24, failure_persistence: None, ..Config::default() });
    let result = runner.run(&proptest::collection::vec(act(), 1..16), |acts| {
        runtime.block_on(async {
            for act in acts {
                match perform(&site, &calibration, study, act.clone()).await {
                    Ok(()) => drop(done.fetch_add(1, Relaxed)),
                    Err(error) if error.is_users() => {}
                    Err(error) => return Err(TestCaseError::fail(format!("{act:?}: {error}"))),
                }
            }
            while store.last_change(study).await.unwrap().is_some_and(|last| last.id > begun) {
                let told = undo(store, &site.running.grids, study).await;
                prop_assert!(told.is_ok(), "{told:?}");
            }
            let after = state(store, study).await;
            for (part, was) in before.as_object().unwrap() {
                prop_assert_eq!(was, &after[part], "{}", part);
            }
            Ok(())
        })
    });
    result.unwrap_or_else(|error| panic!("{error}"));
    assert!(done.load(Relaxed) > 50, "{done:?} actions were allowed");
    runtime.block_on(async { site.running.stop().await.unwrap() });
}
