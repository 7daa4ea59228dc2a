//! Attacks on a Bothros of its own: what was tried, and what held.

mod disk;
mod files;
mod kills;
mod load;
mod outages;
mod site;

use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Parser, ValueEnum};

use crate::site::Report;

#[derive(Clone, Copy, PartialEq, ValueEnum)]
enum Kind {
    All,
    Short,
    Files,
    Kills,
    Outages,
    Disk,
    Load,
}

#[derive(Parser)]
#[command(about = "Attacks a Bothros of its own on this machine, and prints what was tried and what held")]
struct Call {
    /// What is tried
    #[arg(value_enum, default_value = "all")]
    kind: Kind,
    /// The program that is attacked
    #[arg(long)]
    program: PathBuf,
    /// Moments at which something is killed
    #[arg(long, default_value_t = 100)]
    moments: u32,
    /// Seconds of load
    #[arg(long, default_value_t = 600)]
    seconds: u64,
    /// Readers at a time
    #[arg(long, default_value_t = 50)]
    readers: usize,
    /// Edge of the DEM that is read under load, cells
    #[arg(long, default_value_t = 5000)]
    edge: usize,
}

#[tokio::main]
async fn main() -> anyhow::Result<ExitCode> {
    bothros_archive::prepare_tls();
    let mut call = Call::parse();
    let short = call.kind == Kind::Short;
    if short {
        (call.moments, call.seconds, call.readers, call.edge) = (6, 10, 10, 1000);
    }
    call.program = call.program.canonicalize()?;
    let wanted = |kind: Kind| short || call.kind == Kind::All || call.kind == kind;
    let mut report = Report::default();
    if wanted(Kind::Files) {
        files::attack(&call.program, &mut report).await?;
    }
    if wanted(Kind::Kills) {
        kills::attack(&call.program, call.moments, &mut report).await?;
    }
    if wanted(Kind::Outages) {
        let pauses: &[u64] = if short { &[3] } else { &[8, 20, 45, 75] };
        outages::attack(&call.program, pauses, &mut report).await?;
    }
    if wanted(Kind::Disk) {
        disk::attack(&call.program, &mut report).await?;
    }
    if wanted(Kind::Load) {
        load::attack(&call.program, call.readers, call.seconds, call.edge, &mut report).await?;
    }
    Ok(report.print())
}
