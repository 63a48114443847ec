//! `gossip.events`: what operators are told of topics and presence.

use gossip_core::position::{Interval, RowChange, Timestamp, Transaction};
use gossip_core::schema::{PRESENCE, SYSTEM_SCHEMA, TableName};
use gossip_protocol::system::{Embedded, EventRow, ShownChange};
use sha2::{Digest, Sha256};

use super::state::Node;
use crate::now;

/// Rows of one transaction that are told.
const TOLD_ROWS: usize = 20;

impl Node {
    /// Tells operators of an event of a topic, or a change of presence, if one listens to that.
    pub(super) fn tell_events(&mut self, interval: &Interval, t: &Transaction) {
        if !self.events_told.wanted {
            return;
        }
        let presence = &*interval.source == SYSTEM_SCHEMA;
        let people = TableName::system(PRESENCE);
        let of_people = |c: &&RowChange| !presence || c.table == people;
        let changes: Vec<&RowChange> = t.changes.iter().filter(|c| !c.is_nothing()).filter(of_people).collect();
        if changes.is_empty() {
            return;
        }
        let Some(left_out) = self.events_told.room(now()) else { return };
        let shown: Vec<ShownChange> = changes.iter().take(TOLD_ROWS).map(|c| self.shown(c)).collect();
        // People come and go by each instance's own clock.
        let when = if presence { 0 } else { t.committed.to };
        self.system.add(EventRow {
            identity: identity(when, &shown),
            position: format!("{}:{}", interval.source, t.position),
            instance: self.start.name.clone(),
            kind: if presence { "presence" } else { "topic" }.into(),
            at: t.committed.to,
            received_at: now(),
            rows: changes.len() as u64,
            changes: Embedded(shown),
            left_out,
        });
    }
}

/// A hash of what happened. What was there before is not part of it: an instance that came later does not know it.
fn identity(when: Timestamp, changes: &[ShownChange]) -> String {
    let mut hash = Sha256::new();
    hash.update(when.to_le_bytes());
    for ShownChange { table, key, new, .. } in changes {
        let text = serde_json::json!([table, key, new]).to_string();
        hash.update((text.len() as u64).to_le_bytes());
        hash.update(text);
    }
    hash.finalize().iter().take(8).map(|byte| format!("{byte:02x}")).collect()
}
