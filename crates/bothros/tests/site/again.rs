//! A study told as a recipe, from the files of its DEM: `bothros run` makes it again, to the bit.

use std::path::{Path, PathBuf};

use bothros_core::{Cell, Coarser, Frame, Grid};
use bothros_formats::{Crs, read_elevation, write_cog};
use bothros_store::RasterRole;
use rand::{Rng, SeedableRng};
use reqwest::StatusCode;

use crate::support::{Site, utm};

const SIDE: usize = 220;
const FRAME: Frame =
    Frame { rows: SIDE, cols: SIDE, left: 500_000.0, top: 4_760_000.0, cell_size: 10.0, unit_m: 1.0 };

/// A study that is made, told, and made again.
pub(crate) struct Made<'a> {
    pub site: &'a Site,
    pub study: i64,
}

impl Made<'_> {
    async fn send(&self, path: &str, form: &[(&str, &str)]) {
        let (status, text) = self.site.send(&format!("/studies/{}/{path}", self.study), form).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{path} {form:?}: {text}");
    }

    async fn done(&self, path: &str, form: &[(&str, &str)]) {
        self.send(path, form).await;
        let job = self.site.finish(self.study).await;
        assert_eq!(job.state, "done", "{path} {form:?}: {}", job.message);
    }

    /// Takes the recipe with its files, runs it, and holds every cell against the study's; the recipe's text.
    pub async fn gives_the_same_again(&self, dir: &Path) -> String {
        let answer = self.site.get(&format!("/studies/{}/recipe.zip", self.study)).await;
        assert_eq!(answer.status(), StatusCode::OK);
        let bytes = answer.bytes().await.unwrap();
        let unpacked = dir.join(format!("unpacked_{}", self.study));
        zip::ZipArchive::new(std::io::Cursor::new(&bytes)).unwrap().extract(&unpacked).unwrap();
        let recipe = std::fs::read_dir(&unpacked).unwrap().map(|e| e.unwrap().path());
        let recipe = recipe.into_iter().find(|p| p.extension().is_some_and(|e| e == "toml")).unwrap();
        let text = std::fs::read_to_string(&recipe).unwrap();
        let out = dir.join(format!("out_{}", self.study));
        let run = std::process::Command::new(env!("CARGO_BIN_EXE_bothros"))
            .arg("run")
            .arg(&recipe)
            .arg("--out")
            .arg(&out)
            .output()
            .unwrap();
        assert!(run.status.success(), "{}\n{text}", String::from_utf8_lossy(&run.stderr));
        let (store, study) = (self.site.store(), self.study);
        let kept = async |role| {
            let meta = store.raster(study, role).await.unwrap().unwrap();
            (Frame { rows: meta.rows, cols: meta.cols, left: meta.left, top: meta.top, ..FRAME }, meta)
        };
        let (place, ground) = kept(RasterRole::Filled).await;
        let info = bothros_formats::inspect(&out.join("ground.tif"), "ground.tif").unwrap();
        assert_eq!((info.rows, info.cols), (place.rows, place.cols), "{text}");
        assert_eq!([info.geo_transform[0], info.geo_transform[3]], [place.left, place.top], "{text}");
        let ground = store.read_raster::<f32>(&ground).await.unwrap();
        same(&out.join("ground.tif"), &ground, |z| z, &text);
        let (_, directions) = kept(RasterRole::Direction).await;
        let codes = store.read_raster::<u8>(&directions).await.unwrap();
        let as_float = |code: u8| if code == 255 { f32::NAN } else { f32::from(code) };
        same(&out.join("flow_direction.tif"), &codes, as_float, &text);
        if !text.contains("method = \"mfd\"") && !text.contains("method = \"dinf\"") {
            let (_, gathered) = kept(RasterRole::Accumulation).await;
            let cells = store.read_raster::<u32>(&gathered).await.unwrap();
            let as_float = |n: u32| if n == u32::MAX { f32::NAN } else { n as f32 };
            same(&out.join("flow_accumulation.tif"), &cells, as_float, &text);
        }
        let summary = std::fs::read_to_string(out.join("summary.json")).unwrap();
        let summary: serde_json::Value = serde_json::from_str(&summary).unwrap();
        let facts = store.study(study).await.unwrap().network.unwrap();
        assert_eq!(summary["network"]["reaches"], facts["reaches"], "{text}");
        assert_eq!(summary["network"]["headwaters"], facts["headwaters"], "{text}");
        let length = summary["network"]["length_km"].as_f64().unwrap() * 1000.0;
        assert!((length - facts["length_m"].as_f64().unwrap()).abs() < 1e-6 * length.max(1.0), "{text}");
        // Sub-basins, names and all, as the study hands them out.
        let ours =
            self.site.get(&format!("/studies/{study}/tables/subbasins?as=csv")).await.text().await.unwrap();
        let mut zip = zip::ZipArchive::new(std::fs::File::open(out.join("handover.zip")).unwrap()).unwrap();
        let theirs = std::io::read_to_string(zip.by_name("subbasins.csv").unwrap()).unwrap();
        assert!(ours == theirs, "{ours}\n{theirs}\n{text}");
        text
    }
}

/// Holds a file against a raster, cell by cell.
fn same<T: Copy>(path: &Path, kept: &Grid<T>, number: impl Fn(T) -> f32, text: &str) {
    let unit = bothros_formats::VerticalUnit::Metre;
    let read = read_elevation(path, "result", 1, unit, &bothros_core::Silent).unwrap();
    assert_eq!((read.rows(), read.cols()), (kept.rows(), kept.cols()), "{}\n{text}", path.display());
    let cells = read.values().iter().zip(kept.values());
    let differ =
        cells.filter(|(a, b)| a.to_bits() != number(**b).to_bits() && !(a.is_nan() && number(**b).is_nan()));
    assert_eq!(differ.count(), 0, "{}\n{text}", path.display());
}

fn tif(dir: &Path, name: &str, values: &Grid<f32>, frame: &Frame, crs: &Crs) -> PathBuf {
    let path = dir.join(name);
    write_cog(&path, values, frame, crs, -9999.0, Coarser::Mean, "elevation", "m").unwrap();
    path
}

/// Rough ground with what is wrong with DEMs: spikes, voids, a sea, steps of rounding.
fn flawed(seed: u64, rng: &mut impl Rng) -> Grid<f32> {
    let ground = bothros_demo::fractal_terrain(SIDE, seed);
    let low = ground.values().iter().copied().fold(f32::INFINITY, f32::min);
    let (rounded, sea) = (rng.random_bool(0.4), rng.random_bool(0.4));
    let mut values = Grid::from_fn(SIDE, SIDE, |c| {
        let z = ground.values()[c.row * SIDE + c.col] - low;
        let z = if rounded { z.round() } else { z };
        if sea && c.col < 30 + (c.row % 7) { 0.0 } else { z + 2.0 }
    });
    for _ in 0..6 {
        let at = rng.random_range(40..SIDE * SIDE);
        values.values_mut()[at] += 400.0;
    }
    let (row, col) = (rng.random_range(60..150), rng.random_range(60..150));
    for r in row..row + 6 {
        for c in col..col + 5 {
            values.values_mut()[r * SIDE + c] = f32::NAN;
        }
    }
    values
}

/// The same ground in degrees.
fn in_degrees(dir: &Path, values: &Grid<f32>) -> Vec<PathBuf> {
    let degrees = Frame { left: -15.0003, top: 42.9945, cell_size: 0.0001, ..FRAME };
    vec![tif(dir, "degrees.tif", values, &degrees, &Crs::parse("EPSG:4326").unwrap())]
}

/// The files of a study's DEM: whole, or two halves that overlap and differ in height.
fn files(dir: &Path, seed: u64, values: &Grid<f32>, halves: bool) -> Vec<PathBuf> {
    if !halves {
        return vec![tif(dir, &format!("whole {seed}.tif"), values, &FRAME, &utm())];
    }
    let half = |name: &str, col: usize, cols: usize, up: f32| {
        let mut part = values.window(0, col, SIDE, cols);
        part.values_mut().iter_mut().for_each(|z| *z += up);
        tif(dir, &format!("{name} {seed}.tif"), &part, &FRAME.window(0, col, SIDE, cols), &utm())
    };
    vec![half("west", 0, 120, 0.0), half("east", 100, SIDE - 100, 1.5)]
}

#[tokio::test(flavor = "multi_thread")]
async fn studies_of_many_kinds_are_made_again_from_their_recipes() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let mut keys = String::new();
    for seed in 0..8u64 {
        let rng = &mut rand_chacha::ChaCha8Rng::seed_from_u64(seed);
        let values = flawed(seed, rng);
        let halves = seed % 2 == 0;
        let files = match seed {
            7 => in_degrees(dir.path(), &values),
            _ => files(dir.path(), seed, &values, halves),
        };
        let (status, text) = site
            .upload(&files.iter().map(PathBuf::as_path).collect::<Vec<_>>(), &format!("made {seed}"))
            .await;
        assert!(status.is_success() || status.is_redirection(), "{status} {text}");
        let study = site.store().studies().await.unwrap().iter().map(|s| s.id).max().unwrap();
        assert_eq!(site.finish(study).await.state, "done");
        let made = Made { site: &site, study };
        if halves {
            made.done("dem-files/0/move", &[("to", "1")]).await;
            if rng.random_bool(0.5) {
                made.done("dem-files/level", &[("on", "1")]).await;
            }
        }
        if seed == 7 {
            made.done("prepare", &[("crs", "EPSG:32628"), ("cell_size", "10")]).await;
        }
        // How the DEM is prepared.
        let mut form = vec![("full", "1"), ("crs", "EPSG:32628"), ("margin_m", "35")];
        let sizes = ["10", "10", "12.5", "7"];
        form.push(("cell_size", sizes[rng.random_range(0..4)]));
        form.push(("resampling", if rng.random_bool(0.5) { "cubic" } else { "bilinear" }));
        for key in ["spikes", "steps", "sea", "voids", "full_rectangle"] {
            if rng.random_bool(0.5) {
                form.push((key, "1"));
            }
        }
        form.push(match rng.random_range(0..3) {
            0 => ("clip", "none"),
            _ => ("clip", "extent"),
        });
        form.push(("extent", "500203,4758107,501897,4759811"));
        made.done("prepare", &form).await;
        // What shapes the ground.
        for (role, line) in [
            ("walls", "[[501005,4759300],[501005,4758700]]"),
            (
                "closed_basins",
                "[[501205,4758605],[501455,4758605],[501455,4758405],[501205,4758405],[501205,4758605]]",
            ),
            ("closed_basins", "[[500805,4758705]]"),
            (
                "lakes",
                "[[501305,4759005],[501405,4759005],[501405,4758905],[501305,4758905],[501305,4759005]]",
            ),
            (
                "rebuild_areas",
                "[[500405,4759005],[500655,4759005],[500655,4758755],[500405,4758755],[500405,4759005]]",
            ),
        ] {
            if rng.random_bool(0.6) {
                made.send("draw", &[("role", role), ("line", line)]).await;
            }
        }
        // Downstream, whichever way that is here.
        let ends = ["[[500705,4759205],[500955,4758905]]", "[[500955,4758905],[500705,4759205]]"];
        for line in ends {
            let form = [("role", "breach_lines"), ("line", line)];
            if site.send(&format!("/studies/{study}/draw"), &form).await.0 == StatusCode::NO_CONTENT {
                break;
            }
        }
        let sinks = ["fill", "breach", "breach_then_fill", "keep"][rng.random_range(0..4)];
        let routing = ["d8", "dinf", "mfd"][seed as usize % 3];
        let mut choices = vec![
            ("sinks", sinks),
            ("routing", routing),
            ("max_fill_depth_m", "30"),
            ("breach_length_m", "90"),
            ("breach_depth_m", "6"),
            ("burn", ""),
            ("burn_depth_m", ""),
            ("burn_buffer_m", ""),
            ("burn_buffer_depth_m", ""),
            ("rebuild_own", ["nothing", "cells"][rng.random_range(0..2)]),
            ("rebuild_step", "4"),
            ("rebuild_tension", "0.45"),
            ("rebuild_blend_m", "15"),
        ];
        if rng.random_bool(0.5) {
            choices.push(("level_lakes", "on"));
        }
        if rng.random_bool(0.5) {
            choices.push(("fill_voids", "on"));
        }
        made.send("conditioning", &choices).await;
        made.done("route", &[]).await;
        made.send("threshold", &[("cells", "150")]).await;
        // By hand: a headwater, another threshold inside an area, sub-basins split and named.
        let at = |row: usize, col: usize| {
            let (x, y) = FRAME.centre(Cell { row, col });
            (format!("{x}"), format!("{y}"))
        };
        let (x, y) = at(90, 120);
        let head = format!("[[{x},{y}]]");
        made.send("edits", &[("kind", "head"), ("line", &head), ("reason", "a spring")]).await;
        let ring = "[[500505,4759505],[500955,4759505],[500955,4759105],[500505,4759105]]";
        made.send("edits", &[("kind", "within"), ("line", ring), ("area", "0.5"), ("reason", "wet ground")])
            .await;
        for (row, col, name) in [(150, 100, "mill"), (110, 140, "ford")] {
            let (x, y) = at(row, col);
            // Where the land was left open there is no stream to snap to.
            let form = [("x", x.as_str()), ("y", y.as_str()), ("name", name)];
            site.send(&format!("/studies/{study}/pour-points"), &form).await;
        }
        made.send("subbasins/division", &[("division", "reaches"), ("target_km2", ""), ("outline", "cells")])
            .await;
        let text = made.gives_the_same_again(dir.path()).await;
        keys += &text;
    }
    // All of it was told by one of them at least.
    for key in [
        "fit_heights",
        "cell_size",
        "clip_margin_m",
        "resampling",
        "mend_spikes",
        "soften_steps",
        "sea_outside",
        "mend_voids",
        "full_rectangle",
        "fill_voids = true",
        "[conditioning.rebuild]",
        "closed_basins",
        "[[network.edits]]",
        "\"dinf\"",
        "\"mfd\"",
    ] {
        assert!(keys.contains(key), "{key}\n{keys}");
    }
    assert!(!keys.contains("does not tell:"), "{keys}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_is_made_again_from_its_recipe() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    bothros_demo::write_files(&crate::walk::SCENARIO, dir.path()).unwrap();
    let study = site.routed(&dir.path().join("sorrel_dem_4m.tif"), "Sorrel Water").await;
    let made = Made { site: &site, study };
    made.send("threshold", &[("cells", "5000")]).await;
    made.send("snapping", &[("snap_m", "40"), ("snap_to", "largest")]).await;
    for gauge in &crate::walk::SCENARIO.gauges {
        let (x, y) = (gauge.x.to_string(), gauge.y.to_string());
        made.send("pour-points", &[("x", &x), ("y", &y), ("name", gauge.name)]).await;
    }
    // Crossings as they were proposed, each decided in turn.
    made.done("review", &[]).await;
    let barriers = site.store().barriers(study).await.unwrap();
    assert!(barriers.len() > 2, "{}", barriers.len());
    for (at, barrier) in barriers.iter().take(9).enumerate() {
        let decision = ["breach", "keep", "fill"][at % 3];
        made.send(&format!("barriers/{}/decide", barrier.id), &[("decision", decision)]).await;
    }
    made.done("route", &[]).await;
    // One sub-basin is named, another taken into the one below it.
    let outlet = async |id: usize| {
        let one = site.get(&format!("/studies/{study}/subbasins/one?id={id}")).await.text().await.unwrap();
        let from = one.split("/subbasins/").nth(1).unwrap_or_else(|| panic!("{one}"));
        from.split('/').next().unwrap().to_owned()
    };
    made.send(&format!("subbasins/{}/name", outlet(3).await), &[("name", "Upper moor")]).await;
    made.send(&format!("subbasins/{}/merge", outlet(5).await), &[]).await;
    let text = made.gives_the_same_again(dir.path()).await;
    for told in ["sorrel_dem_1_sorrel_dem_4m.tif", "breach_lines", "closed_basins", "merged = ", "Upper moor"]
    {
        assert!(text.contains(told), "{told}\n{text}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_recipe_is_taken_up_on_another_dem_and_told_where_it_does_not_fit() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let first = site.routed(&crate::support::valley_file(dir.path()), "First").await;
    let made = Made { site: &site, study: first };
    for (role, line) in [
        ("walls", "[[501005,4758800],[501005,4758200]]"),
        ("walls", "[[503305,4758800],[503305,4758200]]"),
        ("lakes", "[[503100,4758500],[503200,4758500],[503200,4758300],[503100,4758300],[503100,4758500]]"),
    ] {
        made.send("draw", &[("role", role), ("line", line)]).await;
    }
    made.done("route", &[]).await;
    made.send("threshold", &[("cells", "300")]).await;
    for (x, y, name) in [("502005", "4757500", "mouth"), ("502005", "4758700", "upper")] {
        made.send("pour-points", &[("x", x), ("y", y), ("name", name)]).await;
    }
    made.send("edits", &[("kind", "head"), ("line", "[[503505,4758005]]"), ("reason", "a spring")]).await;
    // The western three quarters, on cells of 20 m.
    let frame =
        Frame { rows: 150, cols: 150, left: 500_000.0, top: 4_760_000.0, cell_size: 20.0, unit_m: 1.0 };
    let valley = crate::support::valley();
    let coarse = Grid::from_fn(150, 150, |c| valley.values()[(c.row * 2) * 400 + c.col * 2]);
    let other = tif(dir.path(), "coarse.tif", &coarse, &frame, &utm());
    let second = site.study(&other, "Second").await;
    let browser = crate::support::browser::browser().await;
    let driver = &browser.driver;
    let hand = crate::support::hand::Hand { driver };
    let until = async |what: &str| crate::support::browser::until(driver, what).await;
    hand.opens(&site, second, "terrain", "recipe").await;
    until("document.querySelector('#recipe-of')").await;
    hand.picks("#recipe-of", "First").await;
    hand.clicks("#recipe-misfits").await;
    for told in [
        "conditioning.walls: 1 of 2 features lie outside this DEM",
        "conditioning.lakes: all 1 features lie outside this DEM",
        "300 cells are 0.1200 km² at this DEM’s cells of 20 m",
        "network.edits: number 1 lies outside this DEM",
    ] {
        until(&format!("document.querySelector('#misfits')?.textContent.includes({told:?})")).await;
    }
    crate::support::browser::accessible(driver, "recipe").await;
    driver.execute("window.confirm = () => true", Vec::new()).await.unwrap();
    hand.sends("/take-up", hand.clicks("#recipe-take-up")).await;
    let job = site.finish(second).await;
    assert_eq!(job.state, "done", "{}", job.message);
    assert!(job.message.contains("conditioning.lakes: "), "{}", job.message);
    // What it says was done here.
    let study = site.store().study(second).await.unwrap();
    let network = study.network.unwrap();
    assert_eq!(network["threshold"], 300);
    let points = site.store().pour_points(second).await.unwrap();
    let names: Vec<&str> = points.iter().map(|p| p.name.as_str()).collect();
    assert_eq!(names, ["mouth", "upper"]);
    assert!(points.iter().all(|p| p.catchment.is_some()));
    let layers = site.store().layers(second).await.unwrap();
    assert_eq!(layers.iter().map(|l| (l.name.as_str(), l.features)).collect::<Vec<_>>(), [("walls", 1)]);
    // The study tells where its recipe comes from, and how it differs since.
    site.send(&format!("/studies/{second}/threshold"), &[("cells", "450")]).await;
    hand.opens(&site, second, "handover", "recipe").await;
    let told = "[...document.querySelectorAll('.differences li')].map((li) => li.textContent).join('|')";
    until(&format!("{told}.includes('network.threshold.cells 300 → 450')")).await;
    until("document.querySelector('#recipe')?.textContent.includes('the study First')").await;
    hand.opens(&site, second, "terrain", "recipe").await;
    hand.clicks("#take-up-recipe a[href$='section=recipe']").await;
    until("document.querySelector('.differences')").await;
    // A recipe alone, without what it reads.
    let text = site.get(&format!("/studies/{first}/recipe.toml")).await.text().await.unwrap();
    let alone = dir.path().join("alone.toml");
    std::fs::write(&alone, &text).unwrap();
    hand.opens(&site, second, "terrain", "recipe").await;
    hand.gives("#recipe-file", &[&alone]).await;
    hand.clicks("#recipe-misfits").await;
    until("document.querySelector('#misfits')?.textContent.includes('conditioning.walls: first_inputs.gpkg did not come with the recipe')").await;
    // What is no recipe, and what may not be.
    std::fs::write(&alone, text.replace("version = 1", "version = 7")).unwrap();
    hand.gives("#recipe-file", &[&alone]).await;
    hand.clicks("#recipe-misfits").await;
    until("document.querySelector('#notice')?.textContent.includes('7 is not known')").await;
    std::fs::write(&alone, text.replace("first_inputs.gpkg", "/etc/first_inputs.gpkg")).unwrap();
    hand.gives("#recipe-file", &[&alone]).await;
    hand.clicks("#recipe-misfits").await;
    until("document.querySelector('#notice')?.textContent.includes('leaves the folder')").await;
}
