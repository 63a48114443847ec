//! State of Relay: the cluster, and the messages on the relay.

use std::collections::{BTreeMap, VecDeque};

use gossip_protocol::system::{InstanceRow, LinkRow, TrafficRow};

use crate::workbench::ids::Timestamp;

/// The view's state.
#[derive(Default)]
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
    /// Whether the list is held.
    pub held: bool,
    /// The first message that is shown.
    pub scroll: usize,
}
