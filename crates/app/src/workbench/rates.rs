//! Rates of the last seconds for the head line: changes, deltas, and their delay.

use std::collections::VecDeque;

use hdrhistogram::Histogram;

use crate::workbench::ids::{Micros, Timestamp};

/// Rates over the last seconds.
#[derive(Clone, Debug, Default)]
pub struct Rates {
    /// Times of changes seen, newest last.
    pub changes: VecDeque<Timestamp>,
    /// Times at which deltas arrived, with their delays.
    pub arrivals: VecDeque<(Timestamp, u64)>,
}

/// The window that rates are computed over, in microseconds.
pub const RATE_SPAN: Micros = 5_000_000;

/// Longer delays are shown as this: ten minutes, in microseconds.
const MAX_DELAY: u64 = 600_000_000;

/// Entries kept for rates.
const MAX_RATED: usize = 200_000;

impl Rates {
    /// Counts a change.
    pub fn changed(&mut self, at: Timestamp, rows: u64) {
        (0..rows.min(1_000)).for_each(|_| self.changes.push_back(at));
        while self.changes.len() > MAX_RATED {
            self.changes.pop_front();
        }
    }

    /// Counts an arrival.
    pub fn arrived(&mut self, at: Timestamp, took: u64) {
        self.arrivals.push_back((at, took));
        if self.arrivals.len() > MAX_RATED {
            self.arrivals.pop_front();
        }
    }

    /// Changes per second, arrivals per second and the 99th percentile of their delay in microseconds.
    pub fn now(&mut self, now: Timestamp) -> (f64, f64, Option<u64>) {
        while self.changes.front().is_some_and(|t| *t < now - RATE_SPAN) {
            self.changes.pop_front();
        }
        while self.arrivals.front().is_some_and(|t| t.0 < now - RATE_SPAN) {
            self.arrivals.pop_front();
        }
        let seconds = RATE_SPAN as f64 / 1e6;
        let p99 =
            Histogram::<u64>::new_with_max(MAX_DELAY, 2).ok().filter(|_| !self.arrivals.is_empty()).map(|mut h| {
                self.arrivals.iter().for_each(|(_, took)| h.saturating_record(*took));
                h.value_at_quantile(0.99)
            });
        (self.changes.len() as f64 / seconds, self.arrivals.len() as f64 / seconds, p99)
    }
}
