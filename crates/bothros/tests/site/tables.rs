//! The tables of a study, in the drawer below the map: used by hand, and asked for over the wire.

use crate::support::browser::{accessible, browser, click, press, until, value};
use crate::support::{Site, add_layer, geojson, valley_file};
use reqwest::StatusCode;
use thirtyfour::prelude::*;

async fn sorrel(site: &Site) -> i64 {
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "Sorrel Water").await;
    let (status, text) = site.send(&format!("/studies/{study}/threshold"), &[("cells", "400")]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
    study
}

/// Types into a field of the drawer, after taking out what stands there.
async fn typed(driver: &WebDriver, selector: &str, text: &str) {
    let field = driver.query(By::Css(selector)).first().await.unwrap();
    field.click().await.unwrap();
    field.send_keys(Key::Control + "a").await.unwrap();
    field.send_keys(Key::Backspace + text).await.unwrap();
}

const ROWS: &str = "[...document.querySelectorAll('#drawer tbody tr')]";

#[tokio::test(flavor = "multi_thread")]
async fn a_table_is_sorted_narrowed_and_its_columns_chosen_by_hand() {
    let site = Site::new().await;
    let study = sorrel(&site).await;
    let browser = browser().await;
    let driver = &browser.driver;
    driver.goto(&format!("{}/studies/{study}/?stage=network", site.base)).await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes'").await;
    press(driver, "t").await;
    until(driver, &format!("!document.getElementById('drawer').hidden && {ROWS}.length > 3")).await;
    accessible(driver, "the drawer").await;
    let all = value(driver, &format!("{ROWS}.length")).await.as_u64().unwrap();
    let column = |name: &str| {
        format!(
            "(() => {{ const at = [...document.querySelectorAll('#drawer th')].findIndex(h => h.dataset.column === '{name}');
                return {ROWS}.map(r => Number(r.cells[at].textContent.replace('\\u202f', ''))); }})()"
        )
    };
    // Once up, once down.
    let lengths = column("length_m");
    click(driver, "#drawer [data-sort=length_m]").await;
    until(driver, "document.querySelector('#drawer th[aria-sort=ascending]')").await;
    until(driver, &format!("{lengths}.every((v, i, all) => i === 0 || all[i - 1] <= v)")).await;
    click(driver, "#drawer [data-sort=length_m]").await;
    until(driver, "document.querySelector('#drawer th[aria-sort=descending]')").await;
    until(driver, &format!("{lengths}.every((v, i, all) => i === 0 || all[i - 1] >= v)")).await;
    // A condition takes effect while it is typed, and the field keeps the cursor.
    typed(driver, "#drawer [data-where=length_m]", "> 300").await;
    until(driver, &format!("{ROWS}.length > 0 && {ROWS}.length < {all} && {lengths}.every(v => v > 300)"))
        .await;
    assert_eq!(value(driver, "document.activeElement.dataset.where").await, "length_m");
    until(driver, &format!("document.querySelector('.sheet-told').textContent.includes('of {all}')")).await;
    // A wrong one is told and takes no row away.
    typed(driver, "#drawer [data-where=strahler]", "many").await;
    until(driver, "document.getElementById('notice').textContent.includes('many')").await;
    assert!(value(driver, &format!("{ROWS}.length")).await.as_u64().unwrap() > 0);
    click(driver, "#drawer [data-clear]").await;
    until(driver, &format!("{ROWS}.length === {all}")).await;
    // A column goes, and stays away after the page is opened again; so do sorting and drawer.
    click(driver, "#drawer .sheet-columns summary").await;
    click(driver, "#drawer [data-show-column][value=sinuosity]").await;
    until(driver, "!document.querySelector('#drawer th[data-column=sinuosity]')").await;
    driver.refresh().await.unwrap();
    until(driver, &format!("document.body.dataset.ready === 'yes' && {ROWS}.length === {all}")).await;
    until(driver, "!document.querySelector('#drawer th[data-column=sinuosity]')").await;
    until(driver, "document.querySelector('#drawer th[data-column=length_m][aria-sort=descending]')").await;
    click(driver, "#drawer .sheet-columns summary").await;
    click(driver, "#drawer [data-usual-columns]").await;
    until(driver, "document.querySelector('#drawer th[data-column=sinuosity]')").await;
    // Tabs by click and by key; a table of another stage follows its stage.
    click(driver, "#drawer [data-tab=orders]").await;
    until(driver, "document.querySelector('#drawer th[data-column=mean_length_m]')").await;
    press_on(driver, "#drawer [data-tab=orders]", Key::Left).await;
    until(driver, "document.querySelector('#drawer [data-tab=trials][aria-selected=true]')").await;
    until(driver, "document.querySelector('#drawer .empty')?.textContent.includes('No trial')").await;
    press(driver, "2").await;
    until(driver, "document.querySelector('#drawer [data-tab=sinks]')").await;
    press(driver, "1").await;
    until(
        driver,
        "document.getElementById('drawer').hidden && document.getElementById('open-drawer').hidden",
    )
    .await;
    press(driver, "3").await;
    until(driver, "!document.getElementById('drawer').hidden").await;
    click(driver, "#drawer [data-close-drawer]").await;
    until(driver, "document.getElementById('drawer').hidden").await;
}

async fn press_on(driver: &WebDriver, selector: &str, key: Key) {
    driver.query(By::Css(selector)).first().await.unwrap().send_keys("" + key).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_and_places_on_the_map_point_at_each_other() {
    let site = Site::new().await;
    let study = sorrel(&site).await;
    let browser = browser().await;
    let driver = &browser.driver;
    driver.goto(&format!("{}/studies/{study}/?stage=network", site.base)).await.unwrap();
    until(driver, "document.body.dataset.ready === 'yes'").await;
    let map = driver.find(By::Id("map")).await.unwrap();
    // With the drawer closed a click on a stream tells of its reach, and leads to its row.
    let stem = "(() => { const f = bothrosMap.layers.streams.getSource().getFeatures().find(f => f.get('magnitude') === 2);
        bothrosMap.map.getView().setResolution(6); bothrosMap.map.getView().setCenter(f.getGeometry().getCoordinateAt(0.5)); return f.get('id'); })()";
    until(driver, "bothrosMap.layers.streams.getSource().getFeatures().length > 3 && bothrosMap.layers.streams.isVisible()").await;
    let id = value(driver, stem).await.as_u64().unwrap();
    let under = format!(
        "(() => {{ const p = bothrosMap.map.getPixelFromCoordinate(bothrosMap.map.getView().getCenter()); return p && bothrosMap.map.forEachFeatureAtPixel(p, f => f.get('id'), {{ hitTolerance: 5 }}) === {id}; }})()"
    );
    until(driver, &under).await;
    driver.action_chain().move_to_element_center(&map).click().perform().await.unwrap();
    until(driver, &format!("document.querySelector('#measured .card-row')?.dataset.key === '{id}'")).await;
    accessible(driver, "the card of a reach").await;
    click(driver, "#measured [data-open-table]").await;
    until(driver, &format!("document.querySelector('#drawer tr.chosen')?.dataset.key === '{id}'")).await;
    // A link to a neighbour shows its row.
    let next = "document.querySelector('#drawer tr.chosen .does [data-to-row]')";
    let upstream = value(driver, &format!("{next}.dataset.toRow")).await;
    click(driver, "#drawer tr.chosen .does [data-to-row]").await;
    until(driver, &format!("document.querySelector('#drawer tr.chosen')?.dataset.key === {upstream}")).await;
    // The pointer on a row marks the reach on the map.
    let row = driver.query(By::Css("#drawer tr.chosen td:first-child")).first().await.unwrap();
    driver.action_chain().move_to_element_center(&row).perform().await.unwrap();
    until(driver, "document.getElementById('map').dataset.pointed === 'LineString'").await;
    // A click goes there.
    let far = "bothrosMap.map.getView().getCenter().join()";
    let before = value(driver, far).await;
    row.click().await.unwrap();
    until(driver, &format!("!bothrosMap.map.getView().getAnimating() && {far} !== {before}")).await;
    // And the pointer on the map marks the row: a reach is under the middle of the map now.
    driver.execute(stem.replace("(() =>", "return (() =>"), vec![]).await.unwrap();
    until(driver, &format!("!bothrosMap.map.getView().getAnimating() && {under}")).await;
    let pointed = format!("document.querySelector('#drawer tr.pointed')?.dataset.key === '{id}'");
    for step in 0..50 {
        // A hand is never quite at rest.
        let chain = driver.action_chain().move_to_element_center(&map).move_by_offset(step % 3 - 1, step % 2);
        chain.perform().await.unwrap();
        if value(driver, &pointed).await == true {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    until(driver, &pointed).await;
    // The drawer is made higher by its grip and by keys; the map gives way.
    let height = "document.getElementById('drawer').clientHeight";
    let was = value(driver, height).await.as_i64().unwrap();
    let grip = driver.find(By::Css("#drawer .grip")).await.unwrap();
    driver.action_chain().drag_and_drop_element_by_offset(&grip, 0, -80).perform().await.unwrap();
    until(driver, &format!("Math.abs({height} - {was} - 80) < 4")).await;
    until(driver, "bothrosMap.map.getSize()[1] === document.getElementById('map').clientHeight").await;
    grip.send_keys("" + Key::Down).await.unwrap();
    until(driver, &format!("Math.abs({height} - {was} - 40) < 4")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_decided_in_a_table_stands_there_at_once() {
    let site = Site::new().await;
    let study = sorrel(&site).await;
    let stem = [[502_010.0, 4_759_900.0], [502_012.0, 4_757_010.0]];
    let ditch = [[503_400.0, 4_759_300.0], [503_700.0, 4_758_200.0]];
    add_layer(&site, study, "mapped_streams", &[("mapped.geojson", geojson(&[&stem, &ditch]))]).await;
    let browser = browser().await;
    let driver = &browser.driver;
    driver.goto(&format!("{}/studies/{study}/?stage=network", site.base)).await.unwrap();
    until(driver, "document.querySelector('#desk [data-open-table=shortfalls]')").await;
    click(driver, "#desk [data-open-table=shortfalls]").await;
    until(driver, &format!("document.querySelector('#drawer [data-table=shortfalls]') && {ROWS}.length > 1"))
        .await;
    // Texts are searched.
    typed(driver, "#drawer [data-find]", "missed").await;
    until(driver, &format!("{ROWS}.length > 0 && {ROWS}.every(r => r.textContent.includes('missed'))")).await;
    let missed = value(driver, &format!("{ROWS}.length")).await.as_u64().unwrap() as usize;
    click(driver, "#drawer .decide-shortfall summary").await;
    typed(driver, "#drawer .decide-shortfall [name=remark]", "a ditch on the ridge").await;
    click(driver, "#drawer .decide-shortfall [value=accepted]").await;
    until(driver, &format!("{ROWS}[0].textContent.includes('accepted')")).await;
    until(driver, &format!("{ROWS}[0].textContent.includes('a ditch on the ridge')")).await;
    // What is saved holds all columns, in metres whatever the page shows.
    let csv = site.get(&format!("/studies/{study}/tables/shortfalls?as=csv&find=missed")).await;
    assert!(csv.headers()["content-disposition"].to_str().unwrap().contains("shortfalls.csv"));
    let csv = csv.text().await.unwrap();
    let head = "shortfall_id,side,length_m,contributing_area_km2,reason,verdict,remark";
    assert!(csv.starts_with(head) && csv.contains("a ditch on the ridge"), "{csv}");
    assert_eq!(csv.trim().lines().count(), missed + 1);
    // Copied, as it stands there.
    driver
        .execute("navigator.clipboard.writeText = async (text) => { window.copied = text; }", vec![])
        .await
        .unwrap();
    click(driver, "#drawer [data-copy]").await;
    until(
        driver,
        &format!(
            "window.copied?.split('\\n').length === {missed} + 1 && window.copied.includes('\\taccepted\\t')"
        ),
    )
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn odd_questions_to_a_table_are_answered_in_words() {
    let site = Site::new().await;
    let study = sorrel(&site).await;
    for (asked, told) in [
        ("nothing", "no table called"),
        ("reaches?sort=colour", "no column “colour”"),
        ("reaches?where.length_m=long", "long"),
        ("reaches?from=first", "number of a row"),
        ("reaches?as=gif", "“as”"),
        ("reaches?near=1,2", "place and a distance"),
    ] {
        let answer = site.get(&format!("/studies/{study}/tables/{asked}")).await;
        assert!(answer.status().is_client_error(), "{asked}: {}", answer.status());
        let text = answer.text().await.unwrap();
        assert!(text.contains(told), "{asked}: {text}");
    }
    // A place that nothing is near to has no card.
    let answer = site.get(&format!("/studies/{study}/tables/sinks?as=card&near=0,0,10")).await;
    assert_eq!(answer.status(), StatusCode::NO_CONTENT);
    // Every table that the stages name answers.
    let tables = site.json(&format!("/studies/{study}/tables")).await;
    let mut names = Vec::new();
    for (_, of_stage) in tables.as_object().unwrap() {
        names.extend(of_stage.as_array().unwrap().iter().map(|t| t["name"].as_str().unwrap().to_owned()));
    }
    assert_eq!(names.len(), 14, "{names:?}");
    for name in names {
        for form in ["html", "csv", "text"] {
            let answer = site.get(&format!("/studies/{study}/tables/{name}?as={form}")).await;
            assert_eq!(answer.status(), StatusCode::OK, "{name} as {form}");
        }
    }
}
