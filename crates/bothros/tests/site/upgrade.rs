//! Data of yesterday: dumps of databases that earlier builds wrote, one of each build that changed what is kept, are
//! brought up to this build; every study opens, every page of it answers, and everything can be undone.
//!
//! The dumps were written by those builds themselves, each from the same small valley: two studies with mosaics, layers,
//! decisions, trials, pictures, pour points, a parked DEM and a list of changes.

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::support::{Site, database};
use reqwest::StatusCode;

fn dumps() -> Vec<PathBuf> {
    let dir = Path::new(env!("CARGO_MANIFEST_DIR")).join("../store/tests/dumps");
    let mut all: Vec<_> = std::fs::read_dir(dir).unwrap().map(|e| e.unwrap().path()).collect();
    all.retain(|p| p.extension().is_some_and(|e| e == "gz"));
    all.sort();
    all
}

async fn filled(dump: &Path) -> String {
    let url = database().await;
    let script = r#"gunzip -c "$1" | psql -X -q -v ON_ERROR_STOP=1 "$2" > /dev/null"#;
    let out = Command::new("bash")
        .args(["-o", "pipefail", "-c", script, "bash"])
        .arg(dump)
        .arg(&url)
        .output()
        .unwrap();
    assert!(out.status.success(), "{}: {}", dump.display(), String::from_utf8_lossy(&out.stderr));
    url
}

#[tokio::test(flavor = "multi_thread")]
async fn what_earlier_builds_wrote_is_read_shown_and_undone() {
    let all = dumps();
    assert!(all.len() >= 22, "{all:?}");
    for dump in all {
        let of = dump.file_stem().unwrap().to_string_lossy().into_owned();
        let site = Site::on(&filled(&dump).await).await;
        let page = site.get("/").await.text().await.unwrap();
        assert!(!page.contains("cannot be opened"), "{of}: {page}");
        let studies = site.store().studies().await.unwrap();
        assert!(!studies.is_empty(), "{of}");
        if of.ends_with("723c715") {
            // What was a document then is rows now, and as it was.
            let listed = |at: usize, list: &str| {
                studies.iter().find(|s| s.id == at as i64).unwrap().settings[list].as_array().unwrap().len()
            };
            assert_eq!((listed(1, "edits"), listed(1, "shortfalls")), (2, 2));
        }
        if of.ends_with("3efefd3") {
            // What a package rests on is told otherwise since then; this one is up to date all the same.
            assert_eq!(site.store().packages(Some(1)).await.unwrap().get(&1), Some(&true));
        }
        for study in &studies {
            let base = format!("/studies/{}", study.id);
            let view = "west=501500&south=4757600&east=502500&north=4758800&resolution=10&cells=60";
            let pages = ["terrain", "conditioning", "network", "catchments", "handover"]
                .map(|s| format!("/desk/{s}"));
            let parts = [
                "/",
                "/rail",
                "/log",
                "/map",
                "/catchments",
                "/backdrops",
                "/barriers",
                "/trials",
                "/shortfalls",
            ];
            let parts = parts.map(str::to_owned).into_iter().chain(pages);
            for path in
                parts.chain([format!("/streams?{view}"), format!("/layers?{view}"), "/evidence".into()])
            {
                let answer = site.get(&format!("{base}{path}")).await;
                let (status, text) = (answer.status(), answer.text().await.unwrap());
                // A study that is not routed yet has no evidence.
                let fine = status.is_success()
                    || (status == StatusCode::UNPROCESSABLE_ENTITY && study.routing.is_none());
                assert!(fine, "{of}{base}{path}: {status} {text}");
            }
            for barrier in site.store().barriers(study.id).await.unwrap() {
                let answer = site.get(&format!("{base}/barriers/{}", barrier.id)).await;
                assert_eq!(answer.status(), StatusCode::OK, "{of} barrier {}", barrier.id);
            }
            // Everything that was done is undone, whatever it was.
            let mut undone = 0;
            loop {
                let (status, told) = site.send(&format!("{base}/undo"), &[]).await;
                match status {
                    StatusCode::NO_CONTENT => undone += 1,
                    StatusCode::UNPROCESSABLE_ENTITY if told.contains("nothing left") => break,
                    _ => panic!("{of}: after {undone} undone: {status} {told}"),
                }
                if site.store().active_job(study.id).await.unwrap().is_some() {
                    let job = site.finish(study.id).await;
                    assert_eq!(job.state, "done", "{of}: {}", job.message);
                }
            }
            // Jobs and parked DEMs of then are still known.
            for candidate in site.store().candidates(study.id).await.unwrap() {
                let (status, told) =
                    site.send(&format!("{base}/candidates/{}/take-up", candidate.id), &[]).await;
                assert_eq!(status, StatusCode::NO_CONTENT, "{of}: {told}");
            }
            let (status, told) = site.send(&format!("{base}/route"), &[]).await;
            assert_eq!(status, StatusCode::NO_CONTENT, "{of}: {told}");
            let job = site.finish(study.id).await;
            assert_eq!(job.state, "done", "{of}: {}", job.message);
        }
        site.running.stop().await.unwrap();
    }
}
