//! What a watcher heard of a change: each mark has its own shape, colour and word.

use gossip_core::explain::Tally;
use ratatui::style::Style;

use crate::workbench::theme::Theme;

/// What a cell of Earshot shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mark {
    /// Arrived; rows entered the result.
    Added,
    /// Arrived; rows of the result changed.
    Replaced,
    /// Arrived; rows left the result.
    Removed,
    /// No rule admits any of its rows.
    Withheld,
    /// None of its rows matches the query.
    Outside,
    /// Nothing visible to this watcher changed.
    Unchanged,
    /// The pending snapshot will include it.
    Folded,
    /// It matched and has not arrived yet.
    OnItsWay,
    /// It arrived late, in a snapshot of the newest state.
    CaughtUp,
    /// It should have arrived but did not.
    Missed,
    /// The watcher was not connected.
    NotConnected,
    /// The watcher listens to another table.
    Elsewhere,
    /// Nothing is known, or not yet.
    Unknown,
}

impl Mark {
    /// All marks, for the legend.
    pub const ALL: [Mark; 13] = [
        Mark::Added,
        Mark::Replaced,
        Mark::Removed,
        Mark::Withheld,
        Mark::Outside,
        Mark::Unchanged,
        Mark::Elsewhere,
        Mark::OnItsWay,
        Mark::Folded,
        Mark::CaughtUp,
        Mark::Missed,
        Mark::NotConnected,
        Mark::Unknown,
    ];

    /// The mark of a delta that arrived.
    pub fn heard(tally: Tally) -> Mark {
        match tally {
            Tally { replaced: 0, removed: 0, .. } => Mark::Added,
            Tally { added: 0, replaced: 0, .. } => Mark::Removed,
            _ => Mark::Replaced,
        }
    }

    /// Whether the change arrived.
    pub fn is_heard(self) -> bool {
        matches!(self, Mark::Added | Mark::Replaced | Mark::Removed)
    }

    /// Its shape, one cell wide.
    pub fn shape(self) -> &'static str {
        match self {
            Mark::Added => "⊕",
            Mark::Replaced => "●",
            Mark::Removed => "⊖",
            Mark::Withheld => "◆",
            Mark::Outside => "◇",
            Mark::Unchanged => "≈",
            Mark::Folded => "◐",
            Mark::OnItsWay => "◌",
            Mark::CaughtUp => "◑",
            Mark::Missed => "✖",
            Mark::NotConnected => "∅",
            Mark::Elsewhere => "─",
            Mark::Unknown => "?",
        }
    }

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Mark::Added => "heard: added",
            Mark::Replaced => "heard: replaced",
            Mark::Removed => "heard: removed",
            Mark::Withheld => "withheld by rule",
            Mark::Outside => "outside the query",
            Mark::Unchanged => "nothing it sees changed",
            Mark::Folded => "waits for a snapshot",
            Mark::OnItsWay => "on its way",
            Mark::CaughtUp => "late, by snapshot",
            Mark::Missed => "missed",
            Mark::NotConnected => "not connected",
            Mark::Elsewhere => "other table",
            Mark::Unknown => "not known",
        }
    }

    /// Its colour.
    pub fn style(self, t: Theme) -> Style {
        match self {
            Mark::Added | Mark::Replaced | Mark::Removed => t.heard(),
            Mark::Withheld => t.withheld(),
            Mark::Outside => t.outside(),
            Mark::Folded | Mark::OnItsWay | Mark::CaughtUp => t.late(),
            Mark::Missed => t.missed(),
            Mark::Unchanged | Mark::NotConnected | Mark::Elsewhere | Mark::Unknown => t.dim(),
        }
    }
}
