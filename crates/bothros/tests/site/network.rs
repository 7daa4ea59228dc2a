//! The Network stage: calibrated, held against mapped streams, tried, compared, chosen and handed over; and
//! what happens where the map is missing or poor.

use std::io::Read;
use std::time::Duration;

use crate::support::browser::{accessible, browser, click, press, until, value};
use crate::support::{Site, add_layer, geojson, valley_file};
use reqwest::StatusCode;
use thirtyfour::prelude::*;

/// The valley's stem and one side valley as a map shows them, and a ditch on a ridge.
fn mapped() -> Vec<u8> {
    let stem = [[502_010.0, 4_759_900.0], [502_012.0, 4_757_010.0]];
    let side = [[500_500.0, 4_759_695.0], [502_000.0, 4_759_695.0]];
    let ditch = [[503_400.0, 4_759_300.0], [503_700.0, 4_758_200.0]];
    geojson(&[&stem, &side, &ditch])
}

async fn set_threshold(site: &Site, study: i64, cells: &str) {
    let (status, text) = site.send(&format!("/studies/{study}/threshold"), &[("cells", cells)]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
}

async fn part(site: &Site, study: i64, path: &str) -> String {
    let answer = site.get(&format!("/studies/{study}/{path}")).await;
    assert_eq!(answer.status(), StatusCode::OK, "{path}");
    answer.text().await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn whether_a_pour_point_lies_on_a_stream_follows_the_threshold() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Sorrel Water").await;
    set_threshold(&site, study, "300").await;
    let at = [("x", "502005"), ("y", "4759700"), ("name", "Ford")];
    let (status, text) = site.send(&format!("/studies/{study}/pour-points"), &at).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    for (cells, off) in [("300", false), ("90000", true), ("500", false)] {
        set_threshold(&site, study, cells).await;
        let desk = part(&site, study, "desk/catchments").await;
        assert!(desk.contains("Ford"), "{desk}");
        assert_eq!(desk.contains("not on a stream at this threshold"), off, "at {cells} cells: {desk}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_tolerance_is_the_map_s_and_the_map_counts_where_it_looks() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Covered").await;
    let (status, told) = add_layer(&site, study, "mapped_streams", &[("map.geojson", mapped())]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    set_threshold(&site, study, "600").await;
    // Nothing is known of the map: 1:25,000 is assumed, raised to a cell and a half.
    let evidence = part(&site, study, "evidence").await;
    assert!(
        evidence.contains("nothing is known of this one") && evidence.contains("raised to a cell and a half"),
        "{evidence}"
    );
    for (typed, status) in [
        ("5", StatusCode::UNPROCESSABLE_ENTITY),
        ("40", StatusCode::NO_CONTENT),
        ("", StatusCode::NO_CONTENT),
    ] {
        let (got, told) = site.send(&format!("/studies/{study}/tolerance"), &[("tolerance", typed)]).await;
        assert_eq!(got, status, "{typed}: {told}");
    }
    let missed = async || {
        let csv = part(&site, study, "tables/shortfalls?as=csv&find=missed").await;
        csv.lines().count()
    };
    let everywhere = missed().await;
    // The map looks at the western half alone: the ditch in the east is no longer missed.
    let west = "[[500000,4757000],[502100,4757000],[502100,4760000],[500000,4760000],[500000,4757000]]";
    let form = [("role", "map_coverage"), ("line", west), ("name", "sheet 1")];
    let (status, told) = site.send(&format!("/studies/{study}/draw"), &form).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    assert!(missed().await < everywhere);
    let evidence = part(&site, study, "evidence").await;
    assert!(
        evidence.contains("The map looks at 5") && evidence.contains("neither extra nor missed"),
        "{evidence}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn streams_that_were_burned_are_no_evidence_until_judged_without() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&valley_file(dir.path()), "Burned").await;
    let (status, told) = add_layer(&site, study, "mapped_streams", &[("map.geojson", mapped())]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    let choices = [
        ("sinks", "fill"),
        ("max_fill_depth_m", ""),
        ("breach_length_m", ""),
        ("breach_depth_m", ""),
        ("burn", "trench"),
        ("burn_depth_m", "8"),
        ("burn_buffer_m", "30"),
        ("burn_buffer_depth_m", "2"),
    ];
    for (path, form) in [("conditioning", &choices[..]), ("route", &[])] {
        let (status, told) = site.send(&format!("/studies/{study}/{path}"), form).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    }
    assert_eq!(site.finish(study).await.state, "done");
    set_threshold(&site, study, "600").await;
    let evidence = part(&site, study, "evidence").await;
    assert!(
        evidence.contains("The mapped streams were burned") && evidence.contains("id=\"judge\""),
        "{evidence}"
    );
    assert!(!evidence.contains("without burning, agreement is best"), "{evidence}");
    let judged = part(&site, study, "evidence?judge=true").await;
    for told in
        ["On the surface without burning, agreement is best", "The map, on the surface without burning,"]
    {
        assert!(judged.contains(told), "{told}: {judged}");
    }
    assert!(judged.contains("Where half of the map was left out"), "{judged}");
    // It is known from then on, also to the justification.
    assert!(!part(&site, study, "evidence").await.contains("id=\"judge\""));
    let (status, _) = site.send(&format!("/studies/{study}/trials"), &[("remark", "")]).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    let trial = site.store().trials(study).await.unwrap()[0].id;
    assert!(part(&site, study, &format!("trials/{trial}/justify")).await.contains("without burning"));
    // Where nothing is burned there is nothing to judge.
    let other = site.routed(&valley_file(dir.path()), "Plain").await;
    assert!(!part(&site, other, "evidence?judge=true").await.contains("without burning"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_threshold_that_is_set_while_flow_is_routed_is_kept() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Sorrel Water").await;
    for cells in 700..706 {
        let (status, text) = site.send(&format!("/studies/{study}/route"), &[]).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
        // Somewhere on the way, another moment each time.
        tokio::time::sleep(std::time::Duration::from_millis(40 * (cells - 700))).await;
        set_threshold(&site, study, &cells.to_string()).await;
        assert_eq!(site.finish(study).await.state, "done");
        let network = site.store().study(study).await.unwrap().network.unwrap();
        assert_eq!(network["threshold"], cells, "{network}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_network_is_tried_chosen_and_handed_over() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Sorrel Water").await;
    let (status, told) = add_layer(&site, study, "mapped_streams", &[("mapped.geojson", mapped())]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    set_threshold(&site, study, "1500").await;

    let evidence = part(&site, study, "evidence").await;
    assert!(evidence.contains("Agreement with mapped streams is best"), "{evidence}");
    assert!(
        evidence.contains("Mean distance of matched modelled streams") && evidence.contains("slope_area")
    );
    // Figures of every threshold that can be dragged to; of one that was typed they are asked for alone.
    let told = site.json(&format!("/studies/{study}/figures")).await;
    let rows = told["figures"].as_array().unwrap();
    assert!(rows.len() > 300 && told["mapped"] == true);
    let heads = |row: &serde_json::Value| row[1].as_u64().unwrap();
    assert!(rows.windows(2).all(|w| w[0][0].as_u64() < w[1][0].as_u64() && heads(&w[0]) >= heads(&w[1])));
    let one = site.json(&format!("/studies/{study}/figures?cells=1500")).await;
    let network = site.store().study(study).await.unwrap().network.unwrap();
    assert_eq!(one["figures"][0][1], network["headwaters"]);
    assert_eq!(one["figures"][0][3], network["highest_order"]);
    assert!((one["figures"][0][2].as_f64().unwrap() - network["length_m"].as_f64().unwrap()).abs() < 1e-6);
    let shortfalls = part(&site, study, "shortfalls").await;
    assert!(
        shortfalls.contains("missed") && shortfalls.contains("Hardly anything drains there"),
        "{shortfalls}"
    );
    // Said of the ditch, and known again by its place.
    let said = [
        ("side", "missed"),
        ("x", "503550"),
        ("y", "4758750"),
        ("verdict", "accepted"),
        ("remark", "a ditch"),
    ];
    let (status, text) = site.send(&format!("/studies/{study}/shortfalls"), &said).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    let shortfalls = part(&site, study, "tables/shortfalls").await;
    assert!(shortfalls.contains("accepted") && shortfalls.contains("a ditch"), "{shortfalls}");
    let said = [("side", "missed"), ("x", "503550"), ("y", "4758750"), ("verdict", "to_mend")];
    site.send(&format!("/studies/{study}/shortfalls"), &said).await;
    assert!(part(&site, study, "desk/conditioning").await.contains("Sent from the Network stage"));

    // Two trials; the second is kept at another threshold.
    let keep = |remark: &'static str| {
        let site = &site;
        async move { site.send(&format!("/studies/{study}/trials"), &[("remark", remark)]).await }
    };
    assert_eq!(keep("coarse").await.0, StatusCode::NO_CONTENT);
    set_threshold(&site, study, "400").await;
    assert_eq!(keep("fine").await.0, StatusCode::NO_CONTENT);
    let trials = site.store().trials(study).await.unwrap();
    let names: Vec<&str> = trials.iter().map(|t| t.name.as_str()).collect();
    assert_eq!(names, ["sorrel_streams_15ha", "sorrel_streams_4ha"]);
    let score = |at: usize, key: &str| trials[at].facts["scores"][key].as_f64().unwrap();
    assert!(score(1, "modelled_m") > score(0, "modelled_m") && score(1, "found_m") >= score(0, "found_m"));
    let way = |at: usize| trials[at].facts["to_stream_m"].as_f64().unwrap();
    assert!(way(1) < way(0), "more streams, shorter ways: {} {}", way(0), way(1));

    // A choice needs a reason, and changes the network; undo takes both back.
    let first = format!("/studies/{study}/trials/{}", trials[0].id);
    let offered = part(&site, study, &format!("trials/{}/justify", trials[0].id)).await;
    assert!(offered.contains("A stream begins where 15.0 ha have gathered."), "{offered}");
    let (status, text) = site.send(&format!("{first}/choose"), &[("justification", "  ")]).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("say why"), "{text}");
    let why = "Agrees best, and the survey says so, \"by eye\"";
    let (status, text) = site.send(&format!("{first}/choose"), &[("justification", why)]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    let threshold = |site: &Site| {
        let store = site.store().clone();
        async move { store.study(study).await.unwrap().network.unwrap()["threshold"].as_u64().unwrap() }
    };
    assert_eq!(threshold(&site).await, 1500);
    site.send(&format!("/studies/{study}/undo"), &[]).await;
    assert_eq!(threshold(&site).await, 400);
    assert!(site.store().trials(study).await.unwrap().iter().all(|t| t.justification.is_none()));
    site.send(&format!("{first}/choose"), &[("justification", why)]).await;
    let log = site.store().log_entries(study).await.unwrap();
    assert!(log.iter().any(|l| l.text.contains(why)), "the reason is on record");

    // Both are in the package.
    let (status, text) = site.send(&format!("/studies/{study}/package"), &[]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    assert_eq!(site.finish(study).await.state, "done");
    let bytes = site.get(&format!("/studies/{study}/package.zip")).await.bytes().await.unwrap();
    let mut zip = zip::ZipArchive::new(std::io::Cursor::new(bytes)).unwrap();
    let mut read = |name: &str| {
        let mut text = String::new();
        zip.by_name(name).unwrap().read_to_string(&mut text).unwrap();
        text
    };
    assert!(read("README.txt").contains(why));
    let table = read("sorrel_trials.csv");
    assert!(table.lines().count() == 3 && table.contains("sorrel_streams_4ha"), "{table}");
    assert!(table.contains("\"Agrees best, and the survey says so, \"\"by eye\"\"\""), "{table}");

    // Changed by hand, with a reason: fewer streams, then as many again.
    let reaches = |site: &Site| {
        let store = site.store().clone();
        async move { store.study(study).await.unwrap().network.unwrap()["length_m"].as_f64().unwrap() }
    };
    let before = reaches(&site).await;
    let edit =
        |reason: &'static str| [("kind", "prune"), ("line", "[[502010, 4758500]]"), ("reason", reason)];
    let (status, text) = site.send(&format!("/studies/{study}/edits"), &edit("")).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("give a reason"), "{text}");
    let (status, text) = site.send(&format!("/studies/{study}/edits"), &edit("dry since the mine")).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    assert!(reaches(&site).await < before - 1000.0);
    let desk = part(&site, study, "desk/network").await;
    assert!(desk.contains("dry since the mine") && !desk.contains("changes nothing"), "{desk}");
    // Scores over thresholds know of it, and a trial kept before says what it lacks.
    let edited = site.json(&format!("/studies/{study}/figures?cells=1500")).await;
    assert!((edited["figures"][0][2].as_f64().unwrap() - reaches(&site).await).abs() < 1e-6);
    let table = part(&site, study, "trials").await;
    assert!(table.contains("before a change by hand: stream pruned from"), "{table}");
    let (status, text) = site.send(&format!("{first}/choose"), &[("justification", why)]).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("by hand"), "{text}");
    let within = [
        ("kind", "within"),
        ("line", "[[500500,4757500],[501500,4757500],[501500,4758500],[500500,4758500]]"),
        ("area", "0.5"),
        ("reason", "a wetland"),
    ];
    site.send(&format!("/studies/{study}/edits"), &within).await;
    assert!(part(&site, study, "desk/network").await.contains("a wetland"));
    site.send(&format!("/studies/{study}/undo"), &[]).await;
    let (status, text) = site.send(&format!("/studies/{study}/edits"), &[("remove", "0")]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    assert_eq!(reaches(&site).await, before);
    // What is undone takes the figures with it.
    site.send(&format!("/studies/{study}/undo"), &[]).await;
    assert!(reaches(&site).await < before - 1000.0, "the edit stands again");
    site.send(&format!("/studies/{study}/undo"), &[]).await;
    assert_eq!(reaches(&site).await, before);
    assert!(site.json(&format!("/studies/{study}/way?cells=1500")).await["mean_m"].as_f64().unwrap() > 50.0);

    // A deleted trial comes back; a study routed over another surface cannot choose the old ones.
    site.send(&format!("{first}/delete"), &[]).await;
    assert_eq!(site.store().trials(study).await.unwrap().len(), 1);
    site.send(&format!("/studies/{study}/undo"), &[]).await;
    assert_eq!(site.store().trials(study).await.unwrap().len(), 2);
    let choices = [
        ("sinks", "keep"),
        ("max_fill_depth_m", ""),
        ("breach_length_m", ""),
        ("breach_depth_m", ""),
        ("burn", ""),
        ("burn_depth_m", "5"),
        ("burn_buffer_m", "30"),
        ("burn_buffer_depth_m", "2"),
    ];
    let (status, text) = site.send(&format!("/studies/{study}/conditioning"), &choices).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    site.send(&format!("/studies/{study}/route"), &[]).await;
    site.finish(study).await;
    let (status, text) = site.send(&format!("{first}/choose"), &[("justification", why)]).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("another surface"), "{text}");
    // Two pits stay open now, and the network says where it ends.
    set_threshold(&site, study, "30").await;
    let continuity = part(&site, study, "continuity").await;
    assert!(continuity.contains("pieces") && continuity.contains("sink"), "{continuity}");
    // By MFD streams spread: their width is measured, and a warning stands beside it.
    let mut by_mfd = choices.to_vec();
    by_mfd[0] = ("sinks", "fill");
    by_mfd.push(("routing", "mfd"));
    let (status, text) = site.send(&format!("/studies/{study}/conditioning"), &by_mfd).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    site.send(&format!("/studies/{study}/route"), &[]).await;
    assert_eq!(site.finish(study).await.state, "done");
    set_threshold(&site, study, "400").await;
    assert_eq!(keep("spread").await.0, StatusCode::NO_CONTENT);
    let last = site.store().trials(study).await.unwrap().pop().unwrap();
    assert!(last.name == "sorrel_mfd_4ha" && last.facts["width_m"].as_f64().unwrap() > 10.0, "{last:?}");
    assert!(part(&site, study, "trials").await.contains("do not base work on banks"));
}

#[tokio::test(flavor = "multi_thread")]
async fn poor_maps_and_odd_requests_are_answered_in_words() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let file = valley_file(dir.path());
    let study = site.study(&file, "Early").await;
    for early in ["evidence", "shortfalls", "orders", "tables/reaches", "continuity"] {
        let answer = site.get(&format!("/studies/{study}/{early}")).await;
        assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY, "{early}");
        assert!(answer.text().await.unwrap().contains("route flow first"));
    }
    let study = site.routed(&file, "Poor").await;
    // Without mapped streams the rest works, and says what is missing.
    assert!(part(&site, study, "evidence").await.contains("There are no mapped streams"));
    assert!(part(&site, study, "shortfalls").await.contains("Add mapped streams"));
    let (status, text) = site.send(&format!("/studies/{study}/trials"), &[]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    assert!(site.store().trials(study).await.unwrap()[0].facts["scores"].is_null());
    // Doubled and overlapping lines, a closed ring, and 20 000 short ones.
    let stem = [[502_010.0, 4_759_900.0], [502_012.0, 4_757_010.0]];
    let half = [[502_010.0, 4_758_500.0], [502_012.0, 4_757_010.0]];
    let ring = [
        [502_300.0, 4_758_300.0],
        [502_500.0, 4_758_300.0],
        [502_400.0, 4_758_500.0],
        [502_300.0, 4_758_300.0],
    ];
    let (status, told) =
        add_layer(&site, study, "mapped_streams", &[("odd.geojson", geojson(&[&stem, &stem, &half, &ring]))])
            .await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    assert!(part(&site, study, "shortfalls").await.contains("missed"));
    let many: Vec<[[f64; 2]; 2]> = (0..100_000)
        .map(|i| {
            let (x, y) = (500_010.0 + (i % 200) as f64 * 19.0, 4_757_010.0 + (i / 200) as f64 * 29.0);
            [[x, y], [x + 15.0, y + 12.0]]
        })
        .collect();
    let lines: Vec<&[[f64; 2]]> = many.iter().map(|l| &l[..]).collect();
    add_layer(&site, study, "mapped_streams", &[("many.geojson", geojson(&lines))]).await;
    assert!(part(&site, study, "evidence").await.contains("Agreement with mapped streams"));
    for (path, fields, told) in [
        ("tolerance", vec![("tolerance", "0")], "between 15.0 m, a cell and a half, and 500 m"),
        ("tolerance", vec![("tolerance", "wide")], "must be a number"),
        (
            "shortfalls",
            vec![("side", "extra"), ("x", "1"), ("y", "1"), ("verdict", "perhaps")],
            "must be one of accepted, to_mend",
        ),
        ("threshold", vec![("cells", "99999999")], "leaves no stream"),
    ] {
        let (status, text) = site.send(&format!("/studies/{study}/{path}"), &fields).await;
        assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains(told), "{path}: {text}");
    }
    let (_, trial) = (0, site.store().trials(study).await.unwrap()[0].id);
    let name = [("name", "../Streams"), ("remark", "")];
    let (status, text) = site.send(&format!("/studies/{study}/trials/{trial}/describe"), &name).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text.contains("lower-case"), "{text}");
    for asked in ["", "1", "1,2,3,4,5"] {
        let answer = site.get(&format!("/studies/{study}/compare?trials={asked}")).await;
        assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY, "{asked}");
    }
    // Only streams: every cell is one.
    set_threshold(&site, study, "1").await;
    assert!(part(&site, study, "continuity").await.contains("hangs together"));
}

#[tokio::test(flavor = "multi_thread")]
async fn trials_are_compared_and_shortfalls_found_by_hand() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Sorrel Water").await;
    add_layer(&site, study, "mapped_streams", &[("mapped.geojson", mapped())]).await;
    for cells in ["1500", "400"] {
        set_threshold(&site, study, cells).await;
        site.send(&format!("/studies/{study}/trials"), &[]).await;
    }
    let browser = browser().await;
    let driver = &browser.driver;
    driver.goto(&format!("{}/studies/{study}/?stage=network", site.base)).await.unwrap();
    until(
        driver,
        "document.querySelectorAll('[data-trial]').length === 2 && document.querySelector('[data-chart=orders]')",
    )
    .await;
    until(driver, "document.querySelector('.shortfalls') && document.querySelector('.evidence-chart svg')")
        .await;
    accessible(driver, "network with trials").await;
    // What is not drawn is not fetched; what was fetched beyond the view serves when the view moves a little.
    let asked = |of: &str| {
        format!("performance.getEntriesByType('resource').filter(e => e.name.includes('/{of}?')).length")
    };
    assert_eq!(value(driver, &asked("layers")).await, 0);
    click(driver, "#drawn .add summary").await;
    click(driver, "[data-layer=features]").await;
    until(driver, "bothrosMap.layers.features.getSource().getFeatures().length === 3").await;
    click(driver, "[data-layer=features]").await;
    let streams = value(driver, &asked("streams")).await.as_u64().unwrap();
    let pan = |pixels: u32| {
        format!(
            "const v = bothrosMap.map.getView(), [x, y] = v.getCenter(); v.setCenter([x + {pixels} * v.getResolution(), y])"
        )
    };
    driver.execute(pan(20), vec![]).await.unwrap();
    let there = "Math.abs(new URLSearchParams(location.search).get('x') - bothrosMap.map.getView().getCenter()[0]) < 1";
    until(driver, there).await;
    assert_eq!(value(driver, &asked("streams")).await, streams);
    driver.execute(pan(700), vec![]).await.unwrap();
    until(driver, &format!("{} > {streams}", asked("streams"))).await;
    driver.execute("bothrosMap.fit()", vec![]).await.unwrap();
    // Figures follow the hand, key by key, before the threshold is kept.
    let told = "document.getElementById('threshold-figures').textContent";
    until(driver, &format!("{told}.includes('headwater') && {told}.includes('agreement')")).await;
    let before = value(driver, told).await;
    press(driver, "}").await;
    until(driver, &format!("{told} !== {before} && {told}.includes('km/km²')")).await;
    press(driver, "{").await;
    until(
        driver,
        &format!("document.getElementById('threshold').dataset.cells === '400' && {told} === {before}"),
    )
    .await;
    // A key that is pressed while the one before it is being kept is not lost.
    for wait in [330, 380, 500] {
        press(driver, "}").await;
        tokio::time::sleep(Duration::from_millis(wait)).await;
        press(driver, "{").await;
        tokio::time::sleep(Duration::from_millis(1500)).await;
        until(
            driver,
            &format!("document.getElementById('threshold').dataset.cells === '400' && {told} === {before}"),
        )
        .await;
    }
    // What is extra and missed comes on the map, and the list leads there.
    click(driver, "[data-see=agreement]").await;
    until(driver, "Number(document.getElementById('map').dataset.sides) > 3").await;
    let sides = "new Set(bothrosMap.layers.agreement.getSource().getFeatures().map(f => f.get('side')))";
    until(driver, &format!("{sides}.has('missed') && {sides}.has('extra') && {sides}.has(null)")).await;
    click(driver, ".shortfalls tbody tr td.t:last-child").await;
    until(
        driver,
        "document.querySelector('.shortfalls tr.chosen') && bothrosMap.map.getView().getResolution() < 16",
    )
    .await;
    // Streams by another measure, and only the larger ones.
    driver
        .execute("bothrosMap.views.set('streams', { by: 'magnitude', from: 2, labels: 1 })", vec![])
        .await
        .unwrap();
    let drawn = "bothrosMap.layers.streams.getSource().getFeatures().map(f => [f.get('order'), !!bothrosMap.layers.streams.getStyleFunction()(f)])";
    until(driver, &format!("{drawn}.every(([order, shown]) => shown === (order >= 2))")).await;
    // The way to a stream comes from the address alone.
    driver
        .goto(&format!("{}/studies/{study}/?stage=network&draw=relief,way,streams", site.base))
        .await
        .unwrap();
    until(driver, "bothrosMap.longest > 100 && bothrosMap.layers.way.getSource()").await;
    until(driver, "document.querySelectorAll('#compare-form input').length === 3").await;
    // C compares what is ticked.
    driver
        .execute("document.querySelectorAll('#compare-form input').forEach((i) => i.click()); document.body.focus()", vec![])
        .await
        .unwrap();
    press(driver, "c").await;
    until(driver, "location.pathname.endsWith('/compare') && document.body.dataset.ready === 'yes'").await;
    until(
        driver,
        "[...document.querySelectorAll('.frame')].filter(f => Number(f.dataset.lines) > 0).length === 3",
    )
    .await;
    accessible(driver, "comparison").await;
    assert_eq!(value(driver, "document.querySelectorAll('.ol-scale-line').length").await, 1);
    // Two by a swipe.
    let two = value(driver, "location.search").await.as_str().unwrap().replace(",mapped", "");
    driver.goto(&format!("{}/studies/{study}/compare{two}", site.base)).await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes'").await;
    click(driver, "#swipe-trials").await;
    until(
        driver,
        "document.querySelector('.swipe') && document.querySelector('.frames').classList.contains('swiped')",
    )
    .await;
    press(driver, Key::Right).await;
    until(driver, "document.querySelector('.swipe[role=slider]')").await;
}
