//! Map sheets, laid out by hand.

use serde_json::Value;
use thirtyfour::prelude::*;

use crate::support::browser::{accessible, browser, middle, press, until, value, wheel};
use crate::support::hand::Hand;
use crate::support::{Site, valley_file};

/// A study with a network, a catchment and a trial.
async fn mapped(site: &Site, name: &str) -> i64 {
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), name).await;
    site.send(&format!("/studies/{study}/threshold"), &[("cells", "300")]).await;
    for (name, y) in [("Mill", "4757500"), ("Bridge", "4758500")] {
        let point = [("x", "502005"), ("y", y), ("name", name)];
        site.send(&format!("/studies/{study}/pour-points"), &point).await;
    }
    site.send(&format!("/studies/{study}/trials"), &[("remark", "first")]).await;
    study
}

/// A boundary that somebody else drew around the mill's catchment.
async fn surveyed(site: &Site, study: i64) {
    let ring = "[[500300,4759700],[502900,4759700],[502900,4757050],[500300,4757050]]";
    let drawn = [("role", "boundaries"), ("line", ring), ("name", "Survey of 1988")];
    assert!(site.send(&format!("/studies/{study}/draw"), &drawn).await.0.is_success());
}

/// A sheet as it is kept.
struct Kept<'a> {
    site: &'a Site,
    study: i64,
    sheet: i64,
}

impl Kept<'_> {
    async fn state(&self) -> Value {
        self.site.json(&format!("/studies/{}/sheets/{}/state", self.study, self.sheet)).await
    }

    async fn part(&self, kind: &str) -> Value {
        let state = self.state().await;
        let parts = state["parts"].as_array().unwrap();
        parts.iter().find(|p| p["kind"] == kind).cloned().unwrap_or(Value::Null)
    }

    /// What is kept of a part, as it is written down.
    async fn what(&self, kind: &str) -> Value {
        let id = self.part(kind).await["id"].clone();
        let row = self.site.store().sheet(self.study, self.sheet).await.unwrap();
        let parts = row.sheet["parts"].as_array().unwrap();
        parts.iter().find(|p| p["id"] == id).unwrap()["what"].clone()
    }

    fn file(&self, format: &str, dpi: u32) -> String {
        format!("/studies/{}/sheets/{}/file/{format}?dpi={dpi}", self.study, self.sheet)
    }
}

/// Drags something by pixels.
async fn drags(driver: &WebDriver, selector: &str, (right, down): (i64, i64)) {
    let (x, y) = middle(driver, selector).await;
    let chain = driver.action_chain().move_to(x, y).click_and_hold();
    chain
        .move_by_offset(right / 2, down / 2)
        .move_by_offset(right - right / 2, down - down / 2)
        .release()
        .perform()
        .await
        .unwrap();
}

/// Where a sheet that was opened stands.
async fn opened(driver: &WebDriver) -> i64 {
    until(driver, "location.pathname.match(/sheets.[0-9]+$/) && document.body.dataset.ready === 'yes'").await;
    value(driver, "Number(document.getElementById('sheet').dataset.sheet)").await.as_i64().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sheet_is_laid_out_by_hand() {
    let site = Site::new().await;
    let study = mapped(&site, "Sorrel Water").await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    // What the map shows is what the sheet shows.
    hand.opens(&site, study, "handover", "sheets").await;
    hand.clicks("#all-sheets").await;
    until(driver, "document.querySelector('#new-sheet')").await;
    accessible(driver, "sheets, none yet").await;
    hand.opens(&site, study, "handover", "sheets").await;
    hand.clicks("#sheet-of-map button").await;
    let sheet = opened(driver).await;
    let kept = Kept { site: &site, study, sheet };
    assert_eq!(
        kept.what("map").await["shown"]["layers"],
        serde_json::json!(["relief", "streams", "catchments"])
    );
    until(driver, "document.getElementById('print').naturalWidth > 300").await;
    accessible(driver, "a sheet").await;

    // Moved by the hand, by keys, by number; sized by an edge.
    let id = kept.part("map").await["id"].as_u64().unwrap();
    let piece = format!(".piece[data-part=\"{id}\"]");
    let before = kept.part("map").await;
    hand.sends("/place", drags(driver, &piece, (37, 23))).await;
    let after = kept.part("map").await;
    let moved = |name: &str| after[name].as_f64().unwrap() - before[name].as_f64().unwrap();
    assert!(moved("x") > 3.0 && moved("y") > 1.0 && moved("width") == 0.0, "{before} {after}");
    hand.sends("/place", drags(driver, &format!("{piece} .handle.se"), (-61, -47))).await;
    let smaller = kept.part("map").await;
    assert!(smaller["width"].as_f64() < after["width"].as_f64() && smaller["x"] == after["x"]);
    for (key, name, by) in [(Key::Right, "x", 1.0), (Key::Up, "y", -1.0)] {
        let from = kept.part("map").await[name].as_f64().unwrap();
        hand.sends("/place", async {
            driver.find(By::Id("paper")).await.unwrap().send_keys(key).await.unwrap()
        })
        .await;
        assert!((kept.part("map").await[name].as_f64().unwrap() - from - by).abs() < 1e-6, "{name}");
    }
    for name in ["x", "y", "width", "height"] {
        let to = if name == "width" {
            "150"
        } else if name == "height" {
            "110"
        } else {
            "30"
        };
        hand.sends("/place", hand.types(&format!("#place-form [name={name}]"), to)).await;
    }
    let typed = kept.part("map").await;
    assert_eq!(["x", "y", "width", "height"].map(|n| typed[n].as_f64().unwrap()), [30.0, 30.0, 150.0, 110.0]);
    hand.types("#place-form [name=width]", "0").await;
    until(driver, "document.getElementById('notice').textContent.includes('at least 3 mm')").await;

    // The ground under it: by drag, wheel, number, and fitted to a catchment.
    let view = kept.part("map").await["view"].clone();
    hand.clicks("#move-map").await;
    hand.sends("/look", drags(driver, &piece, (40, 0))).await;
    let dragged = kept.part("map").await["view"].clone();
    assert!(dragged["x"].as_f64() < view["x"].as_f64(), "{view} {dragged}");
    hand.sends("/look", async { wheel(driver, &piece, -200).await }).await;
    let nearer = kept.part("map").await["view"].clone();
    assert!(nearer["denominator"].as_f64() < dragged["denominator"].as_f64());
    // A box that is drawn fills the map.
    let (x, y) = middle(driver, &piece).await;
    let chain = driver.action_chain().key_down(Key::Shift).move_to(x, y).click_and_hold();
    let boxed = chain.move_by_offset(60, 30).release().key_up(Key::Shift);
    hand.sends("/look", async { boxed.perform().await.unwrap() }).await;
    let fitted = kept.part("map").await["view"].clone();
    assert!(
        fitted["denominator"].as_f64().unwrap() < 0.7 * nearer["denominator"].as_f64().unwrap(),
        "{fitted}"
    );
    press(driver, Key::Escape).await;
    for (field, text) in [("#map-scale", "25000"), ("#map-east", "502000"), ("#map-north", "4758500")] {
        hand.types(field, text).await;
    }
    hand.picks("#map-fit", "the place").await;
    hand.sends(&format!("/parts/{id}/choices"), hand.clicks("#look-form button")).await;
    let typed = kept.part("map").await["view"].clone();
    assert_eq!(typed, serde_json::json!({ "x": 502_000.0, "y": 4_758_500.0, "denominator": 25_000.0 }));
    hand.types("#map-scale", "1").await;
    hand.clicks("#look-form button").await;
    until(driver, "document.getElementById('notice').textContent.includes('shows nothing of a landscape')")
        .await;
    hand.picks("#map-fit", "catchment 1").await;
    hand.sends(&format!("/parts/{id}/choices"), hand.clicks("#look-form button")).await;
    assert_eq!(kept.what("map").await["fit"]["to"], "catchment");

    // What it draws.
    hand.sends("/layer", hand.clicks("[data-map-layer=contours]")).await;
    until(
        driver,
        "document.querySelector('[data-map-layer=contours]').getAttribute('aria-pressed') === 'true'",
    )
    .await;
    hand.sends("/layer", hand.clicks("#map-layers [aria-label='Contours up']")).await;
    hand.sends("/layer", hand.clicks("#map-layers [aria-label='Contours down']")).await;
    let layers = kept.what("map").await["shown"]["layers"].clone();
    assert_eq!(layers, serde_json::json!(["relief", "contours", "streams", "catchments"]));
    let part = format!("/parts/{id}/choices");
    for (field, letters) in [
        ("#map-trial", "trial"),
        ("#map-alone", "catchment 1"),
        ("#map-rim", "none"),
        ("#map-grid", "lines"),
        ("#grid-labels", "outside"),
        ("#map-labels", "none"),
        ("#map-streams", "Strahler"),
    ] {
        hand.sends(&part, hand.picks(field, letters)).await;
    }
    for (field, text) in [
        ("#map-ink", "0.6"),
        ("#grid-e", "500"),
        ("#grid-n", "1000"),
        ("#label-size", "0.9"),
        ("#label-halo", "0.4"),
    ] {
        hand.sends(&part, hand.types(field, text)).await;
    }
    let map = kept.what("map").await;
    assert_eq!(
        map["grid"],
        serde_json::json!({ "style": "lines", "interval": [500.0, 1000.0], "labels": "outside" })
    );
    assert_eq!((&map["ink"], &map["rim"], &map["labels"]["on"]), (&0.6.into(), &false.into(), &false.into()));
    assert!(
        map["alone"].is_i64() && map["shown"]["trial"].is_i64() && map["labels"]["streams"] == "order",
        "{map}"
    );
    hand.types("#grid-e", "0.001").await;
    until(driver, "document.getElementById('complaints').textContent.includes('would draw')").await;
    hand.sends(&part, hand.types("#grid-e", " ")).await;
    until(driver, "!document.getElementById('complaints').textContent.includes('would draw')").await;

    // Title, key, scale bar, north arrow.
    hand.clicks("#part-list [data-choose='1']").await;
    hand.sends("/parts/1/choices", hand.types("#part-text", "{catchment}, {area}")).await;
    hand.sends("/parts/1/choices", hand.types("#text-size", "18")).await;
    hand.sends("/parts/1/choices", hand.picks("#text-bold", "regular")).await;
    hand.sends("/parts/1/choices", hand.picks("#text-middle", "in the")).await;
    let svg = site.get(&kept.file("svg", 60)).await.text().await.unwrap();
    assert!(svg.contains(">Mill, ") && svg.contains("km²</text>"), "the title is filled in");
    let key = kept.part("key").await["id"].as_u64().unwrap();
    hand.clicks(&format!("#part-list [data-choose='{key}']")).await;
    let part = format!("/parts/{key}/choices");
    hand.sends(&part, hand.types("#key-heading", "Legend of all")).await;
    hand.sends(&part, hand.types("#key-size", "8")).await;
    hand.sends(&part, hand.picks("#key-unit", "feet")).await;
    let entry = "#key-entries [data-entry=contours]";
    hand.sends("/entry", hand.types(&format!("{entry} [name=words]"), "Lines of height")).await;
    hand.sends("/entry", hand.types(&format!("{entry} [name=group]"), "Relief")).await;
    hand.sends("/entry", hand.clicks("#key-entries li:nth-child(2) [aria-label$=' up']")).await;
    hand.sends("/entry", hand.clicks("#key-entries li:first-child [aria-label$=' down']")).await;
    hand.sends("/entry", hand.clicks("#key-entries [data-entry=points] [data-entry-shown]")).await;
    let svg = site.get(&kept.file("svg", 60)).await.text().await.unwrap();
    let written: Vec<&str> =
        svg.split("</text>").filter_map(|part| part.rsplit_once('>').map(|(_, words)| words)).collect();
    for words in ["Lines of height", "Relief", "Legend of all"] {
        assert!(written.contains(&words), "{words}: {written:?}");
    }
    assert!(!svg.contains(">Pour points<") && svg.contains(" ft</text>"), "left out, and in feet");
    let bar = kept.part("bar").await["id"].as_u64().unwrap();
    hand.clicks(&format!("#part-list [data-choose='{bar}']")).await;
    hand.clicks("#of-map").await;
    press(driver, Key::Escape).await;
    hand.sends(&format!("/parts/{bar}/choices"), hand.picks("#bar-unit", "feet")).await;
    hand.sends(&format!("/parts/{bar}/shown"), hand.clicks(&format!("[data-show='{bar}']"))).await;
    assert_eq!(kept.part("bar").await["hidden"], true);
    press(driver, Key::Control + "z").await;
    until(driver, &format!("document.querySelector('[data-show=\"{bar}\"]').textContent === 'Hide'")).await;
    assert_eq!(kept.part("bar").await["hidden"], false);
    hand.clicks("#undo-sheet").await;
    until(driver, "document.getElementById('bar-unit')?.value === 'metric'").await;

    // Parts added, moved forward and back, removed; guides.
    for (letters, kind) in [("a map", "map"), ("a logo", "logo"), ("a text", "text")] {
        let listed = "document.querySelectorAll('#part-list [data-choose]').length";
        let before = value(driver, listed).await;
        hand.picks("#part-kind", letters).await;
        hand.sends("/parts", hand.clicks("#add-part button")).await;
        until(driver, &format!("{listed} > {before}")).await;
        assert_ne!(kept.part(kind).await, Value::Null, "{kind}");
    }
    let text = kept.part("text").await["id"].as_u64().unwrap();
    hand.clicks(&format!("#part-list [data-choose='{text}']")).await;
    hand.sends("/move", hand.clicks(".part-acts form:nth-of-type(2) button")).await;
    hand.sends("/move", hand.clicks(".part-acts form:nth-of-type(1) button")).await;
    hand.sends("/delete", hand.clicks(".part-acts form:nth-of-type(3) button")).await;
    assert_eq!(kept.part("text").await, Value::Null);
    let logo = kept.part("logo").await["id"].as_u64().unwrap();
    hand.clicks(&format!("#part-list [data-choose='{logo}']")).await;
    let dir = tempfile::tempdir().unwrap();
    let (good, bad) = (dir.path().join("mark.png"), dir.path().join("mark.jpg"));
    std::fs::write(&good, bothros_formats::encode_png(40, 20, &[120u8; 40 * 20 * 4]).unwrap()).unwrap();
    std::fs::write(&bad, "no picture").unwrap();
    hand.gives("#logo-file", &[&bad]).await;
    hand.clicks("#logo-form button").await;
    until(driver, "document.getElementById('notice').textContent.includes('mark.jpg')").await;
    hand.gives("#logo-file", &[&good]).await;
    hand.sends("/picture", hand.clicks("#logo-form button")).await;
    assert!(kept.what("logo").await["sha256"].is_string());
    hand.sends("/delete", press(driver, Key::Delete)).await;
    hand.sends("/guides", hand.clicks("[data-guide='0']")).await;
    hand.sends("/guides", hand.clicks("[data-guide='1']")).await;
    hand.sends("/guides", drags(driver, ".guide.upright", (60, 0))).await;
    let guides = kept.state().await["guides"].clone();
    assert!(guides[0][0].as_f64().unwrap() > 105.0 && guides[1][0] == 70.0, "{guides}");
    hand.sends("/guides", drags(driver, ".guide.across", (0, -240))).await;
    assert_eq!(kept.state().await["guides"][1], serde_json::json!([]));
    // A part snaps to a guide.
    hand.clicks(&format!("#part-list [data-choose='{id}']")).await;
    let guide = kept.state().await["guides"][0][0].as_f64().unwrap();
    hand.sends("/place", hand.types("#place-form [name=x]", &format!("{:.2}", guide - 4.0))).await;
    let scale = value(driver, "document.getElementById('paper').clientWidth / 297").await.as_f64().unwrap();
    hand.sends("/place", drags(driver, &piece, ((4.6 * scale) as i64, 0))).await;
    assert!((kept.part("map").await["x"].as_f64().unwrap() - guide).abs() < 0.02);

    // The page; maps that keep together; the name; help.
    hand.picks("#page-form [name=size]", "A3").await;
    hand.picks("#page-form [name=across]", "portrait").await;
    hand.sends("/page", hand.clicks("#page-form button")).await;
    assert_eq!(kept.state().await["page"]["told"], "A3, portrait");
    hand.picks("#page-form [name=size]", "Free").await;
    hand.types("#page-form [name=width]", "240").await;
    hand.types("#page-form [name=height]", "9000").await;
    hand.clicks("#page-form button").await;
    until(driver, "document.getElementById('notice').textContent.includes('cannot be printed')").await;
    hand.types("#page-form [name=height]", "200").await;
    hand.sends("/page", hand.clicks("#page-form button")).await;
    hand.sends("/together", hand.clicks("#together")).await;
    let views: Vec<Value> = kept.state().await["parts"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|p| p["kind"] == "map")
        .map(|p| p["view"].clone())
        .collect();
    assert!(views.len() == 2 && views[0] == views[1], "{views:?}");
    hand.sends("/rename", hand.types("#sheet-name", "Above the mill")).await;
    hand.clicks("#sheet-help").await;
    until(driver, "document.querySelector('.help-sheet')").await;
    accessible(driver, "help on sheets").await;
    hand.clicks("[data-close-help]").await;

    // Written.
    hand.picks("#sheet-format", "SVG").await;
    hand.types("#sheet-dpi", "5000").await;
    hand.clicks("#download-sheet").await;
    until(driver, "document.getElementById('notice').textContent.includes('30 to 1200')").await;
    hand.types("#sheet-dpi", "72").await;
    hand.clicks("#download-sheet").await;
    until(driver, "document.getElementById('sheet').dataset.written === 'sorrel_above-the-mill.svg'").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn sheets_are_begun_copied_between_studies_made_an_atlas_and_deleted() {
    let site = Site::new().await;
    let study = mapped(&site, "Sorrel Water").await;
    surveyed(&site, study).await;
    let browser = browser().await;
    let hand = Hand { driver: &browser.driver };
    let driver = hand.driver;
    let list = format!("{}/studies/{study}/sheets", site.base);
    driver.goto(&list).await.unwrap();
    until(driver, "window.htmx").await;
    hand.types("#new-sheet [name=name]", "Network").await;
    hand.picks("#sheet-layout", "Two").await;
    hand.picks("#new-sheet [name=size]", "Free").await;
    hand.types("#new-sheet [name=width]", "200").await;
    hand.types("#new-sheet [name=height]", "120").await;
    hand.picks("#new-sheet [name=size]", "A4").await;
    hand.picks("#new-sheet [name=across]", "landscape").await;
    hand.clicks("#new-sheet button").await;
    let sheet = opened(driver).await;
    let kept = Kept { site: &site, study, sheet };
    let maps = kept.state().await["parts"].as_array().unwrap().iter().filter(|p| p["kind"] == "map").count();
    assert_eq!(maps, 2);
    // A catchment against a published boundary, with what only one of them holds in the key.
    let first = value(driver, "document.querySelector('.piece-map').dataset.part").await;
    hand.clicks(&format!("#part-list [data-choose='{}']", first.as_str().unwrap())).await;
    until(driver, "document.querySelectorAll('[data-map-layer^=published-]').length > 0").await;
    hand.sends("/layer", hand.clicks("[data-map-layer^=published-]")).await;
    until(driver, "document.querySelector('[data-map-layer^=published-][aria-pressed=true]')").await;
    let svg = site.get(&kept.file("svg", 60)).await.text().await.unwrap();
    for words in [" against ", "Only in the catchment: ", "Only inside the boundary: "] {
        assert!(svg.contains(words), "{words}");
    }
    // Another study shown in the second map; maps of two studies keep together.
    let second = value(driver, "[...document.querySelectorAll('.piece-map')].at(-1).dataset.part").await;
    let second = second.as_str().unwrap().to_owned();
    let dir = tempfile::tempdir().unwrap();
    let other = site.routed(&valley_file(dir.path()), "Twin of it").await;
    hand.clicks(&format!("#part-list [data-choose='{second}']")).await;
    hand.clicks("#part-list [data-choose='1']").await;
    hand.clicks(&format!("#part-list [data-choose='{second}']")).await;
    hand.sends(&format!("/parts/{second}/choices"), hand.picks("#map-study", "Twin")).await;
    let row = site.store().sheet(study, sheet).await.unwrap();
    assert!(row.sheet["parts"].as_array().unwrap().iter().any(|p| p["what"]["shown"]["study"] == other));

    hand.clicks(".sheet-bar .home").await;
    until(driver, "document.querySelector('.sheet-cards')").await;
    accessible(driver, "list of sheets").await;
    hand.clicks(".sheet-cards form[hx-post$='/copy'] button").await;
    let copy = opened(driver).await;
    assert_ne!(copy, sheet);
    driver.goto(&list).await.unwrap();
    until(driver, "document.querySelectorAll('.sheet-cards li').length === 2").await;
    hand.clicks(&format!(".sheet-cards form[hx-post$='/sheets/{copy}/delete'] button")).await;
    until(driver, "document.querySelectorAll('.sheet-cards li').length === 1").await;
    // A fresh page's own copy of the list: the atlas is written, and can be fetched.
    hand.clicks(&format!(".sheet-cards form[hx-post$='/sheets/{sheet}/atlas'] button")).await;
    assert_eq!(site.finish(study).await.state, "done");
    until(driver, "document.getElementById('download-atlas')").await;
    hand.clicks("#download-atlas").await;
    let atlas = site.get(&format!("/studies/{study}/sheets/atlas.pdf")).await;
    assert_eq!(atlas.headers()["content-type"], "application/pdf");
    hand.clicks(&format!("[data-open-sheet='{sheet}']")).await;
    assert_eq!(opened(driver).await, sheet);
    // In the other study, like this one.
    driver.goto(&format!("{}/studies/{other}/sheets", site.base)).await.unwrap();
    hand.clicks("#sheet-from").await;
    hand.picks("#sheet-from", "Sorrel").await;
    press(driver, Key::Escape).await;
    hand.clicks("#copy-sheet button").await;
    let theirs = opened(driver).await;
    assert_eq!(site.store().sheets(other).await.unwrap()[0].id, theirs);
    hand.clicks(".sheet-bar .home").await;
    until(driver, "document.querySelector('.masthead a')").await;
    hand.clicks(".masthead p a").await;
    until(driver, "location.search.includes('handover')").await;
}
