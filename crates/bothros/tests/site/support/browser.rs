//! Headless Chromium, and what a person does in it.
#![allow(dead_code)]

use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use thirtyfour::error::WebDriverErrorInner;
use thirtyfour::prelude::*;

use super::Site;

/// A browser that ends with the test.
pub struct Browser {
    pub driver: WebDriver,
    process: Child,
}

impl Drop for Browser {
    fn drop(&mut self) {
        super::controls::write_down(&self.driver);
        // The driver leads a group that its browser belongs to; they may have ended already.
        let group = format!("-{}", self.process.id());
        let _ = Command::new("kill").args(["-KILL", "--", &group]).status();
        let _ = self.process.wait();
    }
}

pub async fn browser() -> Browser {
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let process = Command::new("chromedriver")
        .arg(format!("--port={port}"))
        .process_group(0)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("chromium-driver is installed");
    let mut capabilities = DesiredCapabilities::chrome();
    capabilities.set_binary("/usr/bin/chromium").unwrap();
    for argument in [
        "--no-sandbox",
        "--disable-dev-shm-usage",
        "--disable-quic",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
        "--disable-gpu",
        // Without a graphics card every frame of a movement costs as much as what is tested.
        "--force-prefers-reduced-motion",
        "--window-size=1280,940",
    ] {
        capabilities.add_arg(argument).unwrap();
    }
    if std::env::var_os("BOTHROS_SHOW_BROWSER").is_none() {
        capabilities.add_arg("--headless=new").unwrap();
    }
    let address = format!("http://127.0.0.1:{port}");
    for _ in 0..100 {
        if std::net::TcpStream::connect(("127.0.0.1", port)).is_ok() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let driver = WebDriver::new(&address, capabilities).await.expect("chromium starts");
    driver.set_script_timeout(Duration::from_secs(60)).await.unwrap();
    super::controls::note(&driver).await;
    Browser { driver, process }
}

/// Waits until an expression in the page is true.
pub async fn until(driver: &WebDriver, expression: &str) {
    let script = format!(
        "const done = arguments[0]; const t0 = Date.now(); (function look() {{ let ok = false; try {{ ok = !!({expression}); }} catch {{}} \
         if (ok) done(true); else if (Date.now() - t0 > 55000) done(false); else setTimeout(look, 40); }})();"
    );
    let found = driver.execute_async(&script, vec![]).await.unwrap();
    if found.json().as_bool().unwrap() {
        return;
    }
    let told = "return document.getElementById('notice')?.textContent + ' | ' + document.getElementById('desk')?.innerText";
    let told = driver.execute(told, vec![]).await.unwrap();
    panic!("never true: {expression}\n{}", told.json());
}

pub async fn value(driver: &WebDriver, expression: &str) -> serde_json::Value {
    driver.execute(&format!("return {expression}"), vec![]).await.unwrap().json().clone()
}

pub async fn press(driver: &WebDriver, keys: impl Into<TypingData>) {
    driver.find(By::Css("body")).await.unwrap().send_keys(keys).await.unwrap();
}

/// The middle of what a selector finds, in pixels of the window.
pub async fn middle(driver: &WebDriver, selector: &str) -> (i64, i64) {
    let middle = format!(
        "(r => [r.left + r.width / 2, r.top + r.height / 2].map(Math.round))(document.querySelector({selector:?}).getBoundingClientRect())"
    );
    let at = value(driver, &middle).await;
    (at[0].as_i64().unwrap(), at[1].as_i64().unwrap())
}

/// Turns the wheel over the middle of what a selector finds; negative towards oneself zooms in.
pub async fn wheel(driver: &WebDriver, selector: &str, pixels: i64) {
    let (x, y) = middle(driver, selector).await;
    let turn = serde_json::json!({ "actions": [{ "type": "wheel", "id": "wheel", "actions": [{
        "type": "scroll", "x": x, "y": y, "deltaX": 0, "deltaY": pixels, "duration": 0, "origin": "viewport" }] }] });
    let address = format!("{}session/{}/actions", driver.handle().server_url(), driver.handle().session_id());
    let answer = reqwest::Client::new().post(address).json(&turn).send().await.unwrap();
    assert!(answer.status().is_success(), "{}", answer.text().await.unwrap());
}

pub async fn click(driver: &WebDriver, selector: &str) {
    let mut last = None;
    // A part that is fetched anew at this moment is clicked again, as a person would.
    for _ in 0..10 {
        // What stands in a section that is not shown is reached by its tab.
        let section = driver
            .execute(
                "return document.querySelector(arguments[0])?.closest('[data-section][hidden]')?.dataset.section ?? null",
                vec![selector.into()],
            )
            .await
            .unwrap();
        if let Some(section) = section.json().as_str() {
            let tab = format!("[data-to-section={section}]");
            driver.query(By::Css(&tab)).first().await.unwrap().click().await.unwrap();
        }
        let element = driver.query(By::Css(selector)).first().await.unwrap();
        let clicked = match element.scroll_into_view().await {
            Ok(()) => element.click().await,
            Err(error) => Err(error),
        };
        let Err(error) = clicked else { return };
        match error.as_inner() {
            WebDriverErrorInner::StaleElementReference(_) => {}
            WebDriverErrorInner::ElementNotInteractable(_) => {
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
            _ => panic!("{selector}: {error}"),
        }
        last = Some(error);
    }
    panic!("{selector} never rests: {}", last.map_or(String::new(), |e| e.to_string()));
}

/// No violation of WCAG 2.2 A and AA that axe-core finds.
pub async fn accessible(driver: &WebDriver, view: &str) {
    let axe =
        std::fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../web/vendor/test/axe.min.js"))
            .unwrap();
    driver.execute(&axe, vec![]).await.unwrap();
    let script = "const done = arguments[0]; axe.run({ runOnly: ['wcag2a','wcag2aa','wcag21a','wcag21aa','wcag22aa'] })
        .then(r => done(r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.html + ' ' + n.failureSummary).join(' ; '))));";
    let found = driver.execute_async(script, vec![]).await.unwrap();
    assert_eq!(found.json(), &serde_json::json!([]), "{view}");
}

pub async fn upload(driver: &WebDriver, site: &Site, file: &Path, name: &str) -> i64 {
    driver.goto(&site.base).await.unwrap();
    until(driver, "window.Alpine").await;
    accessible(driver, "start page").await;
    driver.find(By::Id("files")).await.unwrap().send_keys(file.to_str().unwrap()).await.unwrap();
    let field = driver.find(By::Id("study-name")).await.unwrap();
    field.clear().await.unwrap();
    field.send_keys(name).await.unwrap();
    click(driver, ".new-study button[type=submit]").await;
    until(driver, "document.body.dataset.ready === 'yes'").await;
    let id = value(driver, "document.getElementById('study').dataset.study").await;
    id.as_str().unwrap().parse().unwrap()
}
