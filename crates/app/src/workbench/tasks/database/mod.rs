//! What the workbench does to a database itself, as any other program would: look at it, change rows, prepare tables.

mod postgres;
mod sqlite;

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use gossip_source::{Condition, Source};

use crate::workbench::change::{Look, instance_of};
use crate::workbench::message::Made;
use crate::workbench::tables::{Inspection, Proposal, Proposed};

/// Rows that can be chosen of a table.
const CHOOSABLE: usize = 200;

/// Longest text that is offered to be changed, in bytes.
const TYPED: usize = 2_000;

/// Looks at all tables, and holds the source and what rules need of it against the database.
pub fn inspect(source: &Source, conditions: &[Condition]) -> Result<Inspection, String> {
    let tables = match source {
        Source::Sqlite(s) => sqlite::inspect(s)?,
        Source::Postgres(s) => postgres::inspect(s)?,
    };
    let findings = source.check(conditions).map_err(|e| e.to_string())?;
    Ok(Inspection { tables, findings })
}

/// Some rows of a table, each with the condition that picks it out.
pub fn look_at(source: &Source, table: &str) -> Result<Look, String> {
    match source {
        Source::Sqlite(s) => sqlite::look_at(s, table),
        Source::Postgres(s) => postgres::look_at(s, table),
    }
}

/// Runs SQL as any other program would, and finds out whether it can be heard.
pub fn make(source: &Source, sql: &str) -> Made {
    match source {
        Source::Sqlite(s) => sqlite::make(s, sql),
        Source::Postgres(s) => postgres::make(s, sql),
    }
}

/// Runs SQL many times at a pace, each in a transaction of its own, and says what came of it.
pub fn repeat(source: &Source, sql: &str, times: u64, second: f64, stopped: &AtomicBool) -> String {
    type Runner = Box<dyn FnMut(&str) -> Result<(), String>>;
    let opened: Result<Runner, String> = match source {
        Source::Sqlite(s) => sqlite::runner(s).map(|r| Box::new(r) as _),
        Source::Postgres(s) => postgres::runner(s).map(|r| Box::new(r) as _),
    };
    let mut run = match opened {
        Ok(run) => run,
        Err(e) => return format!("no change was made: {e}"),
    };
    let (begun, mut done, mut failed) = (Instant::now(), 0, None);
    for n in 1..=times {
        if stopped.load(Ordering::Relaxed) {
            break;
        }
        let due = begun + Duration::from_secs_f64((n - 1) as f64 / second);
        while Instant::now() < due && !stopped.load(Ordering::Relaxed) {
            std::thread::sleep(due.saturating_duration_since(Instant::now()).min(Duration::from_millis(100)));
        }
        match run(&instance_of(sql, n, rand::random())) {
            Ok(()) => done += 1,
            Err(e) => failed = Some(e),
        }
    }
    match failed {
        None if done < times => format!("stopped: {done} of {times} changes were made"),
        None => format!("{done} changes were made"),
        Some(e) => format!("{done} of {times} changes were made; the last that failed: {e}"),
    }
}

/// What it takes to let a table stream, or no longer.
pub fn plan_stream(source: &Source, table: &str, on: bool) -> Result<Proposal, String> {
    let what = Proposed::Stream(table.to_string(), on);
    if !on {
        let sql = match source {
            Source::Sqlite(s) => sqlite::stop_following(s, table)?,
            // A plan for the tables that stay takes this one out.
            Source::Postgres(_) => with(source, table, false).plan().map_err(|e| e.to_string())?.statements,
        };
        let effects = vec!["clients that listen to it are told that it is gone".to_string()];
        return Ok(Proposal { title: format!("Stream {table} no longer"), effects, sql, what });
    }
    let plan = with(source, table, on).plan().map_err(|e| e.to_string())?;
    Ok(Proposal { title: format!("Let {table} stream"), effects: plan.effects, sql: plan.statements, what })
}

/// The source with a table more, or one less.
pub fn with(source: &Source, table: &str, on: bool) -> Source {
    let mut tables = source.tables().to_vec();
    tables.retain(|t| !same(source, t, table));
    if on {
        tables.push(table.to_string());
    }
    source.with_tables(tables)
}

/// Whether two names in a configuration are of one table.
fn same(source: &Source, a: &str, b: &str) -> bool {
    match source {
        Source::Sqlite(_) => a.eq_ignore_ascii_case(b),
        Source::Postgres(s) => {
            use gossip_source::postgres::catalog::split_name;
            split_name(a, &s.schema) == split_name(b, &s.schema)
        }
    }
}

/// Runs the SQL of a proposal, as far as the database can all of it or nothing.
pub fn carry_out(source: &Source, sql: &[String]) -> Result<(), String> {
    match source {
        Source::Sqlite(s) => sqlite::carry_out(s, sql),
        Source::Postgres(s) => s.carry_out(sql).map_err(|e| e.to_string()),
    }
}
