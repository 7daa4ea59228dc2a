//! Recipes kept beside the studies: kept by hand, compared, begun with; and a study that tells all that was typed in it.

use bothros_core::{Coarser, Frame, Grid};
use bothros_formats::write_cog;
use bothros_store::RasterRole;
use reqwest::StatusCode;
use reqwest::multipart::{Form, Part};

use crate::again::Made;
use crate::support::browser::{accessible, browser, until, value};
use crate::support::hand::Hand;
use crate::support::{FRAME, Site, add_layer, utm, valley_file};

async fn send(site: &Site, study: i64, path: &str, form: &[(&str, &str)]) {
    let (status, text) = site.send(&format!("/studies/{study}/{path}"), form).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{path} {form:?}: {text}");
}

/// Lakes with a number of their own, as a file.
fn lakes() -> String {
    let ring = |x: f64, y: f64| serde_json::json!({ "type": "Polygon", "coordinates": [[[x, y], [x + 110.0, y], [x + 110.0, y + 95.0], [x, y + 95.0], [x, y]]] });
    let of = |name: &str, depth: f64, shape| serde_json::json!({ "type": "Feature", "properties": { "name": name, "Mean depth": depth }, "geometry": shape });
    serde_json::json!({
        "type": "FeatureCollection",
        "crs": { "type": "name", "properties": { "name": "urn:ogc:def:crs:EPSG::32628" } },
        "features": [of("Mill pond", 2.5, ring(501_950.0, 4_758_405.0)), of("Tarn", 7.0, ring(503_000.0, 4_758_300.0))],
    })
    .to_string()
}

/// A study in which much was typed: points that snap in ways of their own, classes that stand for curve numbers, formulas of a layer,
/// weights, a sheet, words of the report.
async fn typed(site: &Site, dir: &std::path::Path, name: &str) -> i64 {
    let study = site.routed(&valley_file(dir), name).await;
    send(site, study, "threshold", &[("cells", "300")]).await;
    let snapped = [
        ("502005", "4757500", "mouth", "70", "largest"),
        ("502025", "4758700", "upper", "30", "nearest_stream"),
    ];
    for (x, y, name, snap_m, snap_to) in snapped {
        send(site, study, "snapping", &[("snap_m", snap_m), ("snap_to", snap_to)]).await;
        send(site, study, "pour-points", &[("x", x), ("y", y), ("name", name)]).await;
    }
    let (status, told) = add_layer(site, study, "lakes", &[("lakes.geojson", lakes().into_bytes())]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    send(site, study, "draw", &[("role", "dams"), ("line", "[[501900,4758398],[502110,4758398]]")]).await;
    let classes =
        Grid::from_fn(FRAME.rows, FRAME.cols, |c| if (c.row / 9 + c.col / 7) % 3 == 0 { 11.0 } else { 42.0 });
    let path = dir.join("cover.tif");
    write_cog(&path, &classes, &FRAME, &utm(), -9999.0, Coarser::Mean, "classes", "").unwrap();
    let part = || Part::bytes(std::fs::read(&path).unwrap()).file_name("cover.tif");
    let form =
        Form::new().text("name", "Cover").text("holds", "classes").text("unit", "").part("dem", part());
    let answer = site.post(&format!("/studies/{study}/rasters")).multipart(form).send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::NO_CONTENT, "{}", answer.text().await.unwrap());
    send(site, study, "rasters/lookup", &[("name", "Cover"), ("lookup", "11, 70, 25\n42, 61")]).await;
    send(
        site,
        study,
        "concentration",
        &[("curve_number_raster", "Cover"), ("formula", "kirpich"), ("reason", "steep")],
    )
    .await;
    let form = Form::new().text("meaning", "rain, mm").part("dem", part());
    let answer = site.post(&format!("/studies/{study}/weights")).multipart(form).send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::NO_CONTENT, "{}", answer.text().await.unwrap());
    let formula = "if on(lakes) = 1 then value(lakes, mean_depth) else order";
    send(site, study, "formulas/keep", &[("name", "depth"), ("formula", formula)]).await;
    send(
        site,
        study,
        "sheets",
        &[
            ("name", "Overview"),
            ("layout", "one"),
            ("size", "a4"),
            ("across", "yes"),
            ("layers", "relief,derived-depth,streams"),
        ],
    )
    .await;
    send(site, study, "report/own", &[("section", "network"), ("text", "As agreed in the field.")]).await;
    send(site, study, "route", &[]).await;
    assert_eq!(site.finish(study).await.state, "done");
    study
}

#[tokio::test(flavor = "multi_thread")]
async fn all_that_was_typed_is_told_and_made_again() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = typed(&site, dir.path(), "typed").await;
    let text = Made { site: &site, study }.gives_the_same_again(dir.path()).await;
    for key in [
        "time_of_concentration = \"kirpich\"",
        "curve_number = 61.0",
        "impervious = 0.25",
        "[[layers]]",
        "fields = [\"mean_depth\"]",
        "weights_meaning = \"rain, mm\"",
        "typed_inputs.gpkg#dams",
        "[[sheets]]",
        "As agreed in the field.",
    ] {
        assert!(text.contains(key), "{key}\n{text}");
    }
    let untold: Vec<&str> = text.lines().filter(|line| line.starts_with("# - ")).collect();
    assert!(untold.len() == 1 && untold[0].contains("which only the study can tell"), "{untold:?}");
    let out = dir.path().join(format!("out_{study}"));
    // The raster of the formula, cell by cell, and the points as they snapped.
    let ours = site.get(&format!("/studies/{study}/formulas/file/depth.tif")).await;
    assert_eq!(ours.status(), StatusCode::OK);
    std::fs::write(dir.path().join("ours.tif"), ours.bytes().await.unwrap()).unwrap();
    let cells = |path: std::path::PathBuf| {
        let dataset = gdal::Dataset::open(path).unwrap();
        let values = dataset.rasterband(1).unwrap().read_band_as::<f32>().unwrap();
        values.data().iter().map(|v| v.to_bits()).collect::<Vec<_>>()
    };
    let found = cells(out.join("derived_depth.tif"));
    assert!(found.contains(&2.5f32.to_bits()) && found.contains(&7.0f32.to_bits()));
    assert!(found == cells(dir.path().join("ours.tif")));
    send(&site, study, "package", &[]).await;
    assert_eq!(site.finish(study).await.state, "done");
    let zip = site.get(&format!("/studies/{study}/package.zip")).await.bytes().await.unwrap();
    let mut package = zip::ZipArchive::new(std::io::Cursor::new(zip)).unwrap();
    let mut run = zip::ZipArchive::new(std::fs::File::open(out.join("handover.zip")).unwrap()).unwrap();
    for name in ["subbasin_parameters", "nexuses", "pour_points", "measures", "class_shares"] {
        let ours = std::io::read_to_string(package.by_name(&format!("typed_{name}.csv")).unwrap()).unwrap();
        let theirs = std::io::read_to_string(run.by_name(&format!("{name}.csv")).unwrap()).unwrap();
        assert_eq!(ours, theirs, "{name}");
    }
    // The sheet shows the raster of the formula, and says so in its key.
    let summary = std::fs::read_to_string(out.join("summary.json")).unwrap();
    assert!(!summary.contains("has no layer"), "{summary}");
    let sheet =
        std::process::Command::new("pdftotext").arg(out.join("typed_sheet_1_overview.pdf")).arg("-").output();
    let sheet = String::from_utf8_lossy(&sheet.unwrap().stdout).into_owned();
    assert!(sheet.lines().any(|line| line == "depth"), "{sheet}");
    assert!(out.join("report.pdf").exists() && out.join("typed_sheet_1_overview.pdf").exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_recipe_is_kept_compared_and_begun_with_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let first = typed(&site, dir.path(), "First").await;
    let browser = browser().await;
    let driver = &browser.driver;
    let hand = Hand { driver };
    // Kept from the study; a name that is taken is refused.
    hand.opens(&site, first, "handover", "recipe").await;
    until(driver, "document.querySelector('#keep-recipe-name')").await;
    hand.types("#keep-recipe-name", "Moorland").await;
    hand.clicks("#keep-recipe button").await;
    until(driver, "document.querySelector('#keep-recipe-told')?.textContent.includes('Kept as “Moorland”')")
        .await;
    hand.clicks("#keep-recipe button").await;
    until(driver, "document.querySelector('#notice')?.textContent.includes('choose another name')").await;
    // Run to a step: nothing was out of date, then something is.
    hand.sends("/run-to/network", hand.clicks(".run-to[hx-post$='/network']")).await;
    let job = site.finish(first).await;
    assert!(
        job.state == "done"
            && job.message.contains("were up to date")
            && job.message.contains("reaches drawn"),
        "{}",
        job.message
    );
    let mut choices = vec![("sinks", "breach_then_fill"), ("breach_length_m", "60"), ("level_lakes", "on")];
    choices.extend([
        ("max_fill_depth_m", ""),
        ("breach_depth_m", ""),
        ("burn", ""),
        ("burn_depth_m", ""),
        ("burn_buffer_m", ""),
        ("burn_buffer_depth_m", ""),
    ]);
    send(&site, first, "conditioning", &choices).await;
    hand.opens(&site, first, "handover", "recipe").await;
    until(driver, "document.querySelector('.chain .stale')").await;
    hand.sends("/run-to/handover", hand.clicks(".run-to[hx-post$='/handover']")).await;
    let job = site.finish(first).await;
    assert_eq!(job.state, "done", "{}", job.message);
    for told in ["1 raster from formulas computed", "sub-basins measured"] {
        assert!(job.message.contains(told), "{}", job.message);
    }
    assert_eq!(site.get(&format!("/studies/{first}/package.zip")).await.status(), StatusCode::OK);
    until(driver, "document.querySelector('#recipe .chain') && !document.querySelector('.chain .stale')")
        .await;
    // The page of recipes.
    driver.goto(&site.base).await.unwrap();
    hand.clicks("#to-recipes").await;
    until(driver, "document.querySelector('#kept-recipes')?.textContent.includes('Moorland')").await;
    accessible(driver, "recipes").await;
    hand.clicks("#kept-recipes details.more summary").await;
    until(
        driver,
        "document.querySelector('#kept-recipes ol')?.textContent.includes('Delineate and measure')",
    )
    .await;
    hand.picks("#compare-first", "Moorland").await;
    hand.picks("#compare-second", "First").await;
    hand.clicks("#compare-them").await;
    until(driver, "document.querySelector('#compared-recipes')?.textContent.includes('conditioning.sinks')")
        .await;
    accessible(driver, "compared recipes").await;
    hand.clicks("#kept-recipes .edit summary").await;
    hand.types("#kept-recipes .edit [name=name]", "Moorland").await;
    hand.types("#kept-recipes .edit [name=about]", "for open ground").await;
    hand.clicks("#kept-recipes .edit button").await;
    until(
        driver,
        "document.querySelector('#kept-recipes li > p:not(.hint)')?.textContent === 'for open ground'",
    )
    .await;
    for file in ["zip", "toml"] {
        hand.clicks(&format!("#kept-recipes a[href$='/recipe.{file}']")).await;
    }
    // From a file: what is none is refused, and a zip of a study is kept.
    let zip = dir.path().join("again.zip");
    std::fs::write(&zip, site.get("/recipes/1/recipe.zip").await.bytes().await.unwrap()).unwrap();
    let text = dir.path().join("nonsense.toml");
    std::fs::write(&text, "version = 3").unwrap();
    hand.gives("#kept-file", &[&text]).await;
    assert_eq!(value(driver, "document.querySelector('#kept-name').value").await, "nonsense");
    hand.clicks("#keep-file button").await;
    until(driver, "document.querySelector('#notice')?.textContent.includes('terrain')").await;
    hand.gives("#kept-file", &[&zip]).await;
    hand.types("#kept-name", "A second one").await;
    hand.types("#kept-about", "to be deleted").await;
    hand.clicks("#keep-file button").await;
    until(driver, "document.querySelectorAll('#kept-recipes > li').length === 2").await;
    assert_eq!(site.get("/recipes/2/recipe.toml").await.status(), StatusCode::OK);
    driver.execute("window.confirm = () => true", Vec::new()).await.unwrap();
    hand.clicks("#kept-recipes > li .danger").await;
    until(driver, "document.querySelectorAll('#kept-recipes > li').length === 1").await;
    // A study begins with it: the DEM is half as fine and reaches less far.
    let frame =
        Frame { rows: 150, cols: 150, left: 500_000.0, top: 4_760_000.0, cell_size: 20.0, unit_m: 1.0 };
    let valley = crate::support::valley();
    let coarse = Grid::from_fn(150, 150, |c| valley.values()[(c.row * 2) * FRAME.cols + c.col * 2]);
    let other = crate::support::written(dir.path(), "coarse.tif", &coarse, &frame);
    hand.clicks("#kept-recipes a[href^='/?recipe=']").await;
    until(driver, "document.querySelector('.with-recipe')?.textContent.includes('Moorland')").await;
    hand.gives("#files", &[&other]).await;
    hand.clicks(".new-study button[type=submit]").await;
    until(driver, "document.querySelector('#misfits')?.textContent.includes('300 cells are 0.1200 km²')")
        .await;
    let second = site.store().studies().await.unwrap().iter().map(|s| s.id).max().unwrap();
    driver.execute("window.confirm = () => true", Vec::new()).await.unwrap();
    hand.sends("/take-up", hand.clicks("#recipe-take-up")).await;
    let job = site.finish(second).await;
    assert_eq!(job.state, "done", "{}", job.message);
    let row = site.store().study(second).await.unwrap();
    let settings = &row.settings;
    assert_eq!(settings["concentration"]["formula"], "kirpich", "{}", job.message);
    assert_eq!(settings["weights"]["meaning"], "rain, mm", "{}", job.message);
    assert_eq!(settings["report"]["own"]["network"], "As agreed in the field.");
    let cover = settings["rasters"].as_array().unwrap().iter().find(|r| r["name"] == "Cover").unwrap();
    assert_eq!(cover["lookup"][0]["curve_number"], 70.0, "{cover}");
    assert!(settings["rasters"].as_array().unwrap().iter().any(|r| r["name"] == "depth"), "{}", job.message);
    let points = site.store().pour_points(second).await.unwrap();
    let snapped: Vec<_> = points.iter().map(|p| (p.name.as_str(), p.snap_m, p.snap_to.as_str())).collect();
    assert_eq!(snapped, [("mouth", 70.0, "largest"), ("upper", 30.0, "nearest_stream")]);
    let sheets = site.get(&format!("/studies/{second}/sheets")).await.text().await.unwrap();
    assert!(sheets.contains("Overview"), "{}", job.message);
    assert!(site.store().raster(second, RasterRole::Weighted).await.unwrap().is_some());
    // A recipe that is gone is not there.
    assert_eq!(site.get("/recipes/77/recipe.zip").await.status(), StatusCode::NOT_FOUND);
    assert_eq!(site.get("/?recipe=77").await.status(), StatusCode::NOT_FOUND);
}
