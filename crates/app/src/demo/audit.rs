//! What each watcher of the scenario should see, computed by the database itself.
//!
//! For every watcher there is a query written by hand, which combines its rules and its live query in plain SQL. It runs
//! inside every transaction of the simulation, so that the whole history of every result is known. What the watchers
//! received is then compared with it, delta by delta.

use std::collections::{BTreeMap, HashMap};

use serde_json::Value as Json;

use gossip_source::database::{Cells, Store};

/// Per watcher, in the order of the configuration: the key, then the columns as one JSON object.
const ORACLES: [&str; 5] = [
    "SELECT id, json_object('id', id, 'vessel', vessel, 'berth', berth, 'agency', agency, 'status', status, 'eta', eta,
       'draught_m', draught_m, 'pilot', pilot, 'security_note', security_note) FROM calls",
    "SELECT id, json_object('id', id, 'vessel', vessel, 'berth', berth, 'status', status, 'eta', eta)
       FROM calls WHERE agency = 'Brightwater'",
    "SELECT id, json_object('id', id, 'vessel', vessel, 'berth', berth, 'status', status, 'eta', eta)
       FROM calls WHERE agency = 'Northlight'",
    "SELECT id, json_object('id', id, 'vessel', vessel, 'berth', berth, 'status', status, 'eta', eta,
       'draught_m', draught_m, 'pilot', pilot)
       FROM calls WHERE (status = 'inbound' OR pilot = 'Sunniva') AND draught_m > 4",
    "SELECT id, json_object('vessel', vessel, 'berth', berth, 'eta', eta) FROM calls WHERE status = 'expected'",
];

/// A result: key → row, as canonical text.
pub type Result = BTreeMap<i64, String>;

/// A row in canonical form.
pub fn canonical(row: &Json) -> String {
    let mut cells: Vec<String> = match row {
        Json::Object(o) => o.iter().map(|(k, v)| format!("{k}={}", number_free(v))).collect(),
        other => vec![other.to_string()],
    };
    cells.sort();
    cells.join(" ")
}

/// 5.0 and 5 are the same draught.
fn number_free(v: &Json) -> String {
    match v.as_f64() {
        Some(x) => x.to_string(),
        None => v.to_string(),
    }
}

/// What every watcher should see in this state of the database, as one text each.
pub fn witness(db: &mut dyn Store) -> Vec<String> {
    ORACLES.iter().map(|sql| ask(db, sql).unwrap_or_else(|e| format!("oracle: {e}"))).collect()
}

fn ask(db: &mut dyn Store, sql: &str) -> std::result::Result<String, String> {
    let sql = db.in_dialect(sql);
    let row = |cells: Cells| {
        let mut cells = cells.into_iter().flatten();
        Some((cells.next()?.parse::<i64>().ok()?, cells.next()?))
    };
    let rows: BTreeMap<i64, String> = db.rows(&sql)?.into_iter().filter_map(row).collect();
    Ok(serde_json::to_string(&rows).unwrap_or_default())
}

fn parse(text: &str) -> Result {
    let rows: BTreeMap<i64, String> = serde_json::from_str(text).unwrap_or_default();
    rows.into_iter().map(|(id, row)| (id, canonical(&serde_json::from_str(&row).unwrap_or_default()))).collect()
}

/// A delta in canonical form: rows added, replaced and removed, without keys, since some watchers may
/// not see them.
pub type Shape = Vec<String>;

/// The history of the results that watchers should have had.
#[derive(Debug, Default)]
pub struct History {
    /// Of each transaction: position, commit time, and what each watcher should see after it.
    transactions: Vec<(u64, i64, Vec<String>)>,
    start: Vec<String>,
}

/// A delta that a watcher should have received.
#[derive(Clone, Debug, PartialEq)]
pub struct Expected {
    /// Its content.
    pub shape: Shape,
    /// When the first of its transactions was committed.
    pub committed: i64,
    /// The rows of the result after it, sorted.
    pub after: Vec<String>,
}

/// What a watcher received.
#[derive(Clone, Debug, PartialEq)]
pub enum Arrived {
    /// A delta.
    Delta(Shape),
    /// A new snapshot, sorted: unsent deltas were revoked, or were too
    /// much.
    Whole(Vec<String>),
}

/// What happened to an expected delta.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Came {
    /// It arrived, as the delta with this index.
    As(usize),
    /// A snapshot includes it.
    WithAWhole,
    /// It never arrived.
    Never,
}

impl History {
    /// Starts with the state of the database before the first transaction.
    pub fn new(start: Vec<String>) -> History {
        History { transactions: Vec::new(), start }
    }

    /// Records a transaction.
    pub fn note(&mut self, position: u64, at: i64, seen: &[String]) {
        self.transactions.push((position, at, seen.to_vec()));
    }

    /// Transactions so far.
    pub fn len(&self) -> usize {
        self.transactions.len()
    }

    /// Whether there are no transactions.
    pub fn is_empty(&self) -> bool {
        self.transactions.is_empty()
    }

    /// The position of the last transaction.
    pub fn last(&self) -> u64 {
        self.transactions.last().map_or(0, |t| t.0)
    }

    /// The deltas that a watcher should have received, given the positions at which the reader read: what became visible
    /// between two reads is one delta.
    pub fn expected(&self, watcher: usize, reads: &[u64]) -> Vec<Expected> {
        let mut before = self.start.get(watcher).cloned().unwrap_or_default();
        let mut expected = Vec::new();
        let mut transactions = self.transactions.iter().peekable();
        for read in reads.iter().copied().chain([u64::MAX]) {
            let mut first = None;
            let mut after = None;
            while let Some((_, at, seen)) = transactions.next_if(|t| t.0 <= read) {
                let seen = &seen[watcher];
                if first.is_none() && *seen != before {
                    first = Some(*at);
                }
                after = Some(seen);
            }
            let Some(after) = after else { continue };
            let rows = parse(after);
            let shape = difference(&parse(&before), &rows);
            if let (false, Some(committed)) = (shape.is_empty(), first) {
                let mut after: Vec<String> = rows.into_values().collect();
                after.sort();
                expected.push(Expected { shape, committed, after });
            }
            before.clone_from(after);
        }
        expected
    }

    /// The number of extra and missing rows in a watcher's final result.
    pub fn wrong_rows(&self, watcher: usize, result: &[String]) -> usize {
        let last = self.transactions.last().map_or(&self.start, |t| &t.2);
        let mut counts: HashMap<String, i64> = HashMap::new();
        for row in parse(&last[watcher]).into_values() {
            *counts.entry(row).or_default() += 1;
        }
        for row in result {
            *counts.entry(row.clone()).or_default() -= 1;
        }
        counts.values().map(|n| n.unsigned_abs() as usize).sum()
    }
}

fn difference(before: &Result, after: &Result) -> Shape {
    let came = after.iter().filter_map(|(id, row)| match before.get(id) {
        None => Some(format!("add {row}")),
        Some(old) if old != row => Some(format!("replace {row}")),
        Some(_) => None,
    });
    let left = before.iter().filter(|(id, _)| !after.contains_key(id)).map(|(_, row)| format!("remove {row}"));
    let mut shape: Shape = came.chain(left).collect();
    shape.sort();
    shape
}

/// Finds every expected delta among what arrived, in order.
pub fn align(expected: &[Expected], arrived: &[Arrived]) -> Vec<Came> {
    let mut came = vec![Came::Never; expected.len()];
    let mut next = 0;
    let place =
        |from: usize, shape: &Shape| expected.iter().skip(from).position(|e| e.shape == *shape).map(|i| from + i);
    for (at, one) in arrived.iter().enumerate() {
        match one {
            Arrived::Delta(shape) => {
                if let Some(i) = place(next, shape) {
                    came[i] = Came::As(at);
                    next = i + 1;
                }
            }
            Arrived::Whole(rows) => {
                // The same result can occur several times: take the last one before what arrives next.
                let later = arrived[at + 1..].iter().find_map(|a| match a {
                    Arrived::Delta(shape) => place(next, shape),
                    Arrived::Whole(_) => None,
                });
                let end = later.unwrap_or(expected.len());
                if let Some(last) = (next..end).rev().find(|&i| expected[i].after == *rows) {
                    came[next..=last].fill(Came::WithAWhole);
                    next = last + 1;
                }
            }
        }
    }
    came
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_whole_result_stands_for_what_came_before_it_and_nothing_else() {
        let expect = |shape: &str, after: &[&str]| Expected {
            shape: vec![shape.into()],
            committed: 0,
            after: after.iter().map(ToString::to_string).collect(),
        };
        let delta = |shape: &str| Arrived::Delta(vec![shape.into()]);
        let whole = |rows: &[&str]| Arrived::Whole(rows.iter().map(ToString::to_string).collect());
        let all = [
            expect("add a", &["a"]),
            expect("remove a", &[]),
            expect("add b", &["b"]),
            expect("remove b", &[]),
            expect("add c", &["c"]),
        ];
        let each = [delta("add a"), delta("remove a"), delta("add b"), delta("remove b"), delta("add c")];
        assert_eq!(align(&all, &each), (0..5).map(Came::As).collect::<Vec<_>>());
        // The result is empty twice; only one of them fits what follows.
        use Came::{As, Never, WithAWhole};
        assert_eq!(align(&all, &[whole(&[]), delta("add c")]), [WithAWhole, WithAWhole, WithAWhole, WithAWhole, As(1)]);
        let half = [whole(&[]), delta("add b"), delta("remove b"), delta("add c")];
        assert_eq!(align(&all, &half), [WithAWhole, WithAWhole, As(1), As(2), As(3)]);
        assert_eq!(align(&all, &[delta("add a"), delta("add b"), delta("add c")]), [As(0), Never, As(1), Never, As(2)]);
        // A snapshot that matches no state includes nothing.
        assert_eq!(align(&all[..2], &[whole(&["x"])]), [Never, Never]);
    }
}
