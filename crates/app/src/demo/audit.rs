//! What each watcher of the scenario should see, worked out by the database itself.
//!
//! For every watcher there is a query written by hand, with the rule and the live query in it as plain SQL. It is asked
//! inside every transaction of the simulation, so that the whole history of every result is known. What the watchers
//! received is then held against it, delta by delta.

use std::collections::{BTreeMap, HashMap};

use rusqlite::Connection;
use serde_json::Value as Json;

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

/// A row in one agreed form, whatever wrote it.
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

/// What every watcher should see in this state of the database, each as one text.
pub fn witness(db: &Connection) -> Vec<String> {
    ORACLES.iter().map(|sql| ask(db, sql).unwrap_or_else(|e| format!("oracle: {e}"))).collect()
}

fn ask(db: &Connection, sql: &str) -> rusqlite::Result<String> {
    let mut s = db.prepare_cached(sql)?;
    let rows = s.query_map([], |r| Ok((r.get::<_, i64>(0)?, r.get::<_, String>(1)?)))?;
    let rows: BTreeMap<i64, String> = rows.collect::<rusqlite::Result<_>>()?;
    Ok(serde_json::to_string(&rows).unwrap_or_default())
}

fn parse(text: &str) -> Result {
    let rows: BTreeMap<i64, String> = serde_json::from_str(text).unwrap_or_default();
    rows.into_iter().map(|(id, row)| (id, canonical(&serde_json::from_str(&row).unwrap_or_default()))).collect()
}

/// A delta in one agreed form: what came, what is replaced by what, what left; keys left out, since some watchers may
/// not see them.
pub type Shape = Vec<String>;

/// The history of what should be seen.
#[derive(Debug, Default)]
pub struct History {
    /// Position of each transaction, when it was committed, and what each watcher should see after it.
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
}

impl History {
    /// Begins with the state of the database before the first transaction.
    pub fn new(start: Vec<String>) -> History {
        History { transactions: Vec::new(), start }
    }

    /// Notes a transaction.
    pub fn note(&mut self, position: u64, at: i64, seen: &[String]) {
        self.transactions.push((position, at, seen.to_vec()));
    }

    /// Transactions so far.
    pub fn len(&self) -> usize {
        self.transactions.len()
    }

    /// Whether nothing has happened.
    pub fn is_empty(&self) -> bool {
        self.transactions.is_empty()
    }

    /// The position of the last transaction.
    pub fn last(&self) -> u64 {
        self.transactions.last().map_or(0, |t| t.0)
    }

    /// The deltas that a watcher should have received, given at which positions the reader read: what became visible
    /// between two reads comes as one.
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
            let shape = difference(&parse(&before), &parse(after));
            if let (false, Some(committed)) = (shape.is_empty(), first) {
                expected.push(Expected { shape, committed });
            }
            before.clone_from(after);
        }
        expected
    }

    /// The rows that a watcher's final result has too many or too few.
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

/// Finds every expected delta among those that arrived, in order. Returns for each whether, and at which place.
pub fn align(expected: &[Expected], arrived: &[Shape]) -> Vec<Option<usize>> {
    let mut from = 0;
    let find = |e: &Expected| {
        let found = arrived.iter().enumerate().skip(from).find(|(_, a)| **a == e.shape).map(|(i, _)| i);
        if let Some(i) = found {
            from = i + 1;
        }
        found
    };
    expected.iter().map(find).collect()
}
