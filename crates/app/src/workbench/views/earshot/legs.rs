//! The journey of one transaction in legs: read, relayed, and for each watcher matched, written, arrived.

use crate::workbench::line::Line;
use crate::workbench::marks::Mark;
use crate::workbench::state::State;
use crate::workbench::words::span;

/// A leg of the journey, in microseconds after the latest possible commit time.
pub struct Leg {
    /// Its name.
    pub name: String,
    /// Its start.
    pub from: i64,
    /// Its end.
    pub to: i64,
    /// Its colour.
    pub tone: Tone,
    /// Its duration, or the outcome.
    pub note: String,
}

/// What a leg is a part of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tone {
    /// Reading the source.
    Read,
    /// The relay.
    Relay,
    /// A watcher's whole leg.
    Watcher(Mark),
    /// A part of it.
    Part,
}

/// The legs of a line's journey, in order.
pub fn legs(s: &State, line: &Line) -> Vec<Leg> {
    let zero = line.committed.1;
    let after = |at: i64| at.saturating_sub(zero).max(0);
    let mut legs = Vec::new();
    if line.at.is_none() {
        return legs;
    }
    let read = after(line.read_at);
    legs.push(Leg { name: format!("read by {}", line.reader), from: 0, to: read, tone: Tone::Read, note: span(read) });
    for (place, received) in &line.received {
        let name = s.places.get(*place).map_or("?", |p| p.name.as_str());
        let to = after(*received);
        legs.push(Leg { name: format!("relayed to {name}"), from: read, to, tone: Tone::Relay, note: span(to) });
    }
    for w in &s.watchers {
        let mark = s.mark(line, w);
        let cell = line.cells.get(&w.id);
        let begun = line.received.get(&w.place).map_or(read, |r| after(*r));
        let matched = cell.and_then(|c| c.matched_at).map(after);
        let arrived = cell.and_then(|c| c.arrived_at).map(after);
        let to = arrived.or(matched).unwrap_or(begun);
        let parts = match (matched, cell.and_then(|c| c.written_at).map(after), arrived) {
            (_, _, Some(arrived)) => span(arrived),
            _ => mark.word().to_string(),
        };
        legs.push(Leg { name: w.persona.clone(), from: begun, to, tone: Tone::Watcher(mark), note: parts });
        if let (Some(matched), Some(written), Some(arrived)) =
            (matched, cell.and_then(|c| c.written_at).map(after), arrived)
        {
            // The write is timed after the system call returns, which may be after the other side has read.
            let written = written.min(arrived);
            for (name, from, to) in [
                ("  matched", begun, matched),
                ("  written", matched, written.max(matched)),
                ("  arrived", written.max(matched), arrived),
            ] {
                legs.push(Leg {
                    name: name.into(),
                    from,
                    to,
                    tone: Tone::Part,
                    note: format!("+{}", span(to.saturating_sub(from).max(0))),
                });
            }
        }
    }
    legs
}
