//! A full disk, on a small file system in memory.

use std::io::Write;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use crate::site::{Report, Site, ended};

/// A file system that goes when this goes.
struct Mounted(std::path::PathBuf);

impl Drop for Mounted {
    fn drop(&mut self) {
        // What could not be unmounted is told by the system.
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

/// Writes until nothing more fits.
fn fill(path: &Path) -> std::io::Result<()> {
    let mut file = std::fs::OpenOptions::new().create(true).append(true).open(path)?;
    for size in [1 << 20, 4096, 1] {
        let piece = vec![1u8; size];
        while file.write_all(&piece).is_ok() {}
    }
    Ok(())
}

pub async fn attack(program: &Path, report: &mut Report) -> anyhow::Result<()> {
    let dir = tempfile::Builder::new().prefix("bothros-attack-").tempdir()?;
    let small = dir.path().join("small");
    std::fs::create_dir(&small)?;
    let mounted = Command::new("mount")
        .args(["-t", "tmpfs", "-o", "size=1400m,mode=0755", "none"])
        .arg(&small)
        .status();
    if !mounted.is_ok_and(|s| s.success()) {
        println!("       a full disk was not tried: mounting a small file system needs root");
        return Ok(());
    }
    let mounted = Mounted(small.clone());
    let mut site = Site::start(program, &small, &[]).await?;
    let study = site.study(1000, "full").await?;
    let store = site.store().await?;
    site.send(&format!("/studies/{study}/route"), &[]).await?;
    ended(&store, study, Duration::from_secs(60)).await?;
    let other = site.study(1000, "to be deleted").await?;
    let before = store.study(study).await?.network;
    fill(&small.join("filling"))?;
    let words = |told: &str| told.contains("disk") && told.contains("full") && told.len() < 400;
    let mut told = Vec::new();
    // Each is kept whole or refused whole, in words.
    let mut whole = true;
    for n in 0..40 {
        let cells = (300 + 10 * n).to_string();
        let (status, text) = site.send(&format!("/studies/{study}/threshold"), &[("cells", &cells)]).await?;
        if !status.is_success() {
            whole &= words(&text);
            told.push(text);
        }
    }
    let now = store.study(study).await.ok().and_then(|s| s.network);
    report.check(
        "a threshold on a full disk",
        whole,
        told.first().cloned().unwrap_or("all were kept".into()),
    );
    let (status, text) = site
        .upload("/studies", "dem", &[("r.tif", crate::site::rough(1000, dir.path())?)], &[("name", "n")])
        .await?;
    let refused = !status.is_success() && words(&text);
    report.check("an upload on a full disk", refused, format!("{status}, “{text}”"));
    site.send(&format!("/studies/{study}/route"), &[]).await?;
    let state = match ended(&store, study, Duration::from_secs(90)).await {
        Ok(job) => format!("{}: {}", job.state, job.message),
        Err(error) => error.to_string(),
    };
    let page = site.client.get(&site.base).send().await?.status();
    report.check("the service lives", site.runs() && page.is_success(), format!("{page}; routing {state}"));
    report.check(
        "finished work is there",
        now.is_some() && before.is_some(),
        "the network is as it was chosen",
    );
    drop(store);
    // It stops, and starts again on the full disk.
    site.stop()?;
    fill(&small.join("filling"))?;
    let begun = site.begin().await;
    report.check(
        "it starts again on a full disk",
        begun.is_ok(),
        begun.err().map_or("with its reserve".into(), |e| e.to_string()),
    );
    if site.runs() {
        let free =
            || nix::sys::statvfs::statvfs(&small).map_or(0, |s| s.blocks_available() * s.fragment_size());
        let least = free();
        let (one, a) = site.send(&format!("/studies/{other}/delete"), &[]).await?;
        let (two, b) = site.send(&format!("/studies/{other}/purge"), &[]).await?;
        let gained = free().saturating_sub(least) as f64 / 1e6;
        report.check(
            "deleting for good gives room back",
            one.is_success() && two.is_success() && gained > 1.0,
            format!("{gained:.0} MB {a}{b}"),
        );
    }
    drop(site);
    drop(mounted);
    Ok(())
}
