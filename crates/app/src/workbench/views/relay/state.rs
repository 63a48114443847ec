//! State of Relay: the cluster, and the messages on the relay.

use std::collections::{BTreeMap, VecDeque};

use gossip_protocol::system::{InstanceRow, LinkRow, TrafficRow};

use crate::workbench::ids::Timestamp;

/// What a message on the relay says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Said {
    /// Row changes.
    Rows,
    /// Events of topics.
    Topics,
    /// What instances say to each other.
    Members,
}

impl Said {
    /// All of them.
    pub const ALL: [Said; 3] = [Said::Rows, Said::Topics, Said::Members];

    /// Its words.
    pub fn words(self) -> &'static str {
        match self {
            Said::Rows => "row changes",
            Said::Topics => "events of topics",
            Said::Members => "what instances say to each other",
        }
    }

    /// What a message of a name says.
    pub fn of(name: &str) -> Said {
        match name.split_once('.').map(|(kind, _)| kind) {
            Some("rows") => Said::Rows,
            Some("topic") => Said::Topics,
            _ => Said::Members,
        }
    }
}

/// The view's state.
pub struct Relay {
    /// Rows of `gossip.instances`, by name.
    pub instances: BTreeMap<String, InstanceRow>,
    /// Rows of `gossip.links`, by instance.
    pub links: BTreeMap<String, LinkRow>,
    /// Row changes and deliveries of each instance, with the time.
    pub(super) counted: BTreeMap<String, VecDeque<(Timestamp, u64, u64)>>,
    /// Messages on the relay, newest first.
    pub passed: VecDeque<TrafficRow>,
    /// Messages that arrived while the list was held.
    pub newer: usize,
    /// What is not listed. Instances say much to each other that nobody looks for.
    pub without: Vec<Said>,
    /// Whether the list is held.
    pub held: bool,
    /// The first message that is shown.
    pub scroll: usize,
}

impl Default for Relay {
    fn default() -> Self {
        Relay {
            instances: BTreeMap::new(),
            links: BTreeMap::new(),
            counted: BTreeMap::new(),
            passed: VecDeque::new(),
            newer: 0,
            without: vec![Said::Members],
            held: false,
            scroll: 0,
        }
    }
}

impl Relay {
    /// Whether messages of a name are listed.
    pub(super) fn lists(&self, name: &str) -> bool {
        !self.without.contains(&Said::of(name))
    }

    /// The messages that are listed, the newest first.
    pub fn listed(&self) -> impl Iterator<Item = &TrafficRow> {
        self.passed.iter().filter(|m| self.lists(&m.name))
    }
}
