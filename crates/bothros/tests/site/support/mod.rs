//! The real application on a PostgreSQL of its own, and ways to talk to it.
#![allow(dead_code)]

pub mod browser;
mod controls;
pub mod hand;
mod terrains;

use std::net::{IpAddr, Ipv4Addr};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::LazyLock;
use std::sync::atomic::{AtomicUsize, Ordering};

use bothros::elevations::Elevations;
use bothros::serve::{Outside, Running, start};
use bothros_store::server::LocalServer;
use bothros_store::{Job, Store};
use reqwest::multipart::{Form, Part};
use reqwest::{Client, Response, StatusCode};

pub use terrains::*;

static SERVER: LazyLock<LocalServer> = LazyLock::new(|| LocalServer::temporary().expect("PostgreSQL starts"));
static NEXT: AtomicUsize = AtomicUsize::new(0);

/// Address of a new, empty database.
pub async fn database() -> String {
    let name = format!("test_{}", NEXT.fetch_add(1, Ordering::Relaxed));
    sql(&SERVER.url(), &format!("CREATE DATABASE {name}"));
    SERVER.url_of(&name)
}

/// Has PostgreSQL carry out a command beside the application; what it answers.
pub fn sql(url: &str, command: &str) -> String {
    let out = Command::new("psql").args([url, "-X", "-q", "-A", "-t", "-c", command]).output();
    let out = out.expect("psql is there");
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8_lossy(&out.stdout).trim().to_owned()
}

/// Leaves a study whose terrain cannot be read.
pub fn damage(url: &str, study: i64) {
    let broken = r#"{"v": 1, "frame": null}"#;
    sql(
        url,
        &format!(
            "UPDATE dem SET terrain = '{broken}' WHERE study_id = {study}; UPDATE study SET updated_at = now() WHERE id = {study}"
        ),
    );
}

/// The application, started in this process on a free port.
pub struct Site {
    pub running: Running,
    pub base: String,
    pub client: Client,
    pub token: String,
}

/// An upload limit small enough to be passed by a test.
pub const UPLOAD_LIMIT: u64 = 60_000_000;

impl Site {
    pub async fn new() -> Self {
        Self::on(&database().await).await
    }

    pub async fn on(url: &str) -> Self {
        Self::with(url, Elevations::At("http://127.0.0.1:1/".into())).await
    }

    /// With an elevation archive, or with map servers too.
    pub async fn with(url: &str, outside: impl Into<Outside>) -> Self {
        bothros::limits::read_files_with(env!("CARGO_BIN_EXE_bothros").into(), 3000);
        let running = start(url, UPLOAD_LIMIT, IpAddr::V4(Ipv4Addr::LOCALHOST), 0, outside)
            .await
            .expect("the application starts");
        let base = format!("http://127.0.0.1:{}", running.address.port());
        let client = Client::new();
        let page = client.get(&base).send().await.expect("the start page answers");
        let cookie = page.headers()["set-cookie"].to_str().unwrap();
        let token = cookie.split(['=', ';']).nth(1).unwrap().to_owned();
        Self { running, base, client, token }
    }

    pub fn store(&self) -> &Store {
        &self.running.store
    }

    pub async fn get(&self, path: &str) -> Response {
        self.client.get(format!("{}{path}", self.base)).send().await.unwrap()
    }

    pub async fn json(&self, path: &str) -> serde_json::Value {
        let answer = self.get(path).await;
        assert_eq!(answer.status(), StatusCode::OK, "{path}");
        answer.json().await.unwrap()
    }

    /// A request that changes something, as a page of the site makes it.
    pub fn post(&self, path: &str) -> reqwest::RequestBuilder {
        self.client
            .post(format!("{}{path}", self.base))
            .header("Cookie", format!("bothros_token={}", self.token))
            .header("X-Bothros-Token", &self.token)
    }

    /// Sends a form; answers status and text.
    pub async fn send(&self, path: &str, fields: &[(&str, &str)]) -> (StatusCode, String) {
        let answer = self.post(path).form(fields).send().await.unwrap();
        (answer.status(), answer.text().await.unwrap())
    }

    /// Uploads files as the start page does: status, and address or message.
    pub async fn upload(&self, files: &[&Path], name: &str) -> (StatusCode, String) {
        let mut form = Form::new().text("name", name.to_owned());
        for path in files {
            let file = path.file_name().unwrap().to_str().unwrap().to_owned();
            let part = Part::bytes(std::fs::read(path).unwrap()).file_name(file.clone());
            form = form.part(if file.ends_with(".prj") { "prj" } else { "dem" }, part);
        }
        let answer = self.post("/studies").multipart(form).send().await.unwrap();
        (answer.status(), answer.text().await.unwrap())
    }

    /// Uploads a DEM that is expected to be taken, and waits until it is read.
    pub async fn study(&self, path: &Path, name: &str) -> i64 {
        let (status, text) = self.upload(&[path], name).await;
        assert_eq!(status, StatusCode::OK, "{text}");
        let id = self.store().studies().await.unwrap().iter().find(|s| s.name == name).unwrap().id;
        let job = self.finish(id).await;
        assert_eq!(job.state, "done", "{}", job.message);
        id
    }

    /// Waits until the last job of a study has ended.
    pub async fn finish(&self, study: i64) -> Job {
        let mut events = self.store().events().await.unwrap();
        loop {
            let job = self.store().last_job(study).await.unwrap().expect("a job was asked for");
            if !job.is_active() {
                return job;
            }
            // Events tell of every step; the limit only ends a test that hangs.
            let next = tokio::time::timeout(std::time::Duration::from_secs(120), events.next()).await;
            next.expect("the job moves on").unwrap();
        }
    }

    pub async fn routed(&self, path: &Path, name: &str) -> i64 {
        let id = self.study(path, name).await;
        let (status, text) = self.send(&format!("/studies/{id}/route"), &[]).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{text}");
        assert_eq!(self.finish(id).await.state, "done");
        id
    }
}

/// Runs a script of tests/reference; its printed lines.
pub fn python(script: &str, arguments: &[&str]) -> String {
    let reference = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/reference");
    let out = Command::new(reference.join(".venv/bin/python"))
        .arg(reference.join(script))
        .args(arguments)
        .output()
        .expect("tests/reference/setup has been run");
    let told = [&out.stdout[..], &out.stderr[..]].map(String::from_utf8_lossy).concat();
    assert!(out.status.success(), "{script}: {told}");
    String::from_utf8_lossy(&out.stdout).into_owned()
}

/// The real SRTM tile as a geographic GeoTIFF.
pub fn srtm_file(dir: &Path) -> PathBuf {
    let path = dir.join("jacksboro.tif");
    python("srtm.py", &[path.to_str().unwrap()]);
    path
}

/// Sends files as the form of layers does: status, and what was said.
pub async fn add_layer(
    site: &Site,
    study: i64,
    role: &str,
    files: &[(&str, Vec<u8>)],
) -> (StatusCode, String) {
    let mut form = Form::new().text("role", role.to_owned()).text("source", "survey of 2024");
    for (name, bytes) in files {
        form = form.part("file", Part::bytes(bytes.clone()).file_name((*name).to_owned()));
    }
    let answer = site.post(&format!("/studies/{study}/layers")).multipart(form).send().await.unwrap();
    let told = answer.headers().get("X-Told").map(|t| t.to_str().unwrap().replace("%20", " "));
    (answer.status(), told.unwrap_or(answer.text().await.unwrap()))
}

/// A GeoJSON of lines in WGS 84 whose places are given in the study's CRS.
pub fn geojson(lines: &[&[[f64; 2]]]) -> Vec<u8> {
    let to = bothros_formats::Transform::to_wgs84(&utm()).unwrap();
    let features: Vec<_> = lines
        .iter()
        .map(|line| {
            let line: Vec<_> =
                line.iter().map(|p| to.point(p[0], p[1]).unwrap()).map(|(x, y)| [x, y]).collect();
            serde_json::json!({ "type": "Feature", "properties": { "name": "Sorrel" },
                "geometry": { "type": "LineString", "coordinates": line } })
        })
        .collect();
    serde_json::to_vec(&serde_json::json!({ "type": "FeatureCollection", "features": features })).unwrap()
}
