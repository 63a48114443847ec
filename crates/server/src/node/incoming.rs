//! What comes over the relay.

use std::sync::Arc;

use gossip_core::column_pruning;
use gossip_core::engine::Input;
use gossip_core::position::{Interval, Micros};
use gossip_relay::Received;

use super::alarms::{LOG_WENT_BACK, NOT_STREAMING};
use super::state::Node;
use crate::now;

/// For so long a reader may repeat what is known already.
const REWOUND_FOR: Micros = 5_000_000;

impl Node {
    pub(super) fn take(&mut self, heard: Received) {
        self.count_traffic(&heard);
        match heard {
            Received::Interval(interval) => self.hear(interval),
            Received::Event(event) => self.told(&event),
        }
    }

    pub(super) fn hear(&mut self, interval: Arc<Interval>) {
        self.received = now();
        self.writers.joining = interval.transactions.len() > 1;
        if interval.source == self.start.source {
            self.note_life(&interval);
            self.note_streaming(&interval);
        }
        let altered = !interval.resets.is_empty();
        self.handle(Input::Interval(interval));
        if altered {
            self.announce_needs();
        }
    }

    /// Notes that the reader lives, if what it says goes on from what is known here. One that reads behind that for long
    /// reads a log that has gone back.
    pub(super) fn note_life(&mut self, interval: &Interval) {
        let progress = self.engine.progress(&interval.source);
        if progress.is_sign_of_life(interval) {
            (self.heard, self.rewound) = (self.received, None);
            self.reader = interval.reader.clone();
        } else if interval.epoch >= progress.epoch {
            let since = *self.rewound.get_or_insert(self.received);
            if self.received - since > REWOUND_FOR {
                let text = "its log is behind what was read: was the database restored? All feeds are being read again";
                self.alarms.raise(LOG_WENT_BACK, &interval.source, text.into());
                self.rewound = None;
                self.handle(Input::Forget(interval.source.clone()));
            }
        }
    }

    /// Tells the relay which columns are worth the way.
    pub(super) fn announce_needs(&self) {
        self.start.relay.need(column_pruning::needed(self.engine.rules(), self.engine.catalog()));
    }

    /// Notes which tables do not stream any more, and which do again.
    fn note_streaming(&mut self, interval: &Interval) {
        for reset in &interval.resets {
            let about = reset.name.to_string();
            match &reset.table {
                Some(_) => self.alarms.clear(NOT_STREAMING, &about),
                None => {
                    let text = "its changes do not stream any more: it is gone, or not published whole; its subscriptions \
                                are closed. gossip check says what to do";
                    self.alarms.raise(NOT_STREAMING, &about, text.into());
                }
            }
        }
    }
}
