//! What a feed that holds its rows has told lately, so that a client that comes back goes on from where it was.
//!
//! A result at a position is what the rows say there, whoever tells it; so a cursor of another instance is as good as one of
//! this one. But between the commit that changes something and the one with which it is told (a row had to be read, or time was
//! wanted between two deltas) nobody here knows what the result was: a cursor from there is of no use.
//!
//! Differences are kept only for a while after somebody has left: keeping them always would cost every change of every result
//! more than it is worth. Who comes back when nothing was told since goes on in any case.

use std::collections::VecDeque;
use std::sync::Arc;

use super::io::{Delta, ResyncReason};
use crate::position::{Position, Timestamp};

/// Changes that are kept at least, however few rows are held.
const LEAST: usize = 16;

/// Approximate bytes of a change; most of its values are those of a row that is held.
const OF_A_CHANGE: usize = 256;

/// A difference that was told.
#[derive(Debug)]
struct Told {
    /// The first commit that is in it.
    from: Position,
    /// The last one.
    to: Position,
    /// `None` if nothing is left of it.
    delta: Option<Arc<Delta>>,
}

impl Told {
    fn changes(&self) -> usize {
        self.delta.as_ref().map_or(1, |delta| delta.changes.len())
    }
}

/// The newest differences that a feed has told since somebody left, no more of them than it holds rows.
#[derive(Debug, Default)]
pub(super) struct History {
    /// The commit whose result the first difference begins with; `None` if nothing was told yet.
    begin: Option<Position>,
    told: VecDeque<Told>,
    changes: usize,
    /// The first commit that may have changed what was told last.
    untold_since: Option<Position>,
    /// Whether it begins where something was withdrawn.
    withdrew: bool,
    /// Until when differences are kept, by the clock.
    keeps_until: Timestamp,
}

impl History {
    /// Somebody has left: keeps what is told until then.
    pub(super) fn keep_until(&mut self, until: Timestamp) {
        self.keeps_until = until;
    }

    /// Notes that a commit may have changed the result, and is told later.
    pub(super) fn note_untold(&mut self, position: Position) {
        self.untold_since.get_or_insert(position);
    }

    /// Notes what was told with a commit; `rows` are held. What is withdrawn with it is not told again.
    pub(super) fn note_told(
        &mut self,
        position: Position,
        delta: Option<&Arc<Delta>>,
        withdraws: bool,
        (rows, now): (usize, Timestamp),
    ) {
        let from = self.untold_since.take();
        if delta.is_none() && from.is_none() && !withdraws && self.begin.is_some() {
            return;
        }
        let keeps = now < self.keeps_until;
        if withdraws || self.begin.is_none() || !keeps {
            self.withdrew = withdraws || self.withdrew && self.begin.is_none();
            (self.begin, self.changes) = (Some(position), 0);
            self.told = VecDeque::new();
            return;
        }
        let told = Told { from: from.unwrap_or(position), to: position, delta: delta.cloned() };
        self.changes += told.changes();
        self.told.push_back(told);
        while self.changes > rows.max(LEAST)
            && let Some(oldest) = self.told.pop_front()
        {
            self.changes -= oldest.changes();
            self.begin = Some(oldest.to);
            self.withdrew = false;
        }
    }

    /// What was told is not to be told again.
    pub(super) fn withdraw(&mut self) {
        let History { untold_since, keeps_until, .. } = *self;
        *self = History { withdrew: true, untold_since, keeps_until, ..History::default() };
    }

    /// Subscribers begin anew.
    pub(super) fn clear(&mut self) {
        *self = History::default();
    }

    /// Whether anything was told, to which somebody can come back.
    pub(super) fn has_begun(&self) -> bool {
        self.begin.is_some()
    }

    /// What was told after the result at a position.
    ///
    /// # Errors
    /// It is not known what the result was there, or what was told since is not to be told again.
    pub(super) fn since(&self, position: Position) -> Result<Vec<Arc<Delta>>, ResyncReason> {
        let begin = self.begin.filter(|begin| position >= *begin);
        let too_late = if self.withdrew { ResyncReason::RightsChanged } else { ResyncReason::ResumedTooLate };
        let begin = begin.ok_or(too_late)?;
        let known = self.told.partition_point(|told| told.to <= position);
        let since = known.checked_sub(1).and_then(|last| self.told.get(last)).map_or(begin, |told| told.to);
        let until = self.told.get(known).map(|told| told.from).or(self.untold_since);
        if position < since || until.is_some_and(|until| position >= until) {
            return Err(ResyncReason::ResumedTooLate);
        }
        Ok(self.told.range(known..).filter_map(|told| told.delta.clone()).collect())
    }

    /// Approximate bytes.
    pub(super) fn size(&self) -> usize {
        self.changes * OF_A_CHANGE
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Where something has changed and is not told yet, nobody knows what the result was.
    #[test]
    fn a_cursor_counts_where_it_is_known_what_the_result_was() {
        let mut history = History::default();
        let known = |history: &History| -> Vec<u64> {
            (0..12).filter(|commit| history.since(Position::at(*commit)).is_ok()).collect()
        };
        assert!(known(&history).is_empty());
        history.keep_until(50);
        history.note_told(Position::at(2), None, false, (10, 49));
        assert_eq!(known(&history), [2, 3, 4, 5, 6, 7, 8, 9, 10, 11]);
        history.note_untold(Position::at(5));
        history.note_untold(Position::at(7));
        assert_eq!(known(&history), [2, 3, 4]);
        history.note_told(Position::at(8), None, false, (10, 49));
        assert_eq!(known(&history), [2, 3, 4, 8, 9, 10, 11], "what came and went between is not known");
        history.withdraw();
        assert_eq!(history.since(Position::at(9)).err(), Some(ResyncReason::RightsChanged));
        history.note_told(Position::at(9), None, false, (10, 49));
        history.note_untold(Position::at(10));
        history.note_told(Position::at(10), None, false, (10, 50));
        assert_eq!(known(&history), [10, 11], "nothing is kept any longer");
    }
}
