//! Rows, and what other rules would change, as operators are shown them.

use std::sync::Arc;

use gossip_core::plan::EffectivePlan;
use gossip_core::position::{Old, RowChange};
use gossip_core::query::QueryError;
use gossip_core::schema::{Column, Row, Table};
use gossip_core::value::Value;
use gossip_core::what_if::{Difference, Outcome, Trial, Tried};
use gossip_protocol::system::ShownChange;
use gossip_protocol::timestamp::rfc3339;
use serde_json::{Value as Json, json};

/// Characters of one value that are shown to operators.
pub const SHOWN_TEXT: usize = 120;

/// A row's change as operators are shown it, cut where it is long.
pub fn change(c: &RowChange, table: Option<&Table>) -> ShownChange {
    let row = |row: &Row| {
        let cell = |(column, v): (&Column, &Value)| {
            let v = match v.to_json() {
                Json::String(s) if s.chars().count() > SHOWN_TEXT => {
                    Json::from(s.chars().take(SHOWN_TEXT).chain(['…']).collect::<String>())
                }
                v => v,
            };
            (column.name.to_string(), v)
        };
        Some(table?.columns.iter().zip(row.iter()).map(cell).collect::<serde_json::Map<_, _>>())
    };
    let old = match &c.old {
        Old::Known(Some(old)) => row(old),
        _ => None,
    };
    let key = c.key.iter().map(Value::to_json).collect();
    ShownChange { table: c.table.to_string(), key, old, new: c.new.as_ref().and_then(row) }
}

/// The answer to a what-if.
pub fn trial(trial: &Trial, problems: Vec<Json>) -> Json {
    let outcomes = trial.run();
    let asked: Vec<Json> = trial.asked.iter().zip(outcomes).map(|(t, o)| outcome(t, &o)).collect();
    let since = trial.transactions.front().map(|(_, t)| rfc3339(t.committed.from));
    let joined = trial.joined();
    let joined = joined.iter().map(|table| format!("a join of {table}"));
    let unknown: Vec<String> = trial.unknown().iter().map(|l| l.to_string()).chain(joined).collect();
    json!({
        "transactions": trial.transactions.len(),
        "since": since,
        "problems": problems,
        "unknown": unknown,
        "asked": asked,
    })
}

fn outcome(tried: &Tried, o: &Outcome) -> Json {
    let refused = |e: &Result<Arc<EffectivePlan>, QueryError>| e.as_ref().err().map(ToString::to_string);
    let table = tried.now.as_ref().or(tried.then.as_ref()).ok().map(|e| e.table().clone());
    let difference = |d: &Difference| {
        let mut shown = json!(change(d.row(), table.as_deref()));
        shown["position"] = format!("{}:{}", d.source, d.transaction.position).into();
        shown["at"] = rfc3339(d.transaction.committed.to).into();
        shown["effect"] = json!(d.effect);
        shown["verdict"] = d.now.0.word().into();
        shown["heard"] = json!(d.now.1);
        shown["would_be"] = d.then.0.word().into();
        shown["would_be_heard"] = json!(d.then.1);
        shown
    };
    json!({
        "refused": refused(&tried.now),
        "would_be_refused": refused(&tried.then),
        "more": o.more,
        "less": o.less,
        "otherwise": o.otherwise,
        "changes": o.differences.iter().map(difference).collect::<Vec<_>>(),
    })
}
