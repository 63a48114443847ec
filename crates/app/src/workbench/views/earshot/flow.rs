//! Assembles Earshot's lines from what instances report.

use std::sync::Arc;

use gossip_core::explain::Tally;
use gossip_protocol::system::{ChangesRow, EventRow, ShownChange, VerdictRow};

use crate::workbench::ids::{Timestamp, WatcherId};
use crate::workbench::line::{At, Kind, Line, RowShown, Stage};
use crate::workbench::message::Effect;
use crate::workbench::state::{Link, MAX_LINES, MAX_REMEMBERED, Shown, State};
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
    s.lines.iter().filter(|l| l.kind == Kind::Tables).filter_map(|l| l.at.clone()).max()
}

pub(crate) fn listening(s: &mut State, id: WatcherId, at: Timestamp, rows: usize) {
    let newest = newest_position(s);
    if let Some(w) = s.watcher_mut(id) {
        if let Some(last) = w.absent.last_mut().filter(|a| a.1.is_none()) {
            last.1 = Some(at);
        }
        w.link = Link::Up(at);
        w.since = w.since.or(Some(at));
        w.event_heard = None;
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
        kind: Kind::Tables,
        elsewhere: vec![],
        identity: None,
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
    stands(s, at, line);
}

/// An event of a topic, or a change of presence. Every instance reports it, at a position of its own.
pub(crate) fn event(s: &mut State, place: usize, row: &EventRow) {
    let Some(at) = At::reported(&row.position, &row.instance) else { return };
    if row.left_out > 0 {
        let text = format!("{} events at {} are not shown: there were too many", row.left_out, row.instance);
        s.notice = Some((s.now, text));
    }
    let known = s.by_identity.get(&row.identity).cloned().unwrap_or_default();
    // What happens twice is reported twice by each.
    let not_yet = |id: &u64| s.line(*id).is_some_and(|line| !line.received.contains_key(&place));
    if let Some(id) = known.into_iter().find(not_yet) {
        if let Some(line) = s.line_mut(id) {
            line.received.insert(place, row.received_at);
            line.elsewhere.push(at.clone());
        }
        s.by_position.insert(at.clone(), id);
        return settle(s, &at);
    }
    let id = s.line_id();
    let line = Line {
        id,
        at: Some(at.clone()),
        kind: if row.kind == "presence" { Kind::Presence } else { Kind::Topics },
        elsewhere: vec![],
        identity: Some(row.identity.clone()),
        after: None,
        xid: 0,
        committed: (row.at, row.at),
        read_at: row.received_at,
        reader: row.instance.clone(),
        received: [(place, row.received_at)].into(),
        rows: row.changes.0.iter().map(row_shown).collect(),
        row_count: row.rows,
        cells: Default::default(),
        made: None,
        unfolded: false,
    };
    s.by_identity.entry(row.identity.clone()).or_default().push_back(id);
    stands(s, at, line);
}

/// A new line stands at its position.
fn stands(s: &mut State, at: At, line: Line) {
    s.by_position.insert(at.clone(), line.id);
    s.sums.line(&line);
    insert(s, line);
    settle(s, &at);
}

/// Verdicts that arrived before their line are settled.
fn settle(s: &mut State, at: &At) {
    for row in s.orphans.remove(at).unwrap_or_default() {
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

/// Inserts a line in order, newest first; changes made here that have not arrived stay on top. Lines of one source are in
/// its order, lines of different ones in that of time.
pub(crate) fn insert(s: &mut State, line: Line) {
    let place = line.at.as_ref().map_or(0, |at| {
        let same = |l: &Line| l.at.as_ref().is_some_and(|other| other.source == at.source);
        let older = s.lines.iter().position(|l| same(l) && l.at.as_ref() < Some(at)).unwrap_or(s.lines.len());
        let newer = s.lines.iter().take(older).rposition(same).map_or(0, |i| i + 1);
        let earlier = |l: &Line| l.at.is_some() && l.committed.1 <= line.committed.1;
        newer + s.lines.iter().skip(newer).take(older - newer).position(earlier).unwrap_or(older - newer)
    });
    s.lines.insert(place, line);
    while s.lines.len() > MAX_LINES {
        let Some(gone) = s.lines.pop_back() else { return };
        for at in gone.at.iter().chain(&gone.elsewhere) {
            if s.by_position.get(at) == Some(&gone.id) {
                s.by_position.remove(at);
            }
        }
        if let Some(identity) = gone.identity
            && let Some(lines) = s.by_identity.get_mut(&identity)
        {
            lines.retain(|id| *id != gone.id);
            if lines.is_empty() {
                s.by_identity.remove(&identity);
            }
        }
    }
}

fn row_shown(shown: &ShownChange) -> RowShown {
    let ShownChange { table, key, old, new } = shown.clone();
    RowShown { table, key: key.iter().map(plain).collect::<Vec<_>>().join(" "), old, new }
}

pub(crate) fn verdict(s: &mut State, row: &VerdictRow) {
    let Some(watcher) = row.label.rsplit('-').next().and_then(|n| n.parse::<WatcherId>().ok()) else { return };
    let Some(at) = At::reported(&row.position, &row.instance) else { return };
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
    let State { lines, sums, .. } = s;
    let Some(line) = lines.iter_mut().find(|l| l.id == id) else { return };
    sums.verdict(line, watcher, &row.verdict);
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
    let State { lines, sums, .. } = s;
    let Some(line) = lines.iter_mut().find(|l| l.id == id) else { return };
    sums.arrived(line, watcher);
    let events = line.kind != Kind::Tables;
    let took = at.saturating_sub(line.committed.1).max(0).unsigned_abs();
    let cell = line.cells.entry(watcher).or_default();
    cell.arrived_at = Some(at);
    cell.frame = Some(frame);
    s.rates.arrived(at, took);
    s.charts.series.written(at, took.cast_signed());
    if events && let Some(w) = s.watcher_mut(watcher) {
        w.event_heard = w.event_heard.take().max(Some(position.clone()));
    }
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
    let (at, after) = (s.now, newest_position(s));
    if let Some(w) = s.watcher_mut(id) {
        w.rows = rows;
        w.snapshots.push(Shown { at, after, why });
        trim(&mut w.snapshots);
    }
}

/// A watcher's instance reported its position.
pub fn current(s: &mut State, id: WatcherId, position: &str) {
    if let Some(w) = s.watcher_mut(id) {
        w.current = At::parse(position).or(w.current.take());
    }
}
