//! A what-if on a recording: its transactions, held against the rules that were in force and against others.
//!
//! The engine that compiles the queries is the instances' own. What a recording does not have is left out and counted: values
//! that were masked or cut, rows beyond the first of a large transaction, and what other tables held.

use std::collections::{BTreeSet, VecDeque};
use std::sync::Arc;

use gossip_core::engine::{Engine, Input, Limits, Request};
use gossip_core::position::{CommitTime, Old, Position, RowChange, Transaction};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Catalog, Identified, Key, Row, Table, TableName};
use gossip_core::value::Value;
use gossip_protocol::system::{ChangesRow, ShownChange, SystemRow};
use gossip_server::shown;
use serde_json::{Map, Value as Json, json};

use crate::personas::Persona;
use crate::recording::{Event, MASK};
use crate::workbench::line::At;

/// Transactions, each with its source.
type Transactions = VecDeque<(Arc<str>, Arc<Transaction>)>;

/// The transactions of a recording.
#[derive(Clone, Debug, Default)]
pub struct Recorded {
    /// Events of the recording that they were taken from, from its beginning.
    pub of: usize,
    transactions: Transactions,
    /// Rows that could not be told from what was recorded of them.
    left_out: u64,
}

/// A question: what these clients would have heard.
#[derive(Clone, Debug)]
pub struct Question {
    /// The tables.
    pub catalog: Catalog,
    /// The rules that were in force.
    pub now: Vec<RuleText>,
    /// Those to try.
    pub then: Vec<RuleText>,
    /// Queries, and who asks them.
    pub asked: Vec<(String, Persona)>,
    /// The transactions.
    pub recorded: Arc<Recorded>,
}

/// The value of a cell, unless it was masked, cut, or is not of its type.
fn value(row: &Map<String, Json>, name: &str, ty: gossip_core::value::Type) -> Option<Value> {
    let json = row.get(name)?;
    let cut = |text: &str| text == MASK || (text.ends_with('…') && text.chars().count() > shown::SHOWN_TEXT);
    if json.as_str().is_some_and(cut) {
        return None;
    }
    Value::from_json(json, ty).ok()
}

fn row(table: &Table, shown: &Map<String, Json>) -> Option<Row> {
    table.columns.iter().map(|c| value(shown, &c.name, c.ty)).collect()
}

fn change(table: &Identified, shown: &ShownChange) -> Option<RowChange> {
    let new = shown.new.as_ref().map(|new| row(table, new));
    let old = shown.old.as_ref().map(|old| row(table, old));
    // What cannot be told is not told of.
    if new == Some(None) || old == Some(None) {
        return None;
    }
    let (new, old) = (new.flatten(), old.flatten());
    let old = match old {
        None if !table.old_values => Old::Unknown,
        old => Old::Known(old),
    };
    let key = table.key.iter().zip(&shown.key).map(|(&i, json)| Value::from_json(json, table.columns[i].ty).ok());
    let key: Key = key.collect::<Option<Vec<Value>>>()?.into();
    (key.len() == table.key.len()).then(|| RowChange::of(table, key, old, new))
}

impl Recorded {
    /// The transactions of these events. Every instance tells of each; once is enough.
    pub fn of(events: &[Event], catalog: &Catalog) -> Recorded {
        let mut recorded = Recorded { of: events.len(), ..Recorded::default() };
        let mut known = BTreeSet::new();
        for event in events.iter().filter(|event| event.table == "changes") {
            let Ok(told) = ChangesRow::read(&event.row) else { continue };
            let Some(at) = At::parse(&told.position).filter(|at| known.insert(at.clone())) else { continue };
            recorded.left_out += told.rows.saturating_sub(told.changes.0.len() as u64);
            let mut changes = Vec::new();
            for shown in &told.changes.0 {
                let table = catalog.get(&TableName::parse(&shown.table)).map(|t| Identified::new(t.clone()));
                match table.and_then(|table| change(&table, shown)) {
                    Some(change) => changes.push(change),
                    None => recorded.left_out += 1,
                }
            }
            let committed = CommitTime { from: told.committed_from, to: told.committed_to };
            let (position, number) = (Position::part(at.number, at.part), told.xid.unwrap_or(0));
            let transaction = Transaction { position, committed, number, inexact_after: None, changes };
            recorded.transactions.push_back((at.source.into(), Arc::new(transaction)));
        }
        recorded
    }
}

/// The answer, as an instance gives it.
pub fn answer(question: &Question) -> Json {
    let request = |(query, who): &(String, Persona)| {
        let roles = if who.roles.is_empty() { Claims::anonymous().roles } else { who.roles.clone() };
        let claims = Claims { roles, facts: who.claims.clone(), operator: false };
        Request { query: query.clone(), claims: Arc::new(claims), ..Request::default() }
    };
    let requests: Vec<Request> = question.asked.iter().map(request).collect();
    let then = RuleSet::new(question.then.clone());
    let problems: Vec<Json> =
        then.check(&question.catalog).into_iter().map(|p| json!({"message": p.message})).collect();
    let mut engine = Engine::new(Arc::new(RuleSet::new(question.now.clone())), Limits::default());
    question.catalog.iter().for_each(|table| drop(engine.handle(Input::Table(table.clone()))));
    let mut trial = engine.trial(&Arc::new(then), &requests);
    trial.transactions = question.recorded.transactions.clone();
    let mut answer = shown::trial(&trial, problems);
    answer["left_out"] = question.recorded.left_out.into();
    answer
}
