//! Kills at random moments: the server, its worker's job apart, a backend of PostgreSQL, PostgreSQL itself.

use std::path::Path;
use std::time::Duration;

use bothros_store::{JobKind, Kept};
use rand::prelude::*;

use crate::site::{Report, Site, ended};

/// Kills something at random moments of routing; afterwards everything hangs together, and what was chosen is kept.
pub async fn attack(program: &Path, moments: u32, report: &mut Report) -> anyhow::Result<()> {
    let dir = tempfile::Builder::new().prefix("bothros-attack-").tempdir()?;
    let mut site = Site::start(program, dir.path(), &[]).await?;
    let study = site.study(1200, "killed").await?;
    let store = site.store().await?;
    store.enqueue(study, JobKind::Route, Kept::empty()).await?;
    ended(&store, study, Duration::from_secs(60)).await?;
    let mut random = rand::rngs::StdRng::seed_from_u64(7);
    let (mut lost, mut torn, mut stuck, mut done) = (Vec::new(), Vec::new(), Vec::new(), 0);
    for moment in 0..moments {
        let cells = random.random_range(200..2000u32);
        site.send(&format!("/studies/{study}/threshold"), &[("cells", &cells.to_string())]).await?;
        site.send(&format!("/studies/{study}/route"), &[]).await?;
        tokio::time::sleep(Duration::from_millis(random.random_range(0..1800))).await;
        let what = ["server", "backend", "postmaster"][random.random_range(0..3)];
        match what {
            "server" => {
                site.kill()?;
                site.begin().await?;
            }
            "backend" => {
                // One of those that work for the application.
                let postmaster = site.postmaster()?;
                if let Some(pid) = children_of(postmaster).choose(&mut random) {
                    kill(*pid);
                }
            }
            _ => kill(site.postmaster()?),
        }
        let store = match wait_for_store(&site).await {
            Ok(store) => store,
            Err(error) => {
                stuck.push(format!("{moment} {what}: {error}"));
                break;
            }
        };
        match ended(&store, study, Duration::from_secs(90)).await {
            Ok(job) if job.state == "done" || job.state == "interrupted" || job.state == "failed" => {
                done += 1
            }
            Ok(job) => stuck.push(format!("{moment} {what}: {}", job.state)),
            Err(error) => stuck.push(format!("{moment} {what}: {error}")),
        }
        let kept = store.study(study).await?.network.map(|n| n["threshold"].clone());
        let kept_cells = kept.as_ref().and_then(|k| k.as_u64().or(k["cells"].as_u64()));
        if kept_cells != Some(cells as u64) {
            lost.push(format!("{moment} {what}: {kept:?} in place of {cells}"));
        }
        if let Err(error) = store.check().await {
            torn.push(format!("{moment} {what}: {error}"));
        }
        if !site.runs() {
            stuck.push(format!("{moment} {what}: the server has ended"));
            site.begin().await?;
        }
    }
    let told = |all: &[String]| if all.is_empty() { format!("{moments} moments") } else { all.join("; ") };
    report.check("jobs end after a kill", stuck.is_empty() && done == moments, told(&stuck));
    report.check("the chosen threshold is kept", lost.is_empty(), told(&lost));
    report.check("no raster or file is half there", torn.is_empty(), told(&torn));
    let pieces = std::fs::read_dir(dir.path().join("tmp"))?.count();
    report.check(
        "nothing is left in the directory for a while",
        pieces <= 1,
        format!("{pieces} of one server"),
    );
    Ok(())
}

async fn wait_for_store(site: &Site) -> anyhow::Result<bothros_store::Store> {
    for _ in 0..300 {
        if let Ok(store) = site.store().await {
            return Ok(store);
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    anyhow::bail!("PostgreSQL did not come back within a minute")
}

pub fn kill(pid: i32) {
    // It may have gone by itself.
    let _ = nix::sys::signal::kill(nix::unistd::Pid::from_raw(pid), nix::sys::signal::SIGKILL);
}

/// Processes that one has started.
pub fn children_of(of: i32) -> Vec<i32> {
    let Ok(all) = std::fs::read_dir("/proc") else { return Vec::new() };
    let parent = |pid: i32| -> Option<i32> {
        let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
        stat.rsplit(')').next()?.split_whitespace().nth(1)?.parse().ok()
    };
    all.flatten()
        .filter_map(|e| e.file_name().to_str()?.parse::<i32>().ok())
        .filter(|&pid| parent(pid) == Some(of))
        .collect()
}
