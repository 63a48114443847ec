//! What is counted each second, for the last hour.

use std::collections::{BTreeMap, HashMap, VecDeque};

use gossip_protocol::system::{ChangesRow, InstanceRow, LinkRow, SystemRow, VerdictRow};
use hdrhistogram::Histogram;

use crate::recording::Event;
use crate::workbench::ids::{Micros, Timestamp};

/// Seconds that are kept.
pub const SECONDS: usize = 3_600;

/// Longer delays count as this: ten minutes, in microseconds.
const MAX_DELAY: u64 = 600_000_000;

/// The newest seconds, of which every delay is kept; of older ones only what is shown.
const OPEN: usize = 10;

/// What was counted since an instance's report before this one belongs to the time between them, and to this much of it at
/// most: an instance to which nothing happens reports nothing.
const BETWEEN: Micros = 1_500_000;

/// The end of the year 9999, in seconds since 1970.
const LATEST: i64 = 253_402_300_800;

/// Transactions whose commit is remembered until it is known when they were written to a client.
const MAX_COMMITS: usize = 20_000;

/// Delays from commit to socket, in milliseconds.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Delay {
    /// Half of them are at most this.
    pub p50: f64,
    /// Nine of ten.
    pub p90: f64,
    /// 99 of 100.
    pub p99: f64,
    /// All.
    pub max: f64,
}

impl Delay {
    fn of(h: &Histogram<u64>) -> Delay {
        let ms = |micros: u64| micros as f64 / 1_000.0;
        let at = |quantile| ms(h.value_at_quantile(quantile).min(h.max()));
        Delay { p50: at(0.5), p90: at(0.9), p99: at(0.99), max: ms(h.max()) }
    }
}

/// One second.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Second {
    /// Row changes that the cluster took.
    pub changes: f64,
    /// Deltas that all instances handed to their clients.
    pub deliveries: f64,
    /// Delays of the deltas of observed clients.
    pub delay: Option<Delay>,
    /// Messages that waited for clients.
    pub waiting: u64,
    /// Messages of the relay that waited for an instance.
    pub relay_waiting: u64,
    /// The longest round trip over the relay, in milliseconds.
    pub relay_ms: Option<f64>,
}

/// What an instance said last.
#[derive(Clone, Copy, Debug, Default)]
struct Last {
    at: Timestamp,
    changes: u64,
    deliveries: u64,
    waiting: u64,
    relay_waiting: u64,
    relay_ms: Option<f64>,
}

/// The last hour, second by second.
#[derive(Clone, Debug, Default)]
pub struct Series {
    /// The first second that is kept, since 1970.
    first: i64,
    seconds: VecDeque<Second>,
    open: BTreeMap<i64, Histogram<u64>>,
    last: HashMap<String, Last>,
    /// What waits now: a second begins with it.
    level: Second,
    commits: HashMap<String, Timestamp>,
}

impl Series {
    /// A report of an instance.
    pub fn instance(&mut self, at: Timestamp, row: &InstanceRow) {
        let last = self.last.get(&row.name).copied();
        if let Some(last) = last.filter(|last| last.changes <= row.changes && last.deliveries <= row.deliveries) {
            let from = last.at.max(at - BETWEEN);
            self.spread(from, at, (row.deliveries - last.deliveries) as f64, |second, share| {
                second.deliveries += share
            });
            // All instances take the same changes: those of the one that reads are counted.
            if row.reads {
                self.spread(from, at, (row.changes - last.changes) as f64, |second, share| second.changes += share);
            }
        }
        let last = self.last.entry(row.name.clone()).or_default();
        (last.at, last.changes, last.deliveries, last.waiting) = (at, row.changes, row.deliveries, row.waiting);
        self.level(at);
    }

    /// A report of an instance's way to the relay.
    pub fn link(&mut self, at: Timestamp, row: &LinkRow) {
        let last = self.last.entry(row.instance.clone()).or_default();
        (last.relay_waiting, last.relay_ms) = (row.waiting, row.delay_ms);
        self.level(at);
    }

    /// An instance has gone.
    pub fn gone(&mut self, name: &str) {
        self.last.remove(name);
    }

    /// A delta was written to an observed client, so long after its commit.
    pub fn written(&mut self, at: Timestamp, took: Micros) {
        let second = at.div_euclid(1_000_000);
        if self.second(second).is_none() {
            return;
        }
        let fresh = || Histogram::new_with_max(MAX_DELAY, 2);
        if !self.open.contains_key(&second)
            && let Ok(h) = fresh()
        {
            self.open.insert(second, h);
        }
        if let Some(h) = self.open.get_mut(&second) {
            h.saturating_record(took.max(0).unsigned_abs());
            let delay = Delay::of(h);
            if let Some(second) = self.second(second) {
                second.delay = Some(delay);
            }
        }
        while self.open.len() > OPEN {
            self.open.pop_first();
        }
    }

    /// An event of a recording.
    pub fn event(&mut self, event: &Event) {
        match event.table {
            "instances" => drop(InstanceRow::read(&event.row).map(|row| self.instance(event.at, &row))),
            "links" => drop(LinkRow::read(&event.row).map(|row| self.link(event.at, &row))),
            "changes" => {
                if let Ok(row) = ChangesRow::read(&event.row) {
                    if self.commits.len() >= MAX_COMMITS {
                        self.commits.clear();
                    }
                    self.commits.insert(row.position, row.committed_to);
                }
            }
            "verdicts" => {
                if let Ok(row) = VerdictRow::read(&event.row)
                    && row.verdict == "written"
                    && let Some(committed) = self.commits.get(&row.position)
                {
                    self.written(row.at, row.at.saturating_sub(*committed));
                }
            }
            _ => {}
        }
    }

    /// The second of a time, if it is kept or follows.
    fn second(&mut self, of: i64) -> Option<&mut Second> {
        // A recording may say anything; what is no time of a calendar is not counted.
        if !(0..LATEST).contains(&of) {
            return None;
        }
        if self.seconds.is_empty() {
            self.first = of;
        }
        let next = self.first + self.seconds.len() as i64;
        // After a long silence only what is kept is written.
        if of - next >= SECONDS as i64 {
            self.seconds.clear();
            self.first = of;
        }
        while of >= self.first + self.seconds.len() as i64 {
            self.seconds.push_back(self.level);
            if self.seconds.len() > SECONDS {
                self.seconds.pop_front();
                self.first += 1;
            }
        }
        self.seconds.get_mut(usize::try_from(of - self.first).ok()?)
    }

    /// Counts what happened between two times, by the time that each second has of it.
    fn spread(&mut self, from: Timestamp, to: Timestamp, count: f64, add: impl Fn(&mut Second, f64)) {
        if count <= 0.0 {
            return;
        }
        if to <= from {
            self.second(to.div_euclid(1_000_000)).into_iter().for_each(|second| add(second, count));
            return;
        }
        for second in from.div_euclid(1_000_000)..=to.div_euclid(1_000_000) {
            let (begin, end) = ((second * 1_000_000).max(from), ((second + 1) * 1_000_000).min(to));
            let share = count * (end - begin) as f64 / (to - from) as f64;
            self.second(second).into_iter().for_each(|second| add(second, share));
        }
    }

    /// What waits now, and how long the relay takes.
    fn level(&mut self, at: Timestamp) {
        let all = self.last.values();
        let (waiting, relay) = all
            .clone()
            .fold((0, 0), |(w, r): (u64, u64), l| (w.saturating_add(l.waiting), r.saturating_add(l.relay_waiting)));
        let relay_ms = all.filter_map(|l| l.relay_ms).max_by(f64::total_cmp);
        self.level = Second { waiting, relay_waiting: relay, relay_ms, ..Second::default() };
        if let Some(second) = self.second(at.div_euclid(1_000_000)) {
            second.waiting = second.waiting.max(waiting);
            second.relay_waiting = second.relay_waiting.max(relay);
            second.relay_ms = relay_ms;
        }
    }

    /// The first and the last second that are kept, since 1970; `None` where nothing was counted.
    pub fn ends(&self) -> Option<(i64, i64)> {
        (!self.seconds.is_empty()).then(|| (self.first, self.first + self.seconds.len() as i64 - 1))
    }

    /// One second.
    pub fn at(&self, second: i64) -> Option<&Second> {
        self.seconds.get(usize::try_from(second - self.first).ok()?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const S: i64 = 1_000_000;

    fn row(name: &str, reads: bool, changes: u64, deliveries: u64) -> InstanceRow {
        InstanceRow { name: name.into(), reads, changes, deliveries, ..InstanceRow::default() }
    }

    #[test]
    fn what_happened_between_two_reports_is_spread_over_their_time() {
        let mut s = Series::default();
        s.instance(100 * S, &row("north", true, 10, 100));
        s.instance(100 * S, &row("south", false, 10, 0));
        s.instance(101 * S + S / 2, &row("north", true, 40, 130));
        s.instance(101 * S, &row("south", false, 30, 10));
        let at = |s: &Series, second| s.at(second).copied().unwrap_or_default();
        assert_eq!((at(&s, 100).changes, at(&s, 101).changes), (20.0, 10.0), "of the reader alone");
        assert_eq!((at(&s, 100).deliveries, at(&s, 101).deliveries), (30.0, 10.0), "of both");
        // After a silence, it happened just now; after a restart, nobody knows when.
        s.instance(160 * S, &row("north", true, 43, 130));
        assert_eq!((at(&s, 120).changes, at(&s, 158).changes, at(&s, 159).changes), (0.0, 1.0, 2.0));
        s.instance(161 * S, &row("north", true, 5, 5));
        assert_eq!(at(&s, 161).changes, 0.0);
        s.instance(162 * S, &row("north", true, 7, 5));
        assert_eq!(at(&s, 161).changes + at(&s, 162).changes, 2.0);
    }

    #[test]
    fn delays_are_those_of_their_second_and_an_hour_is_kept() {
        let mut s = Series::default();
        (1..=100).for_each(|ms| s.written(7 * S, ms * 1_000));
        let delay = s.at(7).and_then(|second| second.delay).unwrap_or_default();
        assert!((49.0..52.0).contains(&delay.p50) && (89.0..92.0).contains(&delay.p90), "{delay:?}");
        assert!((98.0..=101.0).contains(&delay.p99) && (99.0..101.0).contains(&delay.max), "{delay:?}");
        s.written((7 + SECONDS as i64) * S, -5);
        assert_eq!(s.ends(), Some((8, 7 + SECONDS as i64)));
        s.written(3 * S, 1);
        assert_eq!(s.ends(), Some((8, 7 + SECONDS as i64)), "what is too old is not counted");
        s.written(1_000_000 * S, 1);
        assert_eq!(s.ends(), Some((1_000_000, 1_000_000)));
    }

    #[test]
    fn what_waits_goes_on_waiting_until_something_else_is_said() {
        let mut s = Series::default();
        s.instance(10 * S, &InstanceRow { waiting: 4, ..row("north", true, 0, 0) });
        s.link(10 * S, &LinkRow { instance: "south".into(), waiting: 2, delay_ms: Some(3.5), ..LinkRow::default() });
        s.written(12 * S, 1);
        let Some(second) = s.at(12) else { panic!("no second") };
        assert_eq!((second.waiting, second.relay_waiting, second.relay_ms), (4, 2, Some(3.5)));
        s.gone("south");
        s.instance(13 * S, &row("north", true, 0, 0));
        assert_eq!(s.at(13).map(|second| (second.waiting, second.relay_waiting)), Some((0, 0)));
        s.instance(13 * S, &InstanceRow { waiting: 9, ..row("north", true, 0, 0) });
        s.instance(13 * S + 1, &row("north", true, 0, 0));
        assert_eq!(s.at(13).map(|second| second.waiting), Some(9), "the most of its second");
    }
}
