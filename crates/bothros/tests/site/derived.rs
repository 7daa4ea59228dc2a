//! Rasters from formulas in a study: typed, looked at, kept, used; and what cannot be one.

use reqwest::StatusCode;
use serde_json::{Value, json};
use thirtyfour::prelude::*;

use crate::support::browser::{accessible, browser, press, until, value};
use crate::support::hand::Hand;
use crate::support::{Site, valley_file};

/// What looking at a formula tells.
async fn looked(site: &Site, study: i64, formula: &str) -> Value {
    let all = [("formula", formula), ("west", "0"), ("south", "0"), ("east", "9e9"), ("north", "9e9")];
    let (status, text) = site.send(&format!("/studies/{study}/formulas/look"), &all).await;
    assert_eq!(status, StatusCode::OK, "{formula}: {text}");
    serde_json::from_str(&text).unwrap()
}

async fn kept(site: &Site, study: i64, name: &str, formula: &str, earlier: &str) -> (StatusCode, String) {
    let all = [("name", name), ("formula", formula), ("earlier", earlier)];
    site.send(&format!("/studies/{study}/formulas/keep"), &all).await
}

/// The cells of a derived raster as it is saved.
async fn cells(site: &Site, study: i64, name: &str) -> Vec<f32> {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("derived.tif");
    let answer = site.get(&format!("/studies/{study}/formulas/file/{name}.tif")).await;
    assert_eq!(answer.status(), StatusCode::OK, "{name}");
    std::fs::write(&path, answer.bytes().await.unwrap()).unwrap();
    let metre = bothros_formats::VerticalUnit::Metre;
    let read = bothros_formats::read_elevation(&path, name, 1, metre, &bothros_core::Silent).unwrap();
    read.values().to_vec()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_formula_is_typed_looked_at_kept_and_used_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Formulas").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "network", "threshold").await;
    // The key opens it, and the field has the focus.
    press(driver, "=").await;
    until(
        driver,
        "!document.getElementById('formula').hidden && document.activeElement.id === 'formula-text'",
    )
    .await;
    until(driver, "document.getElementById('formula-kept').textContent.includes('Nothing is kept yet')")
        .await;
    // Names are offered while they are typed, and taken by key.
    hand.writes("log10(contr").await;
    until(driver, "document.querySelectorAll('#formula-offers li').length === 1").await;
    until(driver, "document.getElementById('formula-said').classList.contains('warn')").await;
    hand.writes(String::new() + Key::Tab).await;
    until(driver, "document.getElementById('formula-text').value === 'log10(contributing_area'").await;
    // What is wrong is marked under its very character.
    until(driver, "document.querySelector('.mirror mark')?.textContent === '('").await;
    hand.writes(")").await;
    until(driver, "document.getElementById('formula').dataset.of").await;
    until(driver, "document.getElementById('formula-unit').textContent === 'a number without a unit'").await;
    until(driver, "document.querySelector('#formula-histogram svg')").await;
    until(driver, "bothrosMap.layers.formula.getVisible() && bothrosMap.layers.formula.getSource()").await;
    let figures = value(driver, "document.getElementById('formula-figures').textContent").await;
    assert!(figures.as_str().unwrap().contains("cells with a value"), "{figures}");
    accessible(driver, "a formula").await;
    // A click on what is offered does the same; nothing is stored yet.
    hand.writes(" + slop").await;
    until(driver, "document.querySelector('#formula-offers li')").await;
    hand.clicks("#formula-offers li").await;
    until(driver, "document.getElementById('formula-text').value.endsWith('+ slope')").await;
    let map: Value = site.get(&format!("/studies/{study}/map")).await.json().await.unwrap();
    assert_eq!(map["derived"], json!([]));
    // Kept.
    hand.types("#formula-name", "log_area").await;
    hand.sends("/formulas/keep", hand.clicks("#formula-keep button")).await;
    until(driver, "document.querySelector('[data-formula-edit=log_area]')").await;
    until(driver, "bothrosMap.layers['derived-log_area']").await;
    // Drawn like any layer, with its ends in its key.
    hand.clicks("[data-formula-draw=log_area]").await;
    until(driver, "bothrosMap.layers['derived-log_area'].getVisible() && bothrosMap.layers['derived-log_area'].getSource()").await;
    until(driver, "document.querySelector('#drawn [data-layer=derived-log_area]').checked").await;
    // Changed: others follow.
    hand.clicks("#formula-new").await;
    until(driver, "document.getElementById('formula-text').value === ''").await;
    hand.clicks("#formula-text").await;
    hand.writes("2 * log_area").await;
    hand.types("#formula-name", "twice").await;
    until(driver, "!document.querySelector('#formula-keep button').disabled").await;
    hand.sends("/formulas/keep", hand.clicks("#formula-keep button")).await;
    let before = cells(&site, study, "twice").await;
    until(driver, "document.querySelector('[data-formula-edit=twice]')").await;
    hand.clicks("[data-formula-edit=log_area]").await;
    until(driver, "document.getElementById('formula-text').value.includes('contributing_area')").await;
    hand.writes(Key::Control + "a").await;
    hand.writes(String::new() + Key::Backspace).await;
    hand.writes("10 * slope").await;
    until(driver, "!document.querySelector('#formula-keep button').disabled").await;
    hand.sends("/formulas/keep", hand.clicks("#formula-keep button")).await;
    let after = cells(&site, study, "twice").await;
    assert!(before != after);
    // A new one again; what cannot be computed is counted, and shown.
    hand.clicks("#formula-new").await;
    until(driver, "document.getElementById('formula-text').value === ''").await;
    hand.clicks("#formula-text").await;
    hand.writes("ln(accumulation)").await;
    until(
        driver,
        "document.getElementById('formula-odd').textContent.includes('logarithm of zero or less in')",
    )
    .await;
    hand.clicks("[data-formula-odd]").await;
    until(driver, "document.querySelector('.mirror mark')?.textContent === 'ln(accumulation)'").await;
    // Ctrl and space offers everything.
    hand.clicks("#formula-text").await;
    hand.writes(Key::Control + "a").await;
    hand.writes(String::new() + Key::Backspace).await;
    hand.writes(Key::Control + " ").await;
    until(driver, "document.querySelectorAll('#formula-offers li').length > 20").await;
    hand.writes(String::new() + Key::Escape).await;
    until(driver, "document.getElementById('formula-offers').hidden").await;
    // Used.
    hand.clicks("#uses-log_area > summary").await;
    hand.sends("/formulas/weights", hand.clicks("[data-formula-weights=log_area]")).await;
    let facts = bothros_workflow::Facts::of(&site.store().study(study).await.unwrap()).unwrap();
    assert_eq!(facts.settings.weights.unwrap().file, "log_area.tif");
    until(driver, "document.querySelector('[data-formula-file=log_area]')").await;
    // Fetched anew since, it is still unfolded. One that another is computed from stays.
    until(driver, "document.querySelector('#uses-log_area').open").await;
    hand.clicks("[data-formula-remove=log_area]").await;
    until(
        driver,
        "document.getElementById('notice').textContent.includes('twice is computed from log_area')",
    )
    .await;
    hand.clicks("#notice button").await;
    hand.clicks("#uses-twice > summary").await;
    hand.sends("/formulas/remove", hand.clicks("[data-formula-remove=twice]")).await;
    until(driver, "!document.querySelector('[data-formula-edit=twice]')").await;
    // Undo brings it back.
    hand.sends("/undo", press(driver, Key::Control + "z")).await;
    until(driver, "document.querySelector('[data-formula-edit=twice]')").await;
    hand.clicks("[data-close-formula]").await;
    until(driver, "document.getElementById('formula').hidden && !bothrosMap.layers.formula.getVisible()")
        .await;
    hand.clicks("#open-formula").await;
    until(driver, "!document.getElementById('formula').hidden").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn derived_rasters_go_wherever_rasters_go() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Used").await;
    let at = [("x", "502005"), ("y", "4757500")];
    let (status, text) = site.send(&format!("/studies/{study}/pour-points"), &at).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    for (name, formula) in [
        ("log_area", "log10(contributing_area)"),
        ("numbers", "40 + 30 * slope / max(slope)"),
        ("near", "if distance(streams) < 100 then max(elevation within 50 m) - elevation else none"),
        ("largest", "max(accumulation along streams)"),
        ("lowered", "if on(streams) = 1 then elevation - 5 else elevation"),
    ] {
        let (status, text) = kept(&site, study, name, formula, "").await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{name}: {text}");
    }
    // Figures of catchments.
    let points = site.store().pour_points(study).await.unwrap();
    let zonal =
        site.get(&format!("/studies/{study}/pour-points/{}/zonal", points[0].id)).await.text().await.unwrap();
    assert!(zonal.contains("log_area") && zonal.contains("numbers"), "{zonal}");
    // Curve numbers.
    let facts = bothros_workflow::Facts::of(&site.store().study(study).await.unwrap()).unwrap();
    let how = bothros_workflow::Concentration {
        curve_number_raster: Some("numbers".into()),
        ..facts.settings.concentration.clone()
    };
    bothros_workflow::set_concentration(site.store(), &site.running.grids, study, how).await.unwrap();
    // Sheets offer them.
    let facts = bothros_workflow::Facts::of(&site.store().study(study).await.unwrap()).unwrap();
    let layers = bothros_workflow::sheet_layers(site.store(), &facts, None).await.unwrap();
    assert!(layers.iter().any(|l| l.key == "derived-near"), "{layers:?}");
    // The package has them, and its recipe gives the same cells.
    site.send(&format!("/studies/{study}/package"), &[]).await;
    assert_eq!(site.finish(study).await.state, "done");
    let zip = site.get(&format!("/studies/{study}/package.zip")).await.bytes().await.unwrap();
    let package = dir.path().join("package");
    zip::ZipArchive::new(std::io::Cursor::new(zip)).unwrap().extract(&package).unwrap();
    let out = dir.path().join("again");
    let done = std::process::Command::new(env!("CARGO_BIN_EXE_bothros"))
        .args(["run", package.join("used_recipe.toml").to_str().unwrap(), "--out", out.to_str().unwrap()])
        .output()
        .unwrap();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let read = |path: std::path::PathBuf| {
        let metre = bothros_formats::VerticalUnit::Metre;
        bothros_formats::read_elevation(&path, "derived", 1, metre, &bothros_core::Silent)
            .unwrap()
            .values()
            .to_vec()
    };
    for name in ["log_area", "numbers", "near", "largest", "lowered"] {
        let ours = read(package.join(format!("used_derived_{name}.tif")));
        let again = read(out.join(format!("derived_{name}.tif")));
        assert_eq!(ours.len(), again.len());
        let differ = ours
            .iter()
            .zip(&again)
            .filter(|(a, b)| a.to_bits() != b.to_bits() && !(a.is_nan() && b.is_nan()));
        assert_eq!(differ.count(), 0, "{name}");
        assert!(ours.iter().any(|v| !v.is_nan()), "{name}");
    }
    // Another DEM, in metres alone.
    let dem = |name: &'static str| [("name", name)];
    let (status, text) = site.send(&format!("/studies/{study}/formulas/dem"), &dem("log_area")).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(text.contains("a DEM is in m"), "{text}");
    let (status, text) = site.send(&format!("/studies/{study}/formulas/dem"), &dem("lowered")).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    assert_eq!(site.finish(study).await.state, "done");
    assert_eq!(site.store().candidates(study).await.unwrap().len(), 1);
    let facts = bothros_workflow::Facts::of(&site.store().study(study).await.unwrap()).unwrap();
    let source = facts.source.unwrap();
    assert_eq!(source.file, "lowered.tif");
    assert!(source.provenance.source.contains("then elevation - 5 else"), "{:?}", source.provenance);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_a_formula_is_told() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Wrong").await;
    for (formula, from, told) in [
        ("elevatoin * 2", 0, "there is no raster elevatoin"),
        ("1 + (2", 4, "never closed"),
        ("elevation + contributing_area", 0, "cannot be added"),
        ("2 * ln", 4, "is a function"),
        ("mean(elevation within 9 km)", 0, "within 200 cells at most"),
        ("max(elevation along lakes)", 20, "there is no layer lakes"),
        ("streams", 0, "is a layer"),
    ] {
        let found = looked(&site, study, formula).await;
        assert_eq!(found["error"]["from"], json!(from), "{formula}: {found}");
        assert!(found["error"]["what"].as_str().unwrap().contains(told), "{formula}: {found}");
    }
    let many = format!("1{}", "+1".repeat(1000));
    assert!(looked(&site, study, &many).await["error"]["what"].as_str().unwrap().contains("500 operations"));
    // Names.
    for (name, told) in [
        ("", "is no name"),
        ("Area", "is no name"),
        ("ln", "is a function"),
        ("slope", "already"),
        ("streams", "already"),
        ("if", "a word of formulas"),
    ] {
        let (status, text) = kept(&site, study, name, "slope * 2", "").await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{name}");
        assert!(text.contains(told), "{name}: {text}");
    }
    // A circle is told with its way, and nothing is lost.
    for (name, formula) in [("a", "slope * 2"), ("b", "a + 1"), ("c", "b + a")] {
        assert_eq!(kept(&site, study, name, formula, "").await.0, StatusCode::NO_CONTENT);
    }
    let (status, text) = kept(&site, study, "a", "c - 1", "a").await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(text.contains("a would be computed from itself: a → c → "), "{text}");
    let (_, text) = kept(&site, study, "a", "a * 2", "a").await;
    assert!(text.contains("a → a"), "{text}");
    // A change that would make another one wrong; a name that another one says.
    let (_, text) = kept(&site, study, "a", "elevation", "a").await;
    assert!(text.contains("which names it, would be wrong"), "{text}");
    let (_, text) = kept(&site, study, "z", "slope * 2", "a").await;
    assert!(text.contains("b is computed from a"), "{text}");
    let names = site.get(&format!("/studies/{study}/formulas")).await.text().await.unwrap();
    assert!(names.contains("slope * 2") && names.contains("b + a"), "{names}");
    // Weights are not below 0.
    assert_eq!(kept(&site, study, "below", "slope - 9", "").await.0, StatusCode::NO_CONTENT);
    let (status, text) = site.send(&format!("/studies/{study}/formulas/weights"), &[("name", "below")]).await;
    assert!(status.is_client_error() && text.contains("below 0"), "{text}");
    let none = site.get(&format!("/studies/{study}/formulas/file/nothing.tif")).await;
    assert!(none.status().is_client_error());
    let none = site.get(&format!("/studies/{study}/formulas/range?name=nothing")).await;
    assert_eq!(none.status(), StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_study_is_told_as_a_recipe_and_its_steps_lead_to_their_places() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Told again").await;
    for (name, formula) in
        [("wet", "ln(contributing_area)"), ("lower", "elevation - 1"), ("lakes_m", "wet * 2")]
    {
        assert_eq!(kept(&site, study, name, formula, "").await.0, StatusCode::NO_CONTENT);
    }
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "handover", "package").await;
    hand.clicks("[data-to-section=recipe]").await;
    until(driver, "document.querySelectorAll('.chain li').length === 7").await;
    let chain = value(driver, "document.querySelector('.chain').innerText").await;
    let chain = chain.as_str().unwrap();
    for told in [
        "Prepare the DEM",
        "sinks filled",
        "threshold 1200 cells",
        "wet = ln(contributing_area)",
        "derived_lakes_m.tif",
    ] {
        assert!(chain.contains(told), "{told}: {chain}");
    }
    // Its text is a recipe, in which formulas stand after those that they name.
    hand.clicks("#recipe-text summary").await;
    until(driver, "document.querySelector('#recipe-text pre').innerText.includes('dem = [')").await;
    hand.clicks("#save-recipe").await;
    let text = site.get(&format!("/studies/{study}/recipe.toml")).await.text().await.unwrap();
    assert!(text.contains("name = \"wet\"") && text.find("\"wet\"") < text.find("wet * 2"), "{text}");
    // The package holds the same but for its pages, from the prepared DEM on.
    site.send(&format!("/studies/{study}/package"), &[]).await;
    assert_eq!(site.finish(study).await.state, "done");
    let zip = site.get(&format!("/studies/{study}/package.zip")).await.bytes().await.unwrap();
    let mut zip = zip::ZipArchive::new(std::io::Cursor::new(zip)).unwrap();
    let mut packed = String::new();
    std::io::Read::read_to_string(&mut zip.by_name("told_recipe.toml").unwrap(), &mut packed).unwrap();
    let after = |of: &str| of[of.find("[conditioning]").unwrap()..].to_owned();
    assert_eq!(after(&packed), after(&text));
    assert!(packed.contains("told_dem.tif") && text.contains("told_dem_1_valley.tif"), "{packed}\n{text}");
    // What is out of date is marked, and can be brought up to date from there.
    let (status, _) = site.send(&format!("/studies/{study}/formulas/weights"), &[("name", "wet")]).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    hand.opens(&site, study, "handover", "recipe").await;
    until(driver, "document.querySelectorAll('.chain li.stale').length === 6").await;
    hand.sends("/route", hand.clicks("#recipe-route")).await;
    until(driver, "document.querySelector('.chain') && !document.querySelector('.chain li.stale')").await;
    hand.clicks(".chain li:nth-child(4) a").await;
    until(driver, "document.getElementById('study').dataset.stage === 'network'").await;
    // A raster in metres becomes another DEM, once that is agreed to.
    hand.clicks("#open-formula").await;
    until(driver, "document.querySelector('[data-formula-dem=lower]')").await;
    hand.clicks("[data-formula-file=lower]").await;
    hand.clicks("[data-formula-dem=lower]").await;
    hand.agrees().await;
    until(driver, "document.getElementById('rail').innerText.includes('Terrain')").await;
    for _ in 0..100 {
        if site.store().candidates(study).await.unwrap().len() == 1 {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    panic!("no other DEM was begun");
}
