//! What Relay shows: how changes travel between instances, and what has passed.

use std::collections::{BTreeMap, VecDeque};

use gossip_protocol::system::{InstanceRow, LinkRow, TrafficRow};

use crate::workbench::ids::Micros;

/// The view's state.
#[derive(Default)]
pub struct Relay {
    /// Rows of `gossip.instances`, by name.
    pub instances: BTreeMap<String, InstanceRow>,
    /// Rows of `gossip.links`, by instance.
    pub links: BTreeMap<String, LinkRow>,
    /// Row changes and deliveries of each instance, by when they were told.
    pub(super) counted: BTreeMap<String, VecDeque<(Micros, u64, u64)>>,
    /// What has passed, newest first.
    pub passed: VecDeque<TrafficRow>,
    /// Messages that came while the list was held.
    pub newer: usize,
    /// Whether the list is held.
    pub held: bool,
    /// The first message that is shown.
    pub scroll: usize,
}
