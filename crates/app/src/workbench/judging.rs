//! What became of a line for a watcher.

use gossip_core::schema::{PRESENCE, SYSTEM_SCHEMA, TOPIC_SOURCE};

use crate::workbench::ids::Timestamp;
use crate::workbench::line::{Kind, Line, Stage};
use crate::workbench::marks::Mark;
use crate::workbench::state::{Link, Shown, State, WatcherState};

impl State {
    /// Whether a watcher's query is about what happened in lines of a kind.
    fn listens_to(&self, w: &WatcherState, kind: Kind) -> bool {
        let presence = w.table == format!("{SYSTEM_SCHEMA}.{PRESENCE}");
        let topic = || self.tables.known.get(&w.table).is_some_and(|t| t.row.source == TOPIC_SOURCE);
        match kind {
            _ if w.table.is_empty() => true,
            Kind::Presence => presence,
            Kind::Topics => topic(),
            Kind::Tables => !presence && !topic(),
        }
    }

    /// The mark of a line for a watcher.
    pub fn mark(&self, line: &Line, w: &WatcherState) -> Mark {
        if let Some((_, stage)) = &line.made
            && line.at.is_none()
        {
            return if matches!(stage, Stage::NeverComes(_)) { Mark::Unknown } else { Mark::OnItsWay };
        }
        let Some(at) = &line.at else { return Mark::Unknown };
        let events = line.kind != Kind::Tables;
        let Some(cell) = line.cells.get(&w.id) else {
            let before = match events {
                true => w.since.is_none_or(|since| line.read_at < since),
                false => w.listens_after.as_ref().is_none_or(|after| at <= after),
            };
            let away = |(from, to): &(Timestamp, Option<Timestamp>)| {
                line.committed.1 >= *from && to.is_none_or(|to| line.committed.1 <= to)
            };
            return match () {
                () if !self.listens_to(w, line.kind) => Mark::Elsewhere,
                () if w.absent.iter().any(away) => Mark::NotConnected,
                () if before => Mark::Unknown,
                () if self.now.saturating_sub(line.read_at) < 2_000_000 => Mark::OnItsWay,
                () => Mark::Unknown,
            };
        };
        let since = |shown: &Shown| match events {
            true => shown.at >= line.read_at,
            false => shown.after.as_ref().is_none_or(|after| after >= at),
        };
        let snapshot_since = || w.snapshots.iter().any(since);
        // What arrives of a source arrives in order: what is older than that and has not arrived never will.
        let instance = self.places.get(w.place).map_or("", |p| p.name.as_str());
        let overtaken = || match events {
            true => w
                .event_heard
                .as_ref()
                .zip(line.at_place(instance))
                .is_some_and(|(h, at)| h.source == at.source && h > at),
            false => w.current.as_ref().is_some_and(|c| c.source == at.source && c >= at),
        };
        match cell.verdict.as_str() {
            "matched" if cell.arrived_at.is_some() => Mark::heard(cell.tally),
            // Only the watcher's own workbench knows of arrivals; a recording knows what its instance wrote to the socket.
            "matched" if self.recorded && cell.written_at.is_some() => Mark::heard(cell.tally),
            "matched" if snapshot_since() => Mark::CaughtUp,
            "matched" if !matches!(w.link, Link::Up(_)) => Mark::NotConnected,
            "matched" if overtaken() => Mark::Missed,
            "matched" => Mark::OnItsWay,
            "withheld" => Mark::Withheld,
            "outside" => Mark::Outside,
            "unchanged" => Mark::Unchanged,
            "folded" if snapshot_since() => Mark::CaughtUp,
            "folded" => Mark::Folded,
            "elsewhere" => Mark::Elsewhere,
            _ => Mark::Unknown,
        }
    }
}
