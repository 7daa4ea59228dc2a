//! A little of each attack, on a server of its own, as part of the tests.
#![allow(clippy::unwrap_used)]

use std::path::Path;
use std::process::Command;

#[test]
fn a_little_of_each_attack_holds() {
    let attacks = env!("CARGO_BIN_EXE_attacks");
    let program = Path::new(attacks).with_file_name("bothros");
    assert!(program.exists(), "build it first: cargo build -p bothros");
    let out = Command::new(attacks).arg("short").arg("--program").arg(program).output().unwrap();
    let told = String::from_utf8_lossy(&out.stdout).into_owned();
    println!("{told}");
    assert!(out.status.success(), "{told}{}", String::from_utf8_lossy(&out.stderr));
}
