//! Assembles Earshot's lines from what instances report.

use std::sync::Arc;

use gossip_core::explain::Tally;
use gossip_protocol::system::{ChangesRow, ShownChange, VerdictRow};

use crate::workbench::ids::{Timestamp, WatcherId};
use crate::workbench::line::{At, Line, RowShown, Stage};
use crate::workbench::message::Effect;
use crate::workbench::state::{Link, MAX_LINES, MAX_REMEMBERED, State};
use crate::workbench::words::plain;
use gossip_source::database::{KnownBy, Made};

/// Most absences and snapshots kept per watcher.
const MAX_PAST: usize = 100;

fn trim<T>(past: &mut Vec<T>) {
    if past.len() > MAX_PAST {
        past.remove(0);
    }
}

fn newest_position(s: &State) -> Option<At> {
    s.lines.iter().filter_map(|l| l.at.clone()).max()
}

pub(crate) fn listening(s: &mut State, id: WatcherId, at: Timestamp, rows: usize) {
    let newest = newest_position(s);
    if let Some(w) = s.watcher_mut(id) {
        if let Some(last) = w.absent.last_mut().filter(|a| a.1.is_none()) {
            last.1 = Some(at);
        }
        w.link = Link::Up(at);
        w.refused = None;
        w.rows = rows;
        w.current = None;
        // Nothing from before it listened concerns it.
        let nothing_yet = At { source: String::new(), number: 0, part: 0 };
        w.listens_after = Some(w.listens_after.take().or(newest).unwrap_or(nothing_yet));
    }
}

/// A transaction that an instance has processed. Every instance reports it; the first report creates the line.
pub(crate) fn change(s: &mut State, place: usize, row: &ChangesRow) {
    let Some(at) = At::parse(&row.position) else { return };
    let received = row.received_at;
    if let Some(id) = s.by_position.get(&at).copied() {
        if let Some(line) = s.line_mut(id) {
            line.received.insert(place, received);
        }
        return;
    }
    let rows: Vec<RowShown> = row.changes.0.iter().map(row_shown).collect();
    let row_count = row.rows;
    if row_count == 0 {
        return;
    }
    let after = At::parse(&row.after);
    let xid = row.xid.unwrap_or(0);
    s.rates.changed(received, row_count);
    // A change made here that lies in this interval has arrived.
    let mine = s.lines.iter().position(|l| match (&l.made, &l.at) {
        (Some((_, Stage::Committed(source, mark))), None) => is_it(source, *mark, &at, after.as_ref(), xid),
        _ => false,
    });
    let id = s.line_id();
    let (id, made, unfolded) = match mine.and_then(|i| s.lines.remove(i)) {
        Some(pending) => {
            let keep = |place: &mut Option<u64>| {
                if *place == Some(pending.id) {
                    *place = Some(id);
                }
            };
            keep(&mut s.chosen);
            keep(&mut s.held);
            (id, pending.made, pending.unfolded)
        }
        None => (id, None, false),
    };
    let line = Line {
        id,
        at: Some(at.clone()),
        after,
        xid,
        committed: (row.committed_from, row.committed_to),
        read_at: row.read_at,
        reader: row.reader.clone(),
        received: [(place, received)].into(),
        rows,
        row_count,
        cells: Default::default(),
        made,
        unfolded,
    };
    s.by_position.insert(at.clone(), id);
    insert(s, line);
    for row in s.orphans.remove(&at).unwrap_or_default() {
        verdict(s, &row);
    }
}

/// Whether a transaction of the stream is the one made here.
fn is_it(source: &str, known: KnownBy, at: &At, after: Option<&At>, xid: u64) -> bool {
    let same = match known {
        KnownBy::Log(number) => number <= at.number && after.is_none_or(|a| number > a.number),
        KnownBy::Transaction(own) => own == xid,
    };
    source == at.source && same
}

/// Inserts a line in order, newest first; changes made here that have not arrived stay on top.
pub(crate) fn insert(s: &mut State, line: Line) {
    let place = match &line.at {
        None => 0,
        Some(at) => s.lines.iter().position(|l| l.at.as_ref().is_some_and(|o| o < at)).unwrap_or(s.lines.len()),
    };
    s.lines.insert(place, line);
    while s.lines.len() > MAX_LINES {
        if let Some(Line { at: Some(at), .. }) = s.lines.pop_back() {
            s.by_position.remove(&at);
        }
    }
}

fn row_shown(shown: &ShownChange) -> RowShown {
    let ShownChange { table, key, old, new } = shown.clone();
    RowShown { table, key: key.iter().map(plain).collect::<Vec<_>>().join(" "), old, new }
}

pub(crate) fn verdict(s: &mut State, row: &VerdictRow) {
    let Some(watcher) = row.label.rsplit('-').next().and_then(|n| n.parse::<WatcherId>().ok()) else { return };
    let Some(at) = At::parse(&row.position) else { return };
    let Some(id) = s.by_position.get(&at).copied() else {
        // Its line arrives on another subscription or from another instance.
        if s.orphans.len() >= MAX_REMEMBERED {
            s.orphans.clear();
        }
        s.orphans.entry(at).or_default().push(row.clone());
        return;
    };
    let count = |n: u64| u32::try_from(n).unwrap_or(u32::MAX);
    let tally = Tally { added: count(row.added), replaced: count(row.replaced), removed: count(row.removed) };
    if let Some(w) = s.watcher_mut(watcher) {
        w.subscription = Some(row.subscription);
    }
    let Some(line) = s.line_mut(id) else { return };
    let cell = line.cells.entry(watcher).or_default();
    if row.verdict == "written" {
        cell.written_at = Some(row.at);
        return;
    }
    cell.verdict.clone_from(&row.verdict);
    cell.tally = tally;
    cell.matched_at = Some(row.at);
    let Some(cursor) = row.cursor.clone().filter(|c| !c.is_empty()) else { return };
    let key = (watcher, cursor);
    match s.early.remove(&key) {
        Some((arrived_at, frame)) => arrived(s, watcher, &at, arrived_at, frame),
        None => {
            if s.by_cursor.len() >= MAX_REMEMBERED {
                s.by_cursor.clear();
            }
            s.by_cursor.insert(key, at);
        }
    }
}

pub(crate) fn arrived(s: &mut State, watcher: WatcherId, position: &At, at: Timestamp, frame: std::sync::Arc<str>) {
    let Some(id) = s.by_position.get(position).copied() else { return };
    let Some(line) = s.line_mut(id) else { return };
    let took = at.saturating_sub(line.committed.1).max(0).unsigned_abs();
    let cell = line.cells.entry(watcher).or_default();
    cell.arrived_at = Some(at);
    cell.frame = Some(frame);
    s.rates.arrived(at, took);
    s.charts.series.written(at, took.cast_signed());
}

pub(crate) fn was_made(s: &mut State, id: u64, made: Made) -> Vec<Effect> {
    let source = s.places.first().map(|p| p.info.source.clone()).unwrap_or_default();
    let stage = match made {
        Made::Logged(mark) => Stage::Committed(source, mark),
        Made::Unheard(tables, rows) => Stage::NeverComes(format!(
            "{} row{} of {} changed, but {} not streamed: nobody can hear it",
            rows,
            if rows == 1 { "" } else { "s" },
            tables.join(", "),
            if tables.len() == 1 { "that table is" } else { "those tables are" },
        )),
        Made::Nothing => Stage::NeverComes("it changed no row".into()),
        Made::Failed(e) => Stage::NeverComes(format!("rolled back: {e}")),
    };
    // The stream may be faster than the commit's acknowledgement.
    let seen = match &stage {
        Stage::Committed(source, mark) => {
            s.lines.iter().find(|l| l.at.as_ref().is_some_and(|at| is_it(source, *mark, at, l.after.as_ref(), l.xid)))
        }
        _ => None,
    };
    let seen = seen.map(|l| l.id);
    let Some(pending) = s.lines.iter().position(|l| l.id == id) else { return vec![] };
    match seen {
        None => {
            if let Some((_, old)) = s.lines[pending].made.as_mut() {
                *old = stage;
            }
        }
        Some(real) => {
            let gone = s.lines.remove(pending);
            if s.chosen == Some(id) {
                s.chosen = Some(real);
            }
            if let (Some(line), Some(gone)) = (s.line_mut(real), gone) {
                line.made = gone.made.map(|(sql, _)| (sql, stage));
            }
        }
    }
    vec![]
}

/// A watcher has lost its connection.
pub fn lost(s: &mut State, id: WatcherId, at: Timestamp, why: String) {
    if let Some(w) = s.watcher_mut(id)
        && !matches!(w.link, Link::Down(..))
    {
        w.link = Link::Down(at, why);
        w.subscription = None;
        w.absent.push((at, None));
        trim(&mut w.absent);
    }
}

/// A watcher's query is refused.
pub fn refused(s: &mut State, id: WatcherId, why: String) {
    if let Some(w) = s.watcher_mut(id) {
        w.refused = Some(why);
    }
}

/// A delta arrived at a watcher. Its cursor identifies the change, perhaps later.
pub fn heard(s: &mut State, id: WatcherId, at: Timestamp, cursor: String, frame: Arc<str>, rows: usize) {
    if let Some(w) = s.watcher_mut(id) {
        w.heard += 1;
        w.rows = rows;
    }
    let key = (id, cursor);
    match s.by_cursor.remove(&key) {
        Some(position) => arrived(s, id, &position, at, frame),
        None => {
            if s.early.len() >= MAX_REMEMBERED {
                s.early.clear();
            }
            s.early.insert(key, (at, frame));
        }
    }
}

/// A watcher's result was replaced by a snapshot.
pub fn shown(s: &mut State, id: WatcherId, why: String, rows: usize) {
    let newest = newest_position(s);
    if let Some(w) = s.watcher_mut(id) {
        w.rows = rows;
        w.snapshots.push((newest, why));
        trim(&mut w.snapshots);
    }
}

/// A watcher's instance reported its position.
pub fn current(s: &mut State, id: WatcherId, position: &str) {
    if let Some(w) = s.watcher_mut(id) {
        w.current = At::parse(position).or(w.current.take());
    }
}
