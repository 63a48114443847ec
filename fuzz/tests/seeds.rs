//! What the fuzz targets begin with, and what they once found, holds.
#![allow(clippy::unwrap_used)]

use std::path::Path;

type Target = (&'static str, fn(&[u8]));

const TARGETS: [Target; 7] = [
    ("arranged", gossip_fuzz::arranged::run),
    ("query", gossip_fuzz::query::run),
    ("calls", gossip_fuzz::calls::run),
    ("relay", gossip_fuzz::relay::run),
    ("pgoutput", gossip_fuzz::pgoutput::run),
    ("cursors", gossip_fuzz::cursors::run),
    ("configuration", gossip_fuzz::configuration::run),
];

#[test]
fn every_seed_is_quiet() {
    for (name, run) in TARGETS {
        let seeds = std::fs::read_dir(Path::new(env!("CARGO_MANIFEST_DIR")).join("seeds").join(name)).unwrap();
        let mut ran = 0;
        for seed in seeds {
            let seed = seed.unwrap().path();
            let data = std::fs::read(&seed).unwrap();
            let quiet = std::panic::catch_unwind(|| run(&data));
            assert!(quiet.is_ok(), "{}", seed.display());
            ran += 1;
        }
        assert!(ran > 0, "{name} has no seeds");
    }
}
