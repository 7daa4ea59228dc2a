//! The Handover stage: what a package rests on.

use reqwest::StatusCode;

use crate::support::{Site, valley_file};

#[tokio::test(flavor = "multi_thread")]
async fn a_package_is_up_to_date_while_the_study_is_what_it_was_written_from() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "rests").await;
    let send = async |path: &str, form: &[(&str, &str)]| {
        let (status, text) = site.send(&format!("/studies/{study}/{path}"), form).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{path}: {text}");
    };
    let write = async || {
        send("package", &[]).await;
        assert_eq!(site.finish(study).await.state, "done");
    };
    let told = async || {
        let rail = site.get(&format!("/studies/{study}/rail")).await.text().await.unwrap();
        let start = site.get("/").await.text().await.unwrap();
        let both = [rail, start].map(|page| page.contains("package written"));
        assert_eq!(both[0], both[1], "the rail and the start page say the same");
        both[0]
    };
    send("pour-points", &[("x", "502005"), ("y", "4757500"), ("name", "Mill")]).await;
    write().await;
    assert!(told().await);
    // How the map is drawn changes nothing, nor does a choice that is taken back.
    send("style", &[("style", "{\"relief\":{\"azimuth\":200}}")]).await;
    assert!(told().await);
    send("threshold", &[("cells", "777")]).await;
    assert!(!told().await);
    send("undo", &[]).await;
    assert!(told().await, "it is again what it was");
    // Nothing of this was in the log of the Handover stage.
    let point = site.store().pour_points(study).await.unwrap()[0].id;
    send(&format!("pour-points/{point}/rename"), &[("name", "Weir")]).await;
    assert!(!told().await);
    write().await;
    assert!(told().await);
    send("trials", &[]).await;
    assert!(!told().await, "trials are part of the package");
    // What is changed while it is written makes it out of date at once.
    send("package", &[]).await;
    send(&format!("pour-points/{point}/rename"), &[("name", "Ford")]).await;
    assert_eq!(site.finish(study).await.state, "done");
    if told().await {
        // The job began after the change: the package has the new name.
        let zip = site.get(&format!("/studies/{study}/package.zip")).await.bytes().await.unwrap();
        let mut archive = zip::ZipArchive::new(std::io::Cursor::new(zip)).unwrap();
        let mut table = String::new();
        std::io::Read::read_to_string(&mut archive.by_name("rests_catchments.csv").unwrap(), &mut table)
            .unwrap();
        assert!(table.contains("Ford"), "{table}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_catchment_is_handed_out_alone() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "alone").await;
    let send = async |path: &str, form: &[(&str, &str)]| {
        let (status, text) = site.send(&format!("/studies/{study}/{path}"), form).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{path}: {text}");
    };
    send("threshold", &[("cells", "300")]).await;
    for (y, name) in [("4757500", "mouth"), ("4758700", "upper"), ("4757100", "below")] {
        send("pour-points", &[("x", "502005"), ("y", y), ("name", name)]).await;
    }
    send("tables/subbasin_parameters/set", &[("column", "impervious_share"), ("value", "20")]).await;
    send("tables/flowpaths/set", &[("column", "roughness"), ("value", "0.06")]).await;
    let package = async |to: &str| {
        send("package", &[]).await;
        let job = site.finish(study).await;
        assert_eq!(job.state, "done", "{}", job.message);
        let zip = site.get(&format!("/studies/{study}/package.zip")).await.bytes().await.unwrap();
        let dir = dir.path().join(to);
        zip::ZipArchive::new(std::io::Cursor::new(zip)).unwrap().extract(&dir).unwrap();
        dir
    };
    let whole = package("whole").await;
    let browser = crate::support::browser::browser().await;
    let hand = crate::support::hand::Hand { driver: &browser.driver };
    hand.opens(&site, study, "handover", "package").await;
    hand.sends("/package/alone", hand.picks("#alone", "of catchment 1")).await;
    let part = package("part").await;
    let told = crate::support::python(
        "alone.py",
        &[whole.to_str().unwrap(), part.to_str().unwrap(), "alone", "mouth", "upper"],
    );
    assert!(told.ends_with("agree\n"), "{told}");
    let readme = std::fs::read_to_string(part.join("README.txt")).unwrap();
    assert!(readme.contains("The catchment of mouth alone"), "{readme}");
    // What was typed for other land is missing here, and not gone; what was typed for this land holds.
    assert!(!readme.contains("gone"), "{readme}");
    let flowpaths = std::fs::read_to_string(part.join("alone_flowpaths.csv")).unwrap();
    assert!(
        flowpaths.lines().count() > 1 && flowpaths.lines().skip(1).all(|l| l.contains("0.0600")),
        "{flowpaths}"
    );
    // A copy hands out its own point's; without the point it is asked for anew.
    let (status, _) = site.send(&format!("/studies/{study}/duplicate"), &[]).await;
    assert!(status.is_success() || status.is_redirection(), "{status}");
    let copy = site.store().studies().await.unwrap().iter().map(|s| s.id).max().unwrap();
    let point = site.store().pour_points(copy).await.unwrap()[0].id;
    let settings = site.store().study(copy).await.unwrap().settings;
    assert_eq!(settings["handover"]["alone"].as_i64(), Some(point), "{settings}");
    let own = site.store().pour_points(study).await.unwrap()[0].id;
    send(&format!("pour-points/{own}/delete"), &[]).await;
    send("package", &[]).await;
    let job = site.finish(study).await;
    assert!(job.state == "failed" && job.message.contains("is gone"), "{} {}", job.state, job.message);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_recipe_in_a_package_gives_the_package_again() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = modelled(&site, dir.path(), "again").await;
    let send = async |path: &str, form: &[(&str, &str)]| {
        let (status, text) = site.send(&format!("/studies/{study}/{path}"), form).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{path}: {text}");
    };
    // Everything that shapes the ground and has a key in a recipe.
    let stream = crate::support::geojson(&[&crate::support::STREAM]);
    let (status, told) =
        crate::support::add_layer(&site, study, "mapped_streams", &[("streams.geojson", stream)]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    for (role, line) in [
        ("walls", "[[501005,4758800],[501005,4758200]]"),
        ("breach_lines", "[[502605,4758550],[502405,4758440]]"),
        ("lakes", "[[503000,4758500],[503200,4758500],[503200,4758300],[503000,4758300],[503000,4758500]]"),
        (
            "closed_basins",
            "[[500650,4757650],[500950,4757650],[500950,4757500],[500650,4757500],[500650,4757650]]",
        ),
    ] {
        send("draw", &[("role", role), ("line", line)]).await;
    }
    let choices = [
        ("sinks", "breach_then_fill"),
        ("max_fill_depth_m", ""),
        ("breach_length_m", "60"),
        ("breach_depth_m", "4"),
        ("burn", "graded"),
        ("burn_depth_m", "5"),
        ("burn_buffer_m", "30"),
        ("burn_buffer_depth_m", "2"),
        ("level_lakes", "on"),
    ];
    send("conditioning", &choices).await;
    send("route", &[]).await;
    assert_eq!(site.finish(study).await.state, "done");
    send("concentration", &[("formula", "temez"), ("reason", "made for basins of this size")]).await;
    // Parameters of the scheme as a whole and of single elements, cross-sections, and a dam with its lake.
    send(
        "scheme/model",
        &[
            ("shortest", "50"),
            ("impervious", "5"),
            ("roughness", "0.05"),
            ("width", "2"),
            ("exponent", "0.4"),
            ("side_slope", "1.5"),
            ("spill_width", "8"),
            ("section_spacing", "400"),
            ("section_half_width", "50"),
        ],
    )
    .await;
    let mill = site.store().pour_points(study).await.unwrap().into_iter().find(|p| p.name == "mill").unwrap();
    let found = mill.catchment.unwrap();
    let (x, y) = (found["x"].as_f64().unwrap(), found["y"].as_f64().unwrap());
    let dam = format!("[[{},{y}],[{},{y}]]", x - 90.0, x + 90.0);
    let (w, e, s, n) = (x - 50.0, x + 50.0, y + 12.0, y + 90.0);
    let lake = format!("[[{w},{n}],[{e},{n}],[{e},{s}],[{w},{s}],[{w},{n}]]");
    for (role, line) in [("dams", &dam), ("lakes", &lake)] {
        send("draw", &[("role", role), ("line", line)]).await;
    }
    send("route", &[]).await;
    assert_eq!(site.finish(study).await.state, "done");
    send("tables/flowpaths/set", &[("column", "roughness"), ("value", "0.06"), ("row", "2")]).await;
    send("tables/subbasin_parameters/set", &[("column", "impervious_share"), ("value", "20"), ("row", "3")])
        .await;
    let text = gives_the_package_again(&site, study, dir.path(), "again").await;
    for key in ["breach_lines", "walls", "lakes", "closed_basins", "burn", "pour_points", "breach_then_fill"]
    {
        assert!(text.contains(key), "{key}: {text}");
    }
    for key in [
        "time_of_concentration = \"temez\"",
        "[handover.model]",
        "section_spacing_m = 400.0",
        "[[handover.typed]]",
        "parameter = \"roughness\"",
        "again_inputs.gpkg#dams",
    ] {
        assert!(text.contains(key), "{key}: {text}");
    }
    assert!(!text.contains("does not tell"), "{text}");
    let handed = |name: &str| std::fs::read_to_string(dir.path().join("handed").join(name)).unwrap();
    assert!(handed("nexuses.csv").contains("storage"), "{}", handed("nexuses.csv"));
    assert!(handed("flowpaths.csv").contains("0.0600"), "{}", handed("flowpaths.csv"));
    let sections = std::fs::read_to_string(dir.path().join("package/again_cross_sections.csv")).unwrap();
    assert!(sections.lines().count() > 20 && sections == handed("cross_sections.csv"));
    // What a recipe cannot tell is said in it.
    send("package/directions", &[("directions", "degrees")]).await;
    let text = site.get(&format!("/studies/{study}/recipe.toml")).await.text().await.unwrap();
    assert!(text.contains("# - how flow directions are coded"), "{text}");
}

/// Writes a package, runs the recipe in it from where it was unpacked, to `out`, and holds the tables of both against each other; the recipe's text.
pub(crate) async fn gives_the_package_again(
    site: &Site,
    study: i64,
    dir: &std::path::Path,
    short: &str,
) -> String {
    let zip = package(site, study).await;
    let (unpacked, out, handed) = (dir.join("package"), dir.join("out"), dir.join("handed"));
    for old in [&unpacked, &out, &handed] {
        if old.exists() {
            std::fs::remove_dir_all(old).unwrap();
        }
    }
    zip::ZipArchive::new(std::io::Cursor::new(&zip)).unwrap().extract(&unpacked).unwrap();
    let text = std::fs::read_to_string(unpacked.join(format!("{short}_recipe.toml"))).unwrap();
    // As its head says: from where it was unpacked to.
    let run = std::process::Command::new(env!("CARGO_BIN_EXE_bothros"))
        .current_dir(&unpacked)
        .args(["run", &format!("{short}_recipe.toml"), "--out"])
        .arg(&out)
        .output()
        .unwrap();
    assert!(run.status.success(), "{}\n{text}", String::from_utf8_lossy(&run.stderr));
    let file = std::fs::File::open(out.join("handover.zip")).unwrap();
    zip::ZipArchive::new(file).unwrap().extract(&handed).unwrap();
    for name in [
        "subbasin_parameters",
        "flowpaths",
        "nexuses",
        "connectivity",
        "hypsometry",
        "area_distance",
        "pour_points",
        "measures",
    ] {
        let read = |path: std::path::PathBuf| std::fs::read_to_string(path).unwrap();
        let ours = read(unpacked.join(format!("{short}_{name}.csv")));
        assert_eq!(ours, read(handed.join(format!("{name}.csv"))), "{name}");
        assert!(ours.lines().count() > 3, "{name}: {ours}");
    }
    text
}

/// A study with sub-basins of reaches and two named pour points; its package is unpacked to a directory.
pub(crate) async fn modelled(site: &Site, dir: &std::path::Path, name: &str) -> i64 {
    let study = site.routed(&valley_file(dir), name).await;
    let send = async |path: &str, form: &[(&str, &str)]| {
        let (status, text) = site.send(&format!("/studies/{study}/{path}"), form).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{path}: {text}");
    };
    send("threshold", &[("cells", "300")]).await;
    for (y, name) in [
        ("4757500", "mouth"),
        ("4758700", "upper"),
        ("4758400", "mill"),
        ("4758100", "ford"),
        ("4757800", "bridge"),
    ] {
        send("pour-points", &[("x", "502005"), ("y", y), ("name", name)]).await;
    }
    send("concentration", &[("curve_number", "78")]).await;
    send("subbasins/division", &[("division", "reaches"), ("target_km2", ""), ("outline", "cells")]).await;
    study
}

async fn package(site: &Site, study: i64) -> Vec<u8> {
    let (status, text) = site.send(&format!("/studies/{study}/package"), &[]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    let job = site.finish(study).await;
    assert_eq!(job.state, "done", "{}", job.message);
    site.get(&format!("/studies/{study}/package.zip")).await.bytes().await.unwrap().to_vec()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_package_holds_a_model_that_others_can_check_and_that_proves_itself() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = modelled(&site, dir.path(), "model").await;
    let zip = package(&site, study).await;
    let unpacked = dir.path().join("package");
    zip::ZipArchive::new(std::io::Cursor::new(&zip)).unwrap().extract(&unpacked).unwrap();
    let told = crate::support::python("model.py", &[unpacked.to_str().unwrap(), "model"]);
    assert!(told.ends_with("agree\n"), "{told}");

    let file = dir.path().join("handover.zip");
    std::fs::write(&file, &zip).unwrap();
    let prove = |package: &std::path::Path, more: &[&str]| {
        std::process::Command::new(env!("CARGO_BIN_EXE_bothros"))
            .arg("prove")
            .arg(package)
            .args(more)
            .output()
            .unwrap()
    };
    let done = prove(&file, &[]);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let proof: serde_json::Value =
        serde_json::from_slice(&std::fs::read(dir.path().join("proof.json")).unwrap()).unwrap();
    assert!(proof["balance"]["error_share"].as_f64().unwrap() < 0.001, "{proof}");
    let nexuses = proof["nexuses"].as_array().unwrap();
    let of = |name: &str| nexuses.iter().find(|n| n["name"] == name).unwrap()["peak_m3s"].as_f64().unwrap();
    assert!(of("mouth") > of("upper") && of("upper") > 0.0, "{proof}");
    // Rain falls on all land: 60 mm on the area of the catchment of the mouth.
    let mouth = nexuses.iter().find(|n| n["name"] == "mouth").unwrap();
    let rain = proof["balance"]["rain_m3"].as_f64().unwrap();
    assert!((rain / (mouth["area_km2"].as_f64().unwrap() * 60_000.0) - 1.0).abs() < 1e-6, "{proof}");
    // The same from the directory, and beside another package.
    let done = prove(&unpacked, &["--compare", file.to_str().unwrap(), "--rain-mm", "30"]);
    let told = String::from_utf8_lossy(&done.stdout).into_owned();
    assert!(done.status.success() && told.contains("mouth: peak") && told.contains("(+0.0 %)"), "{told}");

    // A package that was edited by hand is refused in words, with the line or the element.
    let edit = |table: &str, change: &dyn Fn(&str) -> String| {
        let path = unpacked.join(format!("model_{table}.csv"));
        let before = std::fs::read_to_string(&path).unwrap();
        std::fs::write(&path, change(&before)).unwrap();
        let done = prove(&unpacked, &[]);
        std::fs::write(&path, before).unwrap();
        (done.status.code(), String::from_utf8_lossy(&done.stderr).into_owned())
    };
    let first_flowpath = |text: &str, to: &str| {
        let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
        let mut values: Vec<String> = lines[1].split(',').map(str::to_owned).collect();
        values[2] = to.into();
        lines[1] = values.join(",");
        lines.join("\n")
    };
    for (told, expected) in [
        (edit("flowpaths", &|t| first_flowpath(t, "1")), "comes back to it"),
        (edit("flowpaths", &|t| first_flowpath(t, "9999")), "which does not exist"),
        (edit("flowpaths", &|t| first_flowpath(t, "down")), "line 2: to_nexus_id “down” is not a number"),
        (edit("nexuses", &|t| t.replace("station", "spring")), "“spring” is not known"),
        (edit("subbasin_parameters", &|t| t.replace("78.0000", "178.0000")), "is 178, outside 1 to 100"),
        (edit("nexuses", &|_| String::new()), "cannot be run"),
    ] {
        assert_eq!(told.0, Some(3), "{expected}: {}", told.1);
        assert!(told.1.contains(expected), "{expected}: {}", told.1);
    }
    std::fs::remove_file(unpacked.join("model_flowpaths.csv")).unwrap();
    let done = prove(&unpacked, &[]);
    assert!(String::from_utf8_lossy(&done.stderr).contains("no table flowpaths"));
    assert_eq!(prove(&file, &["--step-min", "0"]).status.code(), Some(2));
    assert_eq!(prove(&dir.path().join("nothing.zip"), &[]).status.code(), Some(3));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_scheme_is_looked_at_and_proved_by_hand() {
    use crate::support::browser::{accessible, browser, press, until, value};
    use thirtyfour::prelude::*;
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = modelled(&site, dir.path(), "scheme").await;
    let browser = browser().await;
    let hand = crate::support::hand::Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "handover", "proof").await;
    hand.clicks("#proof-form button").await;
    until(driver, "document.body.textContent.includes('write the package first')").await;
    hand.clicks("[data-to-section=scheme]").await;
    until(driver, "document.querySelectorAll('.schematic [data-nexus]').length > 3").await;
    accessible(driver, "the model scheme").await;
    // A nexus leads to its place on the map.
    let centre = "bothrosMap.map.getView().getCenter().map(Math.round).join()";
    let before = value(driver, centre).await;
    hand.clicks(".schematic [data-nexus='1'] circle").await;
    until(driver, &format!("{centre} !== {before}")).await;
    let issues = value(driver, "document.querySelectorAll('#scheme-issues li').length").await;
    if issues.as_u64().unwrap_or(0) > 0 {
        hand.clicks("#scheme-issues a").await;
    }
    let saved =
        value(driver, "fetch(document.getElementById('schematic-svg').href).then(r => r.text())").await;
    assert!(saved.as_str().unwrap().contains("data-nexus"), "{saved}");
    hand.clicks("#schematic-svg").await;
    // Parameters for all: they stand in the tables, pour points stay apart however near, and what no channel has is refused.
    hand.types("#model-shortest", "400").await;
    hand.types("#model-impervious", "10").await;
    hand.types("#model-roughness", "0.05").await;
    hand.types("#model-width", "2").await;
    hand.types("#model-exponent", "0.4").await;
    hand.types("#model-side", "1.5").await;
    hand.types("#model-spill", "8").await;
    hand.sends("/scheme/model", hand.clicks("#model-form button")).await;
    until(driver, "document.querySelector('#scheme p').textContent.includes('which 4 flowpaths')").await;
    hand.types("#model-roughness", "7").await;
    hand.clicks("#model-form button").await;
    until(driver, "document.body.textContent.includes('Manning’s n')").await;
    hand.clicks("[data-open-table=subbasin_parameters]").await;
    until(driver, "document.querySelectorAll('#drawer-table tbody tr').length > 3").await;
    until(driver, "[...document.querySelectorAll('#drawer-table tbody td')].some(td => parseFloat(td.textContent) === 10)").await;
    press(driver, "t").await;
    hand.clicks("[data-to-section=package]").await;
    hand.sends("/package/shapefiles", hand.clicks("#shapefiles")).await;
    until(driver, "document.querySelector('.contents').textContent.includes('.shp')").await;
    hand.sends("/package/netcdf", hand.clicks("#netcdf")).await;
    until(driver, "document.querySelector('.contents').textContent.includes('.nc')").await;
    let unpacked = dir.path().join("package");
    let zip = package(&site, study).await;
    zip::ZipArchive::new(std::io::Cursor::new(&zip)).unwrap().extract(&unpacked).unwrap();
    let told = crate::support::python("shapefiles.py", &[unpacked.to_str().unwrap(), "scheme", "32628"]);
    assert!(told.ends_with("agree\n"), "{told}");
    let told = crate::support::python("netcdf.py", &[unpacked.to_str().unwrap()]);
    assert!(told.ends_with("agree\n"), "{told}");
    hand.clicks("[data-to-section=proof]").await;
    hand.types("#proof-rain", "80").await;
    hand.types("#proof-duration", "4").await;
    hand.picks("#proof-shape", "uni").await;
    hand.types("#proof-step", "3").await;
    hand.types("#proof-hours", "24").await;
    hand.clicks("#proof-form button").await;
    until(
        driver,
        "document.querySelector('#proof svg') && document.querySelectorAll('#peaks tbody tr').length > 1",
    )
    .await;
    until(driver, "parseFloat(document.getElementById('balance-off').textContent) < 0.1").await;
    accessible(driver, "the proof run").await;
    press(driver, Key::Control + "z").await;
    until(driver, "document.body.textContent.includes('Undone')").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn parameters_are_typed_and_packages_kept_compared_and_deleted_by_hand() {
    use crate::support::browser::{accessible, browser, press, until, value};
    use thirtyfour::prelude::*;
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = modelled(&site, dir.path(), "typed").await;
    let browser = browser().await;
    let hand = crate::support::hand::Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "handover", "kept").await;
    until(driver, "document.body.textContent.includes('stay here until you delete them')").await;
    let before = package(&site, study).await;
    // One value in its cell, then all that are listed.
    hand.clicks("[data-to-section=scheme]").await;
    hand.clicks("[data-open-table=subbasin_parameters]").await;
    let cells = "[...document.querySelectorAll('#drawer-table [data-set=curve_number]')].map(b => parseFloat(b.textContent))";
    until(driver, &format!("{cells}.length > 3")).await;
    until(driver, "document.getElementById('notice').hidden").await;
    hand.clicks("#drawer-table tr[data-key='2'] [data-set=curve_number]").await;
    let field = "#drawer-table tr[data-key='2'] td input:not([data-where])";
    hand.sends("/set", hand.picks(field, "91\u{e007}")).await;
    until(driver, &format!("{cells}.filter(v => v === 91).length === 1")).await;
    // Escape leaves a value as it was.
    hand.clicks("#drawer-table tr[data-key='1'] [data-set=curve_number]").await;
    let first = "#drawer-table tr[data-key='1'] td input:not([data-where])";
    hand.picks(first, "44\u{e00c}").await;
    until(driver, &format!("!document.querySelector(\"{first}\") && {cells}.every(v => v !== 44)")).await;
    hand.picks("#set-column-subbasin_parameters", "Imp").await;
    hand.types("#set-value-subbasin_parameters", "250").await;
    hand.clicks("[data-set-listed] button").await;
    until(driver, "document.body.textContent.includes('lies between 0 and 100 %')").await;
    hand.types("#set-value-subbasin_parameters", "25").await;
    hand.sends("/set", hand.clicks("[data-set-listed] button")).await;
    let shares = "[...document.querySelectorAll('#drawer-table [data-set=impervious_share]')].map(b => parseFloat(b.textContent))";
    until(driver, &format!("{shares}.every(v => v === 25)")).await;
    accessible(driver, "a table whose values are typed").await;
    // Nothing that stores water: nothing to type.
    hand.clicks("#tab-nexuses").await;
    hand.types("#set-value-nexuses", "500").await;
    hand.clicks("[data-set-listed] button").await;
    until(driver, "document.body.textContent.includes('none of these nexuses is a storage')").await;
    hand.clicks("#tab-flowpaths").await;
    until(driver, "document.querySelector('#drawer-table [data-set=roughness]')").await;
    hand.types("#set-value-flowpaths", "0.07").await;
    hand.sends("/set", hand.clicks("[data-set-listed] button")).await;
    until(driver, "document.getElementById('drawer-table').textContent.includes('typed for this flowpath')")
        .await;
    press(driver, "t").await;
    // What was typed for an element that is gone is told, and can be forgotten.
    hand.clicks("[data-to-section=scheme]").await;
    until(driver, "document.getElementById('model-form')").await;
    hand.types("#model-sections", "200").await;
    hand.types("#model-section-half", "60").await;
    hand.sends("/scheme/model", hand.clicks("#model-form button")).await;
    let (status, told) = site.send(&format!("/studies/{study}/threshold"), &[("cells", "1500")]).await;
    assert!(status.is_success(), "{told}");
    let gone = site.store().pour_points(study).await.unwrap()[2].id;
    let (status, told) = site.send(&format!("/studies/{study}/pour-points/{gone}/delete"), &[]).await;
    assert!(status.is_success(), "{told}");
    driver.refresh().await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes'").await;
    hand.clicks("[data-to-section=scheme]").await;
    until(driver, "document.querySelector(\"#scheme-issues form\")").await;
    hand.sends("/scheme/forget", hand.clicks("#scheme-issues form button")).await;
    until(driver, "document.getElementById('scheme').textContent.length > 100 && !document.querySelector(\"#scheme-issues form\")").await;
    // Layers in another CRS.
    hand.clicks("[data-to-section=package]").await;
    hand.clicks("#crs-of-layers summary").await;
    hand.types("#layers-crs", "3857").await;
    until(driver, "document.querySelector('#crs-of-layers [data-crs=\"EPSG:3857\"]')").await;
    hand.sends("/package/crs", hand.clicks("#crs-of-layers [data-crs=\"EPSG:3857\"]")).await;
    until(driver, "document.querySelector('#crs-of-layers summary').textContent.includes('EPSG:3857')").await;
    let after = package(&site, study).await;
    let open = |zip: &[u8]| zip::ZipArchive::new(std::io::Cursor::new(zip.to_vec())).unwrap();
    let mut archive = open(&after);
    let mut text = String::new();
    std::io::Read::read_to_string(&mut archive.by_name("typed_cross_sections.csv").unwrap(), &mut text)
        .unwrap();
    assert!(text.lines().count() > 20, "{text}");
    assert!(
        archive.by_name("typed_schematic.svg").is_ok()
            && open(&before).by_name("typed_cross_sections.csv").is_err()
    );
    // Both are kept; the earlier one is the same to the byte.
    hand.clicks("[data-to-section=kept]").await;
    until(driver, "document.querySelectorAll('#kept-packages li').length === 2").await;
    accessible(driver, "kept packages").await;
    hand.clicks("[data-kept]").await;
    let earlier = site.store().kept_packages(study).await.unwrap()[1].clone();
    let kept = site.get(&format!("/studies/{study}/packages/{}", earlier.id)).await.bytes().await.unwrap();
    assert_eq!(kept, before);
    hand.clicks("#kept-form button").await;
    until(driver, "document.querySelectorAll('#compared-peaks tbody tr').length >= 1 && document.querySelector('#compared svg')").await;
    let told = value(driver, "document.getElementById('compared').textContent").await;
    let told = told.as_str().unwrap();
    assert!(told.contains("1500 cells") && told.contains("EPSG:3857"), "{told}");
    accessible(driver, "two packages compared").await;
    hand.picks("#compare-one", "\u{e013}").await;
    hand.picks("#compare-other", "\u{e015}").await;
    hand.picks("#compare-other", "\u{e013}").await;
    hand.clicks("#kept-form button").await;
    until(driver, "document.body.textContent.includes('not the same')").await;
    hand.clicks("#kept-packages li:last-child form button").await;
    hand.agrees().await;
    until(driver, "document.querySelectorAll('#kept-packages li').length === 1").await;
    assert_eq!(site.store().kept_packages(study).await.unwrap().len(), 1);
    hand.clicks("[data-to-section=package]").await;
    hand.clicks("#crs-of-layers summary").await;
    hand.sends("/package/crs", hand.clicks("#crs-of-layers form button")).await;
    press(driver, Key::Control + "z").await;
    until(driver, "document.body.textContent.includes('Undone')").await;
}
