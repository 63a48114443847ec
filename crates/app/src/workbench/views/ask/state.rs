//! State of Ask: the editor, the running query, and results.

use gossip_core::explain::Step;
use gossip_protocol::ColumnInfo;
use ratatui_textarea::{CursorMove, TextArea};
use serde_json::Value as Json;

use crate::workbench::ids::Timestamp;
use crate::workbench::marks::Mark;

/// Most personas side by side.
pub const MOST: usize = 5;

/// Most rows shown of a result.
pub const SHOWN: usize = 300;

/// A row on screen.
#[derive(Clone, Debug, PartialEq)]
pub struct ShownRow {
    /// Its key, as JSON.
    pub key: String,
    /// Its cells, in the order of the columns; `None` where it is withheld.
    pub cells: Vec<Option<Json>>,
    /// Mark of a recent change, and until when it is shown.
    pub mark: Option<(Mark, Timestamp)>,
    /// Which cells just changed.
    pub changed: Vec<bool>,
}

/// Why a query was refused, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refused {
    /// The error.
    pub text: String,
    /// Line and column in the query, from 1.
    pub place: Option<(usize, usize)>,
}

/// What is known about the effective plan.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct About {
    /// With the rules folded in.
    pub query: String,
    /// The feed, and the number of its subscribers.
    pub feed: Option<(u64, u64)>,
    /// Cost per change, in nanoseconds.
    pub cost_ns: Option<u64>,
    /// Which rows it finds; `None` for all.
    pub rows: Option<String>,
    /// What it makes of all of them together.
    pub then: Option<String>,
    /// What leads a change of the table to it.
    pub found_by: String,
    /// Which rows were read to begin with.
    pub reads: String,
}

/// One persona's result.
#[derive(Clone, Debug)]
pub struct Pane {
    /// A unique id.
    pub id: u32,
    /// The persona.
    pub persona: String,
    /// Its first role.
    pub role: String,
    /// Set if the connection is lost: since when, and why.
    pub lost: Option<(Timestamp, String)>,
    /// The columns; `None` before the first rows.
    pub columns: Option<Vec<ColumnInfo>>,
    /// The first rows.
    pub rows: Vec<ShownRow>,
    /// Number of all rows.
    pub total: usize,
    /// Deltas since it was run.
    pub deltas: u64,
    /// When the last one arrived.
    pub last: Option<Timestamp>,
    /// The error if it was refused.
    pub refused: Option<Refused>,
    /// Which rules there are, and what they lack, if it was.
    pub why_not: Vec<Step>,
    /// What is known about the effective plan.
    pub about: Option<Result<About, String>>,
}

/// What stands where no query has been written yet.
pub const BEGINNING: &str = "SELECT * FROM ";

/// The view's state.
pub struct Ask {
    /// The query.
    pub editor: TextArea<'static>,
    /// Whether keys go into the query.
    pub editing: bool,
    /// The personas to run the query as.
    pub who: Vec<String>,
    /// Their results.
    pub panes: Vec<Pane>,
    /// The first row that is shown.
    pub scroll: usize,
    /// The first column that is shown.
    pub aside: usize,
    /// Earlier queries, newest last.
    pub history: Vec<String>,
    /// Index of the one shown.
    pub looking_back: Option<usize>,
    /// Completions at the cursor.
    pub offered: Vec<String>,
    /// Index of the one that `tab` inserts.
    pub picked: usize,
    /// Only rows with this text are shown.
    pub find: String,
    /// The query that is running.
    pub running: Option<String>,
    pub(super) looked: Timestamp,
    pub(super) next: u32,
}

impl Ask {
    /// Nothing has run yet, but for what counts as an earlier query.
    pub fn new(who: Vec<String>, history: Vec<String>) -> Ask {
        Ask {
            editor: editor(""),
            editing: true,
            who,
            panes: Vec::new(),
            scroll: 0,
            aside: 0,
            history,
            looking_back: None,
            offered: Vec::new(),
            picked: 0,
            find: String::new(),
            running: None,
            looked: 0,
            next: 0,
        }
    }

    /// The error that all who were refused have in common, and whether some were not refused.
    pub fn refusal(&self) -> Option<(&Refused, bool)> {
        let first = self.panes.iter().find_map(|pane| pane.refused.as_ref())?;
        Some((first, self.panes.iter().any(|pane| pane.refused.is_none())))
    }

    /// The query as it stands in the editor.
    pub fn text(&self) -> String {
        self.editor.lines().join("\n")
    }
}

pub(super) fn editor(text: &str) -> TextArea<'static> {
    let mut editor = TextArea::new(text.lines().map(String::from).collect());
    editor.move_cursor(CursorMove::Bottom);
    editor.move_cursor(CursorMove::End);
    editor
}
