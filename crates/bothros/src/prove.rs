//! `bothros prove`: a storm routed through a package, to prove that it is complete and consistent.

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use bothros_proof::{Error, Proof, Settings, differences, prove, read};
use serde_json::json;

/// Runs the proof on a package and writes `proof.json` beside it; the exit status is 0 where it is done, 2 where the settings are wrong, 3
/// where the package cannot be used, 1 where the result cannot be written.
pub fn run(package: &Path, settings: &Settings, other: Option<&Path>) -> ExitCode {
    let of = |path: &Path| read(path).and_then(|p| prove(&p, settings));
    let (proof, compared) = match (of(package), other.map(of).transpose()) {
        (Ok(proof), Ok(compared)) => (proof, compared),
        (Err(error), _) | (_, Err(error)) => {
            eprintln!("error: {}", error.to_string().replace('\n', " "));
            return ExitCode::from(match error {
                Error::Settings(_) => 2,
                _ => 3,
            });
        }
    };
    println!("{}", told(&proof));
    let mut document = json!(proof);
    document["balance"]["error_share"] = json!(proof.balance.error());
    if let Some(other) = &compared {
        println!("{}", difference(&proof, other));
        document["compared_with"] = json!(other.nexuses);
    }
    let target: PathBuf = package.with_file_name("proof.json");
    let written = serde_json::to_vec_pretty(&document).map(|text| std::fs::write(&target, text));
    match written {
        Ok(Ok(())) => ExitCode::SUCCESS,
        Ok(Err(error)) => {
            eprintln!("error: {} cannot be written: {error}", target.display());
            ExitCode::FAILURE
        }
        Err(error) => {
            eprintln!("error: {error}");
            ExitCode::FAILURE
        }
    }
}

/// Final outlets and stations with their peaks, the balance, and what a model would complain about.
fn told(proof: &Proof) -> String {
    use bothros_core::scheme::NexusKind::Junction;
    let mut out = format!(
        "{:>7}  {:<10} {:>12} {:>12} {:>10}  name\n",
        "nexus", "kind", "area, km2", "peak, m3/s", "time, h"
    );
    for n in proof.nexuses.iter().filter(|n| n.kind != Junction) {
        let name = n.name.as_deref().unwrap_or("");
        out += &format!(
            "{:>7}  {:<10} {:>12.3} {:>12.3} {:>10.2}  {name}\n",
            n.nexus_id,
            n.kind.name(),
            n.area_km2,
            n.peak_m3s,
            n.time_to_peak_h
        );
    }
    let b = &proof.balance;
    out += &format!(
        "rain {:.0} m3 = loss {:.0} + outflow {:.0} + under way {:.0} + stored {:.0}, off by {:.4} %",
        b.rain_m3,
        b.loss_m3,
        b.outflow_m3,
        b.under_way_m3,
        b.stored_m3,
        b.error() * 100.0
    );
    for c in &proof.complaints {
        out += &format!("\ncomplaint: {} {}, first {}", c.elements, c.what, c.first);
    }
    out
}

/// How peaks differ at nexuses of one name, and at the largest final outlets.
fn difference(one: &Proof, other: &Proof) -> String {
    let mut out = String::from("compared with the other package:");
    for d in differences(one, other) {
        let name = d.one.name.clone().unwrap_or_else(|| "largest final outlet".into());
        let share = d.share().map_or("no peak before".into(), |share| format!("{:+.1} %", share * 100.0));
        out += &format!(
            "\n{name}: peak {:.3} and {:.3} m3/s ({share}), {:+.2} h",
            d.one.peak_m3s,
            d.other.peak_m3s,
            d.later_h()
        );
    }
    out
}
