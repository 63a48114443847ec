//! Imports between crates run downwards only, and a client carries no engine.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;

/// Each crate of the product with those of the product that it may need.
const LAYERS: [(&str, &[&str]); 8] = [
    ("protocol", &[]),
    ("draw", &[]),
    ("core", &["protocol"]),
    ("client", &["protocol"]),
    ("source", &["core", "protocol"]),
    ("relay", &["core", "protocol"]),
    ("server", &["core", "protocol", "relay", "source"]),
    ("app", &["client", "core", "draw", "protocol", "relay", "server", "source"]),
];

/// What an engine is made of: parsers, ciphers, exact numbers.
const ENGINE: [&str; 6] = ["aes-siv", "bigdecimal", "gossip-core", "logos", "rusqlite", "tokio-postgres"];

/// The crates that this one needs to run, itself included, by cargo's own account.
fn needed(package: &str) -> BTreeSet<String> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().parent().unwrap();
    let mut cargo = Command::new(env!("CARGO"));
    cargo.current_dir(root).args(["tree", "--offline", "--package", package, "--edges", "normal", "--prefix", "none"]);
    let out = cargo.output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let lines = String::from_utf8(out.stdout).unwrap();
    lines.lines().filter_map(|line| line.split_whitespace().next()).map(String::from).collect()
}

#[test]
fn imports_between_crates_run_downwards_only() {
    for (name, below) in LAYERS {
        let package = if name == "app" { "gossip".to_string() } else { format!("gossip-{name}") };
        let own: BTreeSet<String> = needed(&package).into_iter().filter(|n| n.starts_with("gossip-")).collect();
        let may: BTreeSet<String> = below.iter().chain([&name]).map(|n| format!("gossip-{n}")).collect();
        let stray: Vec<_> = own.difference(&may).collect();
        assert!(stray.is_empty(), "{name} needs {stray:?}");
    }
}

#[test]
fn a_client_carries_no_engine() {
    let client = needed("gossip-client");
    let carried: Vec<_> = ENGINE.into_iter().filter(|name| client.contains(*name)).collect();
    assert!(carried.is_empty(), "{carried:?}");
    // Where one is, it is found.
    let server = needed("gossip-server");
    assert!(ENGINE.iter().all(|name| server.contains(*name)), "{server:?}");
}
