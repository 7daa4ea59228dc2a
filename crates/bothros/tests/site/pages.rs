//! Sheets and reports beyond their pages: as files, in packages, from recipes, of other DEMs, over pictures of map servers.

use std::path::Path;
use std::process::{Command, Output};
use std::sync::Arc;

use bothros::elevations::Elevations;
use bothros::map_servers::MapServers;
use bothros::serve::Outside;
use bothros_core::Grid;
use reqwest::StatusCode;
use reqwest::multipart::{Form, Part};
use rstest::rstest;
use serde_json::Value;

use crate::drawn::ground;
use crate::support::browser::{browser, until, value};
use crate::support::hand::Hand;
use crate::support::{FRAME, Site, database, valley, valley_file, written};

/// What a program says of files.
fn said(program: &str, arguments: &[&str]) -> String {
    let out = Command::new(program).args(arguments).output().unwrap_or_else(|e| panic!("{program}: {e}"));
    assert!(out.status.success(), "{program}: {}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8_lossy(&out.stdout).into_owned()
}

/// A study with a network, a catchment, and a sheet that shows the catchment alone.
async fn with_sheet(site: &Site) -> (i64, i64) {
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Sorrel Water").await;
    site.send(&format!("/studies/{study}/threshold"), &[("cells", "300")]).await;
    let point = [("x", "502005"), ("y", "4757500"), ("name", "Mill")];
    site.send(&format!("/studies/{study}/pour-points"), &point).await;
    let sheet = new_sheet(site, study, "Above the mill", "shade,change,catchments,streams").await;
    let point = site.store().pour_points(study).await.unwrap()[0].id.to_string();
    let map = part(site, study, sheet, "map").await;
    let address = format!("/studies/{study}/sheets/{sheet}/parts/{map}/choices");
    site.send(&address, &[("fit", &point)]).await;
    let (status, told) = site.send(&address, &[("alone", &point)]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    (study, sheet)
}

async fn new_sheet(site: &Site, study: i64, name: &str, layers: &str) -> i64 {
    let new = [("name", name), ("layout", "one"), ("size", "a4"), ("across", "yes"), ("layers", layers)];
    let answer = site.post(&format!("/studies/{study}/sheets")).form(&new).send().await.unwrap();
    let to = answer.headers()["hx-redirect"].to_str().unwrap().to_owned();
    to.rsplit('/').next().unwrap().parse().unwrap()
}

async fn part(site: &Site, study: i64, sheet: i64, kind: &str) -> i64 {
    let state = site.json(&format!("/studies/{study}/sheets/{sheet}/state")).await;
    let parts = state["parts"].as_array().unwrap();
    parts.iter().find(|p| p["kind"] == kind).unwrap()["id"].as_i64().unwrap()
}

fn run(recipe: &Path, out: &Path) -> Output {
    Command::new(env!("CARGO_BIN_EXE_bothros"))
        .args(["run", recipe.to_str().unwrap(), "--out", out.to_str().unwrap()])
        .output()
        .unwrap()
}

/// A page as a picture: its dots, red, green and blue.
fn dots(pdf: &Path) -> Vec<u8> {
    let to = pdf.with_extension("");
    said("pdftoppm", &["-r", "50", "-png", "-singlefile", pdf.to_str().unwrap(), to.to_str().unwrap()]);
    let picture = bothros_formats::decode_png(&std::fs::read(pdf.with_extension("png")).unwrap()).unwrap();
    picture.pixels.chunks_exact(4).flat_map(|p| [p[0], p[1], p[2]]).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_package_has_sheets_and_report_and_its_recipe_lays_them_out_again() {
    let site = Site::new().await;
    let (study, _) = with_sheet(&site).await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    site.send(&format!("/studies/{study}/report/own"), &[("section", "network"), ("text", "Seen in May.")])
        .await;
    hand.opens(&site, study, "handover", "package").await;
    hand.sends("/package/sheets", hand.clicks("#with-sheets")).await;
    hand.sends("/package/report", hand.clicks("#with-report")).await;
    until(hand.driver, "document.querySelector('.contents').textContent.includes('sorrel_report')").await;
    site.send(&format!("/studies/{study}/package"), &[]).await;
    let job = site.finish(study).await;
    assert_eq!(job.state, "done", "{}", job.message);
    // A sheet or a section that is changed makes the package out of date; without sheets in it, it would not.
    let old = async || {
        let rail = site.get(&format!("/studies/{study}/rail")).await.text().await.unwrap();
        !rail.contains("package written")
    };
    assert!(!old().await);
    site.send(&format!("/studies/{study}/report/own"), &[("section", "network"), ("text", "Seen in June.")])
        .await;
    assert!(old().await);
    site.send(&format!("/studies/{study}/undo"), &[]).await;
    assert!(!old().await);
    let zip = site.get(&format!("/studies/{study}/package.zip")).await.bytes().await.unwrap();
    let dir = tempfile::tempdir().unwrap();
    zip::ZipArchive::new(std::io::Cursor::new(zip)).unwrap().extract(dir.path()).unwrap();
    let sheet = "sorrel_sheet_1_above_the_mill";
    for name in [
        &format!("{sheet}.pdf"),
        &format!("{sheet}.sheet.json"),
        "sorrel_report.pdf",
        "sorrel_report.html",
        "sorrel_report_catchments.csv",
    ] {
        assert!(dir.path().join(name).exists(), "{name}");
    }
    let readme = std::fs::read_to_string(dir.path().join("README.txt")).unwrap();
    assert!(readme.contains("sorrel_report.pdf"), "{readme}");

    // The same sheet from the recipe alone: the same words, and to the eye the same page.
    let out = dir.path().join("out");
    let done = run(&dir.path().join("sorrel_recipe.toml"), &out);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let (ours, again) = (dir.path().join(format!("{sheet}.pdf")), out.join(format!("{sheet}.pdf")));
    let words = |pdf: &Path| {
        let all = said("pdftotext", &["-layout", pdf.to_str().unwrap(), "-"]);
        // A run names the file that it read.
        let all = all.lines().filter(|l| !l.contains("Elevations:"));
        all.map(|l| l.split_whitespace().collect::<Vec<_>>().join(" "))
            .filter(|l| !l.is_empty())
            .collect::<Vec<_>>()
    };
    assert_eq!(words(&ours), words(&again));
    let (ours, again) = (dots(&ours), dots(&again));
    assert_eq!(ours.len(), again.len());
    let apart: u64 = ours.iter().zip(&again).map(|(a, b)| u64::from(a.abs_diff(*b))).sum();
    let mean = apart as f64 / ours.len() as f64;
    assert!(mean < 0.5, "{mean} levels of 255 apart on the mean");

    let report = said("pdftotext", &["-layout", out.join("report.pdf").to_str().unwrap(), "-"]);
    for told in
        ["Sorrel Water", "Seen in May.", "Cut and fill", "1 Mill", "Streams by order", "Steps of the run"]
    {
        assert!(report.contains(told), "{told}: {report}");
    }
    for untrue in ["Evidence for the threshold", "Heipke", "Trials"] {
        assert!(!report.contains(untrue), "a run has no evidence: {untrue}");
    }
    // The same figures as the study's own.
    let row = |path: &Path| {
        let text = std::fs::read_to_string(path).unwrap();
        text.lines().find(|l| l.starts_with("1 Mill")).unwrap().to_owned()
    };
    assert_eq!(
        row(&dir.path().join("sorrel_report_catchments.csv")),
        row(&out.join("report_catchments.csv"))
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sheet_goes_to_another_study_as_a_file() {
    let site = Site::new().await;
    let (study, sheet) = with_sheet(&site).await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    driver.goto(&format!("{}/studies/{study}/sheets/{sheet}", site.base)).await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes'").await;
    hand.picks("#sheet-format", "a sheet").await;
    hand.clicks("#download-sheet").await;
    until(driver, "document.getElementById('sheet').dataset.written === 'sorrel_above-the-mill.sheet.json'")
        .await;
    let answer = site.get(&format!("/studies/{study}/sheets/{sheet}/file/json")).await;
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("mill.sheet.json");
    std::fs::write(&path, answer.bytes().await.unwrap()).unwrap();

    let other = site.routed(&valley_file(dir.path()), "Twin").await;
    let point = [("x", "502005"), ("y", "4758000"), ("name", "Mill")];
    site.send(&format!("/studies/{other}/pour-points"), &point).await;
    driver.goto(&format!("{}/studies/{other}/sheets", site.base)).await.unwrap();
    until(driver, "window.htmx").await;
    hand.gives("#sheet-file", &[&path]).await;
    hand.clicks("#sheet-file-form button").await;
    until(driver, "location.pathname.match(/sheets.[0-9]+$/)").await;
    // Its catchment was found by its name.
    let point = site.store().pour_points(other).await.unwrap()[0].id;
    let row = &site.store().sheets(other).await.unwrap()[0];
    assert_eq!(row.name, "Above the mill");
    let map =
        row.sheet["parts"].as_array().unwrap().iter().find(|p| p["what"]["alone"] != Value::Null).unwrap();
    assert_eq!((&map["what"]["alone"], &map["what"]["fit"]["point"]), (&point.into(), &point.into()));

    for (name, bytes, told) in [
        ("photo.json", &b"P6 2 2"[..], "this is not the file of a map sheet"),
        ("recipe.json", b"{\"version\": 1}", "it holds no sheet"),
        ("later.json", b"{\"v\": 99, \"sheet\": {}}", "a later version"),
    ] {
        let form = Form::new().part("file", Part::bytes(bytes.to_vec()).file_name(name));
        let answer =
            site.post(&format!("/studies/{other}/sheets/file")).multipart(form).send().await.unwrap();
        assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY);
        let text = answer.text().await.unwrap();
        assert!(text.contains(told), "{text}");
    }
    assert_eq!(site.store().sheets(other).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_sheets_of_a_copied_study_look_at_what_is_its_own() {
    let site = Site::new().await;
    let (study, sheet) = with_sheet(&site).await;
    site.send(&format!("/studies/{study}/trials"), &[("remark", "first")]).await;
    let trial = site.store().trials(study).await.unwrap()[0].id.to_string();
    let map = part(&site, study, sheet, "map").await;
    site.send(&format!("/studies/{study}/sheets/{sheet}/parts/{map}/choices"), &[("trial", &trial)]).await;
    site.send(&format!("/studies/{study}/duplicate"), &[]).await;
    let copy = site.store().studies().await.unwrap().iter().map(|s| s.id).max().unwrap();
    assert_ne!(copy, study);
    let row = &site.store().sheets(copy).await.unwrap()[0];
    let point = site.store().pour_points(copy).await.unwrap()[0].id;
    let trial = site.store().trials(copy).await.unwrap()[0].id;
    let map =
        row.sheet["parts"].as_array().unwrap().iter().find(|p| p["what"]["alone"] != Value::Null).unwrap();
    let numbers = [&map["what"]["alone"], &map["what"]["fit"]["point"], &map["what"]["shown"]["trial"]];
    assert_eq!(numbers.map(Value::as_i64), [Some(point), Some(point), Some(trial)]);
    let told = site.json(&format!("/studies/{copy}/sheets/{}/preview.svg?check=true", row.id)).await;
    assert_eq!(told["complaints"], Value::Array(Vec::new()));
}

#[rstest]
#[case("[report]\nleft_out = [\"apendix\"]", "report.left_out: there is no section “apendix”")]
#[case("[report]\nown = { summary = \"a\" }", "report.own: there is no section “summary”")]
#[case("[report]\nformats = [\"docx\"]", "unknown variant `docx`")]
#[case("[[sheets]]\ntemplate = \"gone.sheet.json\"", "sheets.template: there is no file")]
#[case("[[sheets]]\ntemplate = \"dem.tif\"", "this is not the file of a map sheet")]
#[case("[[sheets]]\ntemplate = \"dem.tif\"\nname = \"../up\"", "is no name of a file")]
#[case("[[sheets]]\ntemplate = \"dem.tif\"\ndpi = 5000.0", "out of range, 30 to 1200")]
#[case(
    "[[sheets]]\ntemplate = \"dem.tif\"\n[[sheets]]\ntemplate = \"dem.tif\"",
    "two sheets are called “dem”"
)]
fn pages_that_a_recipe_cannot_have_are_told_before_any_work(#[case] more: &str, #[case] told: &str) {
    let dir = tempfile::tempdir().unwrap();
    written(dir.path(), "dem.tif", &valley(), &FRAME);
    let recipe = dir.path().join("recipe.toml");
    std::fs::write(&recipe, format!("version = 1\n[terrain]\ndem = [\"dem.tif\"]\n{more}\n")).unwrap();
    let done = run(&recipe, &dir.path().join("out"));
    let error = String::from_utf8_lossy(&done.stderr);
    assert_eq!(done.status.code(), Some(2), "{error}");
    assert!(error.contains(told), "{error}");
    assert!(!dir.path().join("out").exists());
}

#[test]
fn a_run_without_network_or_catchments_says_so_on_its_pages() {
    let dir = tempfile::tempdir().unwrap();
    written(dir.path(), "dem.tif", &valley(), &FRAME);
    let recipe = dir.path().join("bare.toml");
    let text = "version = 1\n[terrain]\ndem = [\"dem.tif\"]\n[report]\nformats = [\"pdf\", \"html\", \"csv\"]\nunits = \"us_customary\"\n";
    std::fs::write(&recipe, text).unwrap();
    let out = dir.path().join("out");
    let done = run(&recipe, &out);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let html = std::fs::read_to_string(out.join("report.html")).unwrap();
    for told in [
        "bare",
        "The DEM was not conditioned.",
        "No network was asked for.",
        "No catchment was asked for.",
        " ft",
    ] {
        assert!(html.contains(told), "{told}: {html}");
    }
    assert!(said("pdfinfo", &[out.join("report.pdf").to_str().unwrap()]).contains("(letter)"));
    assert!(out.join("report_steps.csv").exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_map_shows_a_dem_that_is_set_aside() {
    let site = Site::new().await;
    let (study, sheet) = with_sheet(&site).await;
    let dir = tempfile::tempdir().unwrap();
    // Another DEM of the area, a hundred metres higher: the first is set aside with its flow.
    let higher = valley();
    let higher =
        Grid::from_vec(higher.rows(), higher.cols(), higher.values().iter().map(|z| z + 100.0).collect());
    let path = written(dir.path(), "higher.tif", &higher, &FRAME);
    let given = Part::bytes(std::fs::read(path).unwrap()).file_name("higher.tif");
    let form = Form::new().part("dem", given);
    site.post(&format!("/studies/{study}/candidates")).multipart(form).send().await.unwrap();
    assert_eq!(site.finish(study).await.state, "done");

    let aside = new_sheet(&site, study, "Both", "relief").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    driver.goto(&format!("{}/studies/{study}/sheets/{aside}", site.base)).await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes'").await;
    let map = part(&site, study, aside, "map").await;
    // Heights in the key, metres.
    let heights = async || {
        let answer = site.get(&format!("/studies/{study}/sheets/{aside}/file/pdf?dpi=60")).await;
        let pdf = dir.path().join("sheet.pdf");
        std::fs::write(&pdf, answer.bytes().await.unwrap()).unwrap();
        let text = said("pdftotext", &["-layout", pdf.to_str().unwrap(), "-"]);
        let plain = text.replace('\u{202F}', "").replace('\u{A0}', " ");
        let words: Vec<String> = plain.split_whitespace().map(str::to_owned).collect();
        let metres =
            words.windows(2).filter(|two| two[1] == "m").filter_map(|two| two[0].parse::<f64>().ok());
        metres.collect::<Vec<f64>>()
    };
    let high = heights().await;
    hand.clicks(&format!("#part-list [data-choose='{map}']")).await;
    until(driver, "document.getElementById('map-dem')").await;
    hand.sends("/choices", hand.picks("#map-dem", "set aside")).await;
    // Those of the other DEM; and its streams can be drawn now.
    let low = heights().await;
    assert!(high.iter().zip(&low).any(|(a, b)| (a - b - 100.0).abs() < 1.5), "{high:?} {low:?}");
    until(driver, "document.querySelector('#part-form [data-layer=streams], #part-form [value=streams]')")
        .await;
    // Sheets of the study at work go on; one whose DEM is gone says so.
    assert!(
        site.get(&format!("/studies/{study}/sheets/{sheet}/file/svg?dpi=40")).await.status().is_success()
    );
    let id = site.store().candidates(study).await.unwrap()[0].id;
    site.send(&format!("/studies/{study}/candidates/{id}/delete"), &[]).await;
    let answer = site.get(&format!("/studies/{study}/sheets/{aside}/file/svg?dpi=40")).await;
    assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY);
    assert!(answer.text().await.unwrap().contains("not set aside any more"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_map_lies_over_the_picture_of_a_map_server_and_names_whose_it_is() {
    let elevations = Elevations::At("http://127.0.0.1:1/".into());
    let maps = MapServers::Simulated { prepare: Arc::new(|| Ok(ground())), port: None };
    let site = Site::with(&database().await, Outside { elevations, maps }).await;
    let (study, _) = with_sheet(&site).await;
    let sheet = new_sheet(&site, study, "From above", "server-0,streams").await;
    let dir = tempfile::tempdir().unwrap();
    let answer = site.get(&format!("/studies/{study}/sheets/{sheet}/file/png?dpi=60")).await;
    let picture = bothros_formats::decode_png(&answer.bytes().await.unwrap()).unwrap();
    // Red in the west, green in the east.
    let all = picture.width * picture.height;
    let count = |is: fn(&[u8]) -> bool| picture.pixels.chunks_exact(4).filter(|p| is(p)).count();
    let (red, green) = (count(|p| p[0] > 150 && p[1] < 80), count(|p| p[1] > 120 && p[0] < 80));
    assert!(red * 20 > all && green * 20 > all, "{red} and {green} of {all}");
    let pdf =
        site.get(&format!("/studies/{study}/sheets/{sheet}/file/pdf?dpi=60")).await.bytes().await.unwrap();
    let path = dir.path().join("sheet.pdf");
    std::fs::write(&path, pdf).unwrap();
    assert!(said("pdftotext", &[path.to_str().unwrap(), "-"]).contains("made up"), "whose it is");
    // A job has no map servers: it writes the atlas all the same, and says that something is left out.
    site.send(&format!("/studies/{study}/sheets/{sheet}/atlas"), &[]).await;
    let job = site.finish(study).await;
    assert_eq!(job.state, "done");
    assert!(job.message.contains("something does not fit"), "{}", job.message);
    let browser = browser().await;
    let driver = &browser.driver;
    driver.goto(&format!("{}/studies/{study}/sheets/{sheet}", site.base)).await.unwrap();
    until(driver, "document.getElementById('print').naturalWidth > 300").await;
    assert_eq!(value(driver, "document.querySelectorAll('#complaints li').length").await, 0);
}
