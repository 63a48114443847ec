//! Work on the database itself, as any other program would do it: inspect it, change rows, prepare tables.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use std::sync::Arc;

use gossip_source::database::{Inspected, Unfit};
use gossip_source::{Condition, Finding, Source};

use crate::workbench::overlays::form::change::instance_of;
use crate::workbench::views::tables::state::{Inspection, Proposal, Proposed};

/// Inspects all tables, and checks the source and the rules' needs against the database.
///
/// # Errors
/// The database cannot be read.
pub fn inspect(source: &dyn Source, conditions: &[Condition]) -> Result<Inspection, String> {
    let tables = source.database().inspect()?;
    let standing = source.database().standing()?;
    let mut findings = source.check(conditions).map_err(|e| e.to_string())?;
    // What nobody wants to stream is in nobody's way.
    let unfit = |t: &Inspected| {
        let Unfit { why, fix } = t.unfit.clone().filter(|_| !t.wanted)?;
        Some(Finding { blocks: false, about: t.name.clone(), text: why, fix })
    };
    findings.extend(tables.iter().filter_map(unfit));
    Ok(Inspection { tables, findings, standing })
}

/// Runs SQL repeatedly at a rate, each time in its own transaction, and returns a summary.
pub fn repeat(source: &dyn Source, sql: &str, times: u64, second: f64, stopped: &AtomicBool) -> String {
    let mut run = match source.database().runner() {
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

/// The plan to start or stop streaming a table.
///
/// # Errors
/// The database cannot be read, or does not have the table.
pub fn plan_stream(source: &dyn Source, table: &str, on: bool) -> Result<Proposal, String> {
    let what = Proposed::Stream(table.to_string(), on);
    if !on {
        let sql = source.database().stop_streaming(table)?;
        let effects = vec!["subscriptions to it are closed, with the reason".to_string()];
        return Ok(Proposal { title: format!("Stop streaming {table}"), effects, sql, what });
    }
    let plan = with(source, table, on).plan().map_err(|e| e.to_string())?;
    Ok(Proposal { title: format!("Stream {table}"), effects: plan.effects, sql: plan.statements, what })
}

/// The source with a table added or removed.
pub fn with(source: &dyn Source, table: &str, on: bool) -> Arc<dyn Source> {
    let mut tables = source.tables().to_vec();
    tables.retain(|t| !source.is_same_table(t, table));
    if on {
        tables.push(table.to_string());
    }
    source.with_tables(tables)
}
