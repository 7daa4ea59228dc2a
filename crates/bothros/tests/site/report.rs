//! The report: chosen by hand, and read by other programs.

use std::process::Command;

use serde_json::json;

use crate::support::browser::{accessible, browser, until, value};
use crate::support::hand::Hand;
use crate::support::{Site, add_layer, geojson, python, valley_file};

/// A study with mapped streams, a catchment, a trial that was chosen, and a layer.
async fn told(site: &Site, name: &str) -> i64 {
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), name).await;
    for job in ["review", "route"] {
        site.send(&format!("/studies/{study}/{job}"), &[]).await;
        assert_eq!(site.finish(study).await.state, "done");
    }
    let stream: &[[f64; 2]] = &[[502_005.0, 4_759_500.0], [502_005.0, 4_757_200.0]];
    add_layer(site, study, "mapped_streams", &[("streams.geojson", geojson(&[stream]))]).await;
    site.send(&format!("/studies/{study}/threshold"), &[("cells", "300")]).await;
    let point = [("x", "502005"), ("y", "4757500"), ("name", "Mill")];
    site.send(&format!("/studies/{study}/pour-points"), &point).await;
    site.send(&format!("/studies/{study}/trials"), &[("remark", "first")]).await;
    let trial = site.store().trials(study).await.unwrap()[0].id;
    let why = [("justification", "Drops are constant from here on.")];
    site.send(&format!("/studies/{study}/trials/{trial}/choose"), &why).await;
    study
}

fn said(program: &str, arguments: &[&str]) -> String {
    let out = Command::new(program).args(arguments).output().unwrap_or_else(|e| panic!("{program}: {e}"));
    assert!(out.status.success(), "{program}: {}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8_lossy(&out.stdout).into_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_report_is_chosen_seen_and_written_by_hand() {
    let site = Site::new().await;
    let study = told(&site, "Sorrel Water").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    hand.opens(&site, study, "handover", "sheets").await;
    hand.clicks("#open-report").await;
    until(driver, "document.querySelector('#report h1')").await;
    until(driver, "document.querySelectorAll('.report-sections li').length === 10").await;
    accessible(driver, "report").await;
    let heads = "[...document.querySelectorAll('#report h2')].map(h => h.textContent)";
    let all = value(driver, heads).await;
    assert_eq!(
        (&all[1], &all[4], all.as_array().unwrap().len()),
        (&json!("1 Inputs"), &json!("4 Evidence for the threshold"), 11)
    );
    // Words of one’s own stay where the study changes.
    let of = |section: &str| format!("[data-section-of-report={section}]");
    hand.sends("/own", hand.types(&format!("{} textarea", of("inputs")), "Surveyed for this study.")).await;
    until(driver, "document.getElementById('report').textContent.includes('Surveyed for this study.')").await;
    site.send(&format!("/studies/{study}/threshold"), &[("cells", "200")]).await;
    hand.sends("/sections", hand.clicks(&format!("{} [data-report-up]", of("ground")))).await;
    until(
        driver,
        "document.querySelectorAll('#report h2')[1].textContent === '1 The DEM, and what was done to it'",
    )
    .await;
    hand.sends("/sections", hand.clicks(&format!("{} [data-report-down]", of("ground")))).await;
    until(driver, "document.querySelectorAll('#report h2')[1].textContent === '1 Inputs'").await;
    assert_eq!(
        value(driver, "document.getElementById('report').textContent.includes('Surveyed for this study.')")
            .await,
        true
    );
    hand.sends("/sections", hand.clicks(&format!("{} [data-report-shown]", of("log")))).await;
    until(driver, "![...document.querySelectorAll('#report h2')].some(h => h.textContent.endsWith('Log'))")
        .await;
    hand.clicks("#undo-report").await;
    until(driver, "[...document.querySelectorAll('#report h2')].some(h => h.textContent.endsWith('Log'))")
        .await;
    for (ending, name) in
        [("html", "sorrel_report.html"), ("zip", "sorrel_report.zip"), ("pdf", "sorrel_report.pdf")]
    {
        hand.clicks(&format!("[data-report={ending}]")).await;
        until(driver, &format!("document.getElementById('report-page').dataset.written === '{name}'")).await;
    }
    hand.clicks(".sheet-bar .home").await;
    until(driver, "location.search.includes('handover')").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_report_tells_the_study_to_other_programs() {
    let site = Site::new().await;
    let study = told(&site, "Sorrel Water").await;
    let dir = tempfile::tempdir().unwrap();
    let fetched = async |ending: &str| {
        let answer = site.get(&format!("/studies/{study}/report/file/{ending}")).await;
        assert!(answer.status().is_success(), "{ending}");
        let path = dir.path().join(format!("report.{ending}"));
        std::fs::write(&path, answer.bytes().await.unwrap()).unwrap();
        path.to_str().unwrap().to_owned()
    };
    let pdf = fetched("pdf").await;
    let info = said("pdfinfo", &[&pdf]);
    assert!(info.contains("Tagged:          yes") && info.contains("(A4)"), "{info}");
    let text = said("pdftotext", &["-layout", &pdf, "-"]);
    // Contents with page numbers, numbered figures and tables, the justification, the log.
    for words in [
        "Contents",
        "1 Inputs",
        "5 Trials and the choice",
        "Drops are constant from here on.",
        "Figure 1.",
        "Table 1.",
        "1 of ",
        "What was done",
        "Mapped streams",
    ] {
        assert!(text.contains(words), "{words}: {text}");
    }
    let fonts = said("pdffonts", &[&pdf]);
    assert!(
        fonts.lines().skip(2).all(|r| r.contains("SourceSans3") && r.contains(" yes yes yes ")),
        "{fonts}"
    );
    assert!(said("mutool", &["draw", "-q", "-F", "txt", &pdf]).contains("Trials and the choice"));
    assert_eq!(python("accessible.py", &[&pdf]).trim(), "sound");
    // The same in HTML and CSV, with the figures that the study has.
    let html = std::fs::read_to_string(fetched("html").await).unwrap();
    assert!(html.contains("Drops are constant from here on.") && !html.contains("src=\"/"));
    let reaches = site.store().study(study).await.unwrap().network.unwrap()["reaches"].as_u64().unwrap();
    assert!(html.contains(&format!("{reaches} reaches with")), "{reaches}");
    let zip = fetched("zip").await;
    let mut packed = zip::ZipArchive::new(std::fs::File::open(zip).unwrap()).unwrap();
    let names: Vec<String> = packed.file_names().map(|name| name.unwrap().into_owned()).collect();
    for name in ["report_trials.csv", "report_orders.csv", "report_catchments.csv", "report_log.csv"] {
        assert!(names.contains(&name.to_owned()), "{names:?}");
    }
    let mut orders = String::new();
    std::io::Read::read_to_string(&mut packed.by_name("report_orders.csv").unwrap(), &mut orders).unwrap();
    assert!(orders.starts_with("Strahler order,Streams,"), "{orders}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_study_with_nothing_but_a_dem_has_a_report_that_says_so() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "Bare").await;
    let told = site.get(&format!("/studies/{study}/report/told")).await.text().await.unwrap();
    for words in [
        "has not been conditioned yet",
        "No barrier was sought",
        "There is no network yet",
        "No trial was kept",
    ] {
        assert!(told.contains(words), "{words}: {told}");
    }
    for (form, expected) in [
        (vec![("section", "dragons"), ("to", "out")], "no such section"),
        (vec![("section", "log"), ("to", "sideways")], "must be one of"),
    ] {
        let (status, text) = site.send(&format!("/studies/{study}/report/sections"), &form).await;
        assert!(status.is_client_error() && text.contains(expected), "{status} {text}");
    }
    let (status, _) = site
        .send(&format!("/studies/{study}/report/own"), &[("section", "log"), ("text", &"x".repeat(30_000))])
        .await;
    assert!(status.is_client_error());
    assert_eq!(site.get(&format!("/studies/{study}/report/file/docx")).await.status(), 404);
}
