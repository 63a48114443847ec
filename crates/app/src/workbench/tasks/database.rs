//! What the workbench does to a database itself, as any other program would: look at it, change rows, prepare tables.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use gossip_source::sqlite::schema::{count_rows, table_names};
use gossip_source::sqlite::{SqliteSource, quote, triggers};
use rusqlite::Connection;
use rusqlite::types::ValueRef;
use serde_json::{Map, Value as Json};

use crate::workbench::change::{Look, instance_of, name};
use crate::workbench::message::Made;
use crate::workbench::tables::{Column, Inspected, Inspection, Proposal, Proposed};

/// Looks at all tables.
pub fn inspect(source: &SqliteSource) -> Result<Inspection, String> {
    let mut db = source.connect().map_err(|e| e.to_string())?;
    let findings = triggers::check(source).map_err(|e| e.to_string())?;
    let mut tables = Vec::new();
    for name in table_names(&db).map_err(|e| e.to_string())? {
        let wanted = source.tables.iter().any(|t| t.eq_ignore_ascii_case(&name));
        let columns = columns(&db, &name).map_err(|e| e.to_string())?;
        tables.push(Inspected { wanted, columns, rows: count_rows(&mut db, &name), name });
    }
    Ok(Inspection { tables, findings })
}

fn columns(db: &Connection, table: &str) -> rusqlite::Result<Vec<Column>> {
    let mut refers = db.prepare("SELECT \"from\", \"table\", coalesce(\"to\", '') FROM pragma_foreign_key_list(?1)")?;
    let refers = refers
        .query_map([table], |r| Ok((r.get::<_, String>(0)?, (r.get::<_, String>(1)?, r.get::<_, String>(2)?))))?
        .collect::<rusqlite::Result<Vec<_>>>()?;
    let mut s = db.prepare("SELECT name, type, \"notnull\", pk FROM pragma_table_xinfo(?1) WHERE hidden <> 1")?;
    let column = |r: &rusqlite::Row<'_>| {
        let name: String = r.get(0)?;
        let refers_to = refers.iter().find(|(from, _)| *from == name).map(|(_, to)| to.clone());
        let key = r.get::<_, i64>(3)? > 0;
        Ok(Column { declared: r.get(1)?, not_null: r.get(2)?, key, refers_to, name })
    };
    s.query_map([table], column)?.collect()
}

/// Rows that can be chosen of a table.
const CHOOSABLE: usize = 200;

/// Some rows of a table, each with the condition that picks it out.
pub fn look_at(source: &SqliteSource, table: &str) -> Result<Look, String> {
    let db = source.connect().map_err(|e| e.to_string())?;
    let read = || -> rusqlite::Result<Look> {
        let columns = columns(&db, table)?;
        let keys: Vec<&str> = columns.iter().filter(|c| c.key).map(|c| c.name.as_str()).collect();
        // Without a key SQLite's own row number picks a row out.
        let picks: Vec<String> =
            if keys.is_empty() { vec!["rowid".into()] } else { keys.iter().map(|k| quote(k)).collect() };
        let literals: Vec<String> = picks.iter().map(|p| format!("quote({p})")).collect();
        let names: Vec<String> = columns.iter().map(|c| quote(&c.name)).collect();
        let all =
            format!("SELECT {}, {} FROM {} LIMIT {CHOOSABLE}", literals.join(", "), names.join(", "), quote(table));
        let mut s = db.prepare(&all)?;
        let mut rows = s.query([])?;
        let mut look = Look::default();
        while let Some(r) = rows.next()? {
            let shown = |i: usize| if keys.is_empty() { "rowid".to_string() } else { name(keys[i]) };
            let condition = (0..picks.len()).map(|i| Ok(format!("{} = {}", shown(i), r.get::<_, String>(i)?)));
            let condition = condition.collect::<rusqlite::Result<Vec<_>>>()?.join(" AND ");
            let mut row = Map::new();
            for (i, c) in columns.iter().enumerate() {
                typed(r.get_ref(picks.len() + i)?).map(|value| row.insert(c.name.clone(), value));
            }
            look.rows.push((condition, row));
        }
        Ok(look)
    };
    read().map_err(|e| e.to_string())
}

/// Longest text that is offered to be changed, in bytes.
const TYPED: usize = 2_000;

/// A value that can be shown in a field and typed again; bytes and long texts cannot.
fn typed(v: ValueRef<'_>) -> Option<Json> {
    Some(match v {
        ValueRef::Null => Json::Null,
        ValueRef::Integer(i) => i.into(),
        ValueRef::Real(f) => f.into(),
        ValueRef::Text(t) if t.len() <= TYPED => std::str::from_utf8(t).ok()?.into(),
        ValueRef::Text(_) | ValueRef::Blob(_) => return None,
    })
}

/// Runs SQL many times at a pace, each in a transaction of its own, and says what came of it.
pub fn repeat(source: &SqliteSource, sql: &str, times: u64, second: f64, stopped: &AtomicBool) -> String {
    let run = || -> Result<(u64, Option<String>), String> {
        let db = source.connect().map_err(|e| e.to_string())?;
        db.busy_timeout(Duration::from_secs(5)).map_err(|e| e.to_string())?;
        let (begun, mut done, mut failed) = (Instant::now(), 0, None);
        for n in 1..=times {
            if stopped.load(Ordering::Relaxed) {
                break;
            }
            let due = begun + Duration::from_secs_f64((n - 1) as f64 / second);
            while Instant::now() < due && !stopped.load(Ordering::Relaxed) {
                std::thread::sleep(due.saturating_duration_since(Instant::now()).min(Duration::from_millis(100)));
            }
            match db.execute_batch(&instance_of(sql, n, rand::random())) {
                Ok(()) => done += 1,
                Err(e) => failed = Some(e.to_string()),
            }
        }
        Ok((done, failed))
    };
    match run() {
        Ok((done, None)) if done < times => format!("stopped: {done} of {times} changes were made"),
        Ok((done, None)) => format!("{done} changes were made"),
        Ok((done, Some(e))) => format!("{done} of {times} changes were made; the last that failed: {e}"),
        Err(e) => format!("no change was made: {e}"),
    }
}

/// What it takes to let a table stream, or no longer.
pub fn plan_stream(source: &SqliteSource, table: &str, on: bool) -> Result<Proposal, String> {
    let db = source.connect().map_err(|e| e.to_string())?;
    let what = Proposed::Stream(table.to_string(), on);
    if !on {
        let sql = triggers::stop_following(&db, table).map_err(|e| e.to_string())?;
        let effects = vec!["clients that listen to it are told that it is gone".to_string()];
        return Ok(Proposal { title: format!("Stream {table} no longer"), effects, sql, what });
    }
    let plan = triggers::plan(&db, &with(source, table, on)).map_err(|e| e.to_string())?;
    Ok(Proposal { title: format!("Let {table} stream"), effects: plan.effects, sql: plan.statements, what })
}

/// The source with a table more, or one less.
pub fn with(source: &SqliteSource, table: &str, on: bool) -> SqliteSource {
    let mut changed = source.clone();
    changed.tables.retain(|t| !t.eq_ignore_ascii_case(table));
    if on {
        changed.tables.push(table.to_string());
    }
    changed
}

/// Runs the SQL of a proposal, all of it or nothing.
pub fn carry_out(source: &SqliteSource, sql: &[String]) -> Result<(), String> {
    let mut db = source.connect().map_err(|e| e.to_string())?;
    db.busy_timeout(Duration::from_secs(5)).map_err(|e| e.to_string())?;
    match sql {
        // A pragma may not be part of a transaction.
        [one] if one.trim_start().to_ascii_uppercase().starts_with("PRAGMA") => {
            db.execute_batch(one).map_err(|e| e.to_string())
        }
        all => triggers::carry_out(&mut db, all).map_err(|e| e.to_string()),
    }
}

/// Runs SQL as any other program would, and finds out whether it can be heard.
pub fn make(source: &SqliteSource, sql: &str) -> Made {
    let touched: Arc<parking_lot::Mutex<std::collections::BTreeMap<String, u64>>> = Arc::default();
    let run = || -> Result<(i64, i64), String> {
        let mut db = source.connect().map_err(|e| e.to_string())?;
        db.busy_timeout(Duration::from_secs(5)).map_err(|e| e.to_string())?;
        let noted = touched.clone();
        let hook = move |_: rusqlite::hooks::Action, _: &str, table: &str, _: i64| {
            if !table.starts_with("gossip_") {
                *noted.lock().entry(table.to_string()).or_default() += 1;
            }
        };
        db.update_hook(Some(hook)).map_err(|e| e.to_string())?;
        let last = |db: &rusqlite::Connection| {
            db.query_row("SELECT max(seq) FROM gossip_log", [], |r| r.get::<_, i64>(0)).map_err(|e| e.to_string())
        };
        db.execute_batch("BEGIN IMMEDIATE").map_err(|e| e.to_string())?;
        let before = last(&db)?;
        db.execute_batch(sql).map_err(|e| e.to_string())?;
        let after = last(&db)?;
        // A COMMIT in the SQL itself has ended the transaction.
        if !db.is_autocommit() {
            db.execute_batch("COMMIT").map_err(|e| e.to_string())?;
        }
        Ok((before, after))
    };
    match run() {
        Err(e) => Made::Failed(e),
        Ok((before, after)) if after > before => Made::Logged(after.max(0) as u64),
        Ok(_) => {
            let touched = touched.lock();
            if touched.is_empty() {
                return Made::Nothing;
            }
            Made::Unheard(touched.keys().cloned().collect(), touched.values().sum())
        }
    }
}
