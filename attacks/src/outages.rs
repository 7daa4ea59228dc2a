//! PostgreSQL away for a while, and connections that say nothing.

use std::io::Write;
use std::net::TcpStream;
use std::path::Path;
use std::time::{Duration, Instant};

use bothros_store::{JobKind, Kept};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use crate::site::{Report, Site, ended};

pub async fn attack(program: &Path, pauses: &[u64], report: &mut Report) -> anyhow::Result<()> {
    let dir = tempfile::Builder::new().prefix("bothros-attack-").tempdir()?;
    let mut site = Site::start(program, dir.path(), &[]).await?;
    let study = site.study(1200, "away").await?;
    for &seconds in pauses {
        let store = site.store().await?;
        store.enqueue(study, JobKind::Route, Kept::empty()).await?;
        // It stands still, as on a machine that hangs: connections are open, and nothing answers.
        let postmaster = site.postmaster()?;
        let all: Vec<i32> =
            std::iter::once(postmaster).chain(crate::kills::children_of(postmaster)).collect();
        signal_all(&all, Signal::SIGSTOP);
        tokio::time::sleep(Duration::from_secs(seconds)).await;
        signal_all(&all, Signal::SIGCONT);
        let job = ended(&store, study, Duration::from_secs(120)).await;
        let state = job.map_or_else(|e| e.to_string(), |j| format!("{} {}", j.state, j.message));
        report.check(format!("PostgreSQL stands still for {seconds} s"), state.starts_with("done"), state);
        // It is stopped, and the server starts it again.
        store.enqueue(study, JobKind::Route, Kept::empty()).await?;
        drop(store);
        kill(Pid::from_raw(site.postmaster()?), Signal::SIGINT)?;
        let begun = Instant::now();
        let mut answered = false;
        while begun.elapsed() < Duration::from_secs(60) && !answered {
            tokio::time::sleep(Duration::from_millis(100)).await;
            answered = site.client.get(&site.base).send().await.is_ok_and(|a| a.status().is_success());
        }
        let store = site.store().await?;
        let job = ended(&store, study, Duration::from_secs(120)).await;
        let state = job.map_or_else(|e| e.to_string(), |j| j.state);
        let told = format!("pages after {:.1} s, the job is {state}", begun.elapsed().as_secs_f64());
        report.check("PostgreSQL is stopped", answered && state == "done", told);
    }
    let host = site.base.trim_start_matches("http://").to_owned();
    let silent: Vec<TcpStream> = (0..1000)
        .filter_map(|_| {
            let mut stream = TcpStream::connect(&host).ok()?;
            stream.write_all(b"GET / HTTP/1.1\r\nHost: loc").ok()?;
            Some(stream)
        })
        .collect();
    let begun = Instant::now();
    let answers = site.client.get(&site.base).send().await.is_ok_and(|a| a.status().is_success());
    let told = format!("{} of them; a page in {:.2} s", silent.len(), begun.elapsed().as_secs_f64());
    report.check("connections that say nothing", answers && begun.elapsed() < Duration::from_secs(2), told);
    report.check("the server still runs", site.runs(), "all the time");
    Ok(())
}

/// One that has gone meanwhile needs no signal.
fn signal_all(pids: &[i32], signal: Signal) {
    for &pid in pids {
        let _ = kill(Pid::from_raw(pid), signal);
    }
}
