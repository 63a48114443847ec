//! Configuration files, and files of rules.

use std::path::Path;

use gossip_server::config::{Config, read_rules};

use crate::text;

/// Takes a text for a configuration and for rules. What is wrong is said, and where.
pub fn run(data: &[u8]) {
    let text = text(data);
    if let Err(e) = Config::parse(Path::new("gossip.toml"), &text) {
        assert!(!e.0.is_empty(), "refused without a reason");
        e.0.iter().for_each(|problem| assert!(problem.starts_with("gossip.toml"), "{problem}"));
    }
    if let Err(problems) = read_rules(&text) {
        assert!(!problems.is_empty(), "refused without a reason");
    }
}
