//! What needs an operator's attention, until it is resolved: `gossip.alarms`.

use std::collections::BTreeMap;

use gossip_core::position::Timestamp;
use gossip_protocol::system::AlarmRow;
use gossip_protocol::timestamp::rfc3339;

use crate::now;

/// Alarms of one instance. Further ones are only logged.
const MAX_ALARMS: usize = 100;

/// What an alarm is about: the kind, and the table or part.
type Name = (&'static str, String);

struct Alarm {
    text: String,
    since: Timestamp,
    count: u64,
}

/// The alarms of one instance.
#[derive(Default)]
pub(super) struct Alarms(BTreeMap<Name, Alarm>);

/// A table of the source does not stream.
pub(super) const NOT_STREAMING: &str = "not-streaming";

/// The source's log is not the one that was read before.
pub(super) const LOG_WENT_BACK: &str = "log-went-back";

/// A feed held something else than the database.
pub(super) const AUDIT: &str = "audit";

impl Alarms {
    /// Raises an alarm, or counts one that stands already.
    pub(super) fn raise(&mut self, kind: &'static str, about: &str, text: String) {
        let full = self.0.len() >= MAX_ALARMS;
        match self.0.get_mut(&(kind, about.to_string())) {
            Some(alarm) => {
                alarm.count += 1;
                alarm.text = text;
            }
            None => {
                tracing::error!("{kind}: {about}: {text}");
                if !full {
                    self.0.insert((kind, about.to_string()), Alarm { text, since: now(), count: 1 });
                }
            }
        }
    }

    /// It is over.
    pub(super) fn clear(&mut self, kind: &'static str, about: &str) {
        if self.0.remove(&(kind, about.to_string())).is_some() {
            tracing::info!("{kind}: {about}: over");
        }
    }

    /// As rows of `gossip.alarms`.
    pub(super) fn rows(&self, instance: &str) -> Vec<AlarmRow> {
        let row = |((kind, about), alarm): (&Name, &Alarm)| AlarmRow {
            instance: instance.into(),
            kind: (*kind).into(),
            about: about.clone(),
            text: alarm.text.clone(),
            since: rfc3339(alarm.since),
            count: alarm.count,
        };
        self.0.iter().map(row).collect()
    }
}
