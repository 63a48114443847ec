//! Lines summed by second and table, for when there are too many to be read.

use std::collections::{HashMap, VecDeque};

use crate::workbench::ids::{Timestamp, WatcherId};
use crate::workbench::line::Line;
use crate::workbench::marks::Mark;

/// Lines in a second from which on they are shown in sums, and below which they are not any more.
const SUMMED_FROM: u64 = 200;
const SUMMED_TO: u64 = 100;

/// Seconds that the rate is looked at for.
const LOOKED_AT: i64 = 3;

/// Most sums kept.
const KEPT: usize = 600;

/// What happened to a table in a second.
#[derive(Clone, Debug, Default)]
pub struct Sum {
    /// The second, since 1970.
    pub second: i64,
    /// The table of the lines' first rows.
    pub table: String,
    /// Lines.
    pub lines: u64,
    /// Their rows.
    pub rows: u64,
    /// What became of them for each watcher.
    pub heard: HashMap<WatcherId, Heard>,
}

/// What became of lines for a watcher.
#[derive(Clone, Copy, Debug, Default)]
pub struct Heard {
    /// Those that arrived.
    pub arrived: u64,
    /// Those that match and may still arrive, or did.
    pub matched: u64,
    /// Those that a rule withholds.
    pub withheld: u64,
    /// Those outside of the query, or of which nothing changed that it sees.
    pub outside: u64,
}

impl Heard {
    /// The mark that says most, and of how many lines.
    pub fn mark(self) -> (Mark, u64) {
        match self {
            Heard { arrived: n @ 1.., .. } => (Mark::Replaced, n),
            Heard { matched: n @ 1.., .. } => (Mark::OnItsWay, n),
            Heard { withheld: 0, outside: 0, .. } => (Mark::Elsewhere, 0),
            Heard { withheld, outside, .. } if withheld >= outside => (Mark::Withheld, withheld),
            Heard { outside, .. } => (Mark::Outside, outside),
        }
    }
}

/// Lines summed by second and table.
#[derive(Clone, Debug, Default)]
pub struct Sums {
    /// The sums, the newest last.
    pub kept: VecDeque<Sum>,
    /// Whether there are too many lines to be read.
    pub needed: bool,
}

fn second_of(line: &Line) -> i64 {
    line.committed.1.div_euclid(1_000_000)
}

fn table_of(line: &Line) -> &str {
    line.rows.first().map_or("", |row| row.table.as_str())
}

impl Sums {
    /// A new line.
    pub fn line(&mut self, line: &Line) {
        let (second, table) = (second_of(line), table_of(line));
        let sum = match self.find(second, table) {
            Some(i) => &mut self.kept[i],
            None => {
                if self.kept.len() == KEPT {
                    self.kept.pop_front();
                }
                let place = self.kept.iter().rposition(|sum| sum.second <= second).map_or(0, |i| i + 1);
                self.kept.insert(place, Sum { second, table: table.into(), ..Sum::default() });
                &mut self.kept[place]
            }
        };
        sum.lines += 1;
        sum.rows += line.row_count;
    }

    fn find(&self, second: i64, table: &str) -> Option<usize> {
        self.kept.iter().rposition(|sum| sum.second == second && sum.table == table)
    }

    fn heard(&mut self, line: &Line, watcher: WatcherId) -> Option<&mut Heard> {
        let i = self.find(second_of(line), table_of(line))?;
        Some(self.kept[i].heard.entry(watcher).or_default())
    }

    /// What became of a line for a watcher.
    pub fn verdict(&mut self, line: &Line, watcher: WatcherId, verdict: &str) {
        let Some(heard) = self.heard(line, watcher) else { return };
        match verdict {
            "matched" | "folded" => heard.matched += 1,
            "withheld" => heard.withheld += 1,
            "outside" | "unchanged" => heard.outside += 1,
            _ => {}
        }
    }

    /// A line arrived at a watcher.
    pub fn arrived(&mut self, line: &Line, watcher: WatcherId) {
        if let Some(heard) = self.heard(line, watcher) {
            heard.arrived += 1;
        }
    }

    /// Looks whether there are too many lines.
    pub fn tick(&mut self, now: Timestamp) {
        let now = now.div_euclid(1_000_000);
        let lines = |second: i64| -> u64 {
            self.kept.iter().rev().filter(|sum| sum.second == second).map(|sum| sum.lines).sum()
        };
        let busiest = (1..=LOOKED_AT).map(|ago| lines(now - ago)).max().unwrap_or(0);
        self.needed = if self.needed { busiest >= SUMMED_TO } else { lines(now - 1) >= SUMMED_FROM };
    }
}
