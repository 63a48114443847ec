//! What the head line says of the last seconds: changes, deltas, and how long they took.

use std::collections::VecDeque;

use hdrhistogram::Histogram;

use crate::workbench::ids::Micros;

/// Rates over the last seconds.
#[derive(Clone, Debug, Default)]
pub struct Rates {
    /// Times of changes seen, newest last.
    pub changes: VecDeque<Micros>,
    /// Times of deltas that arrived, with how long each took.
    pub arrivals: VecDeque<(Micros, u64)>,
}

/// The stretch that rates are over.
pub const RATE_SPAN: Micros = 5_000_000;

/// Delays beyond this, ten minutes, are shown as this, in microseconds.
const MAX_DELAY: u64 = 600_000_000;

/// Entries kept for rates.
const MAX_RATED: usize = 200_000;

impl Rates {
    /// Notes a change.
    pub fn changed(&mut self, at: Micros, rows: u64) {
        (0..rows.min(1_000)).for_each(|_| self.changes.push_back(at));
        while self.changes.len() > MAX_RATED {
            self.changes.pop_front();
        }
    }

    /// Notes an arrival.
    pub fn arrived(&mut self, at: Micros, took: u64) {
        self.arrivals.push_back((at, took));
        if self.arrivals.len() > MAX_RATED {
            self.arrivals.pop_front();
        }
    }

    /// Changes per second, arrivals per second and the 99th percentile of their delay in microseconds.
    pub fn now(&mut self, now: Micros) -> (f64, f64, Option<u64>) {
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
