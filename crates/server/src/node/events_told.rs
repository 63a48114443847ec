//! How many events operators are told of.

use gossip_core::position::Timestamp;

/// Events that are told per second; the next one says how many were left out.
const TOLD_PER_SECOND: u32 = 1_000;

/// Whether and how many events are told.
#[derive(Debug, Default)]
pub(super) struct EventsTold {
    /// Whether an operator subscribes to them.
    pub(super) wanted: bool,
    second: Timestamp,
    told: u32,
    left_out: u64,
}

impl EventsTold {
    /// Whether there is room for one more in this second, and how many were left out before it.
    pub(super) fn room(&mut self, now: Timestamp) -> Option<u64> {
        let second = now / 1_000_000;
        if self.second != second {
            (self.second, self.told) = (second, 0);
        }
        if self.told == TOLD_PER_SECOND {
            self.left_out += 1;
            return None;
        }
        self.told += 1;
        Some(std::mem::take(&mut self.left_out))
    }
}
