//! What Ask shows: the editor, what has been asked, and results.

use gossip_protocol::ColumnInfo;
use ratatui_textarea::{CursorMove, TextArea};
use serde_json::Value as Json;

use crate::workbench::ids::Micros;
use crate::workbench::marks::Mark;

/// People side by side.
pub const MOST: usize = 5;

/// Rows that are shown of a result.
pub const SHOWN: usize = 300;

/// A row on the screen.
#[derive(Clone, Debug, PartialEq)]
pub struct ShownRow {
    /// Its key, as JSON.
    pub key: String,
    /// Its cells, in the order of the columns; `None` where it may not be seen.
    pub cells: Vec<Option<Json>>,
    /// What just happened to it, and until when that is shown.
    pub mark: Option<(Mark, Micros)>,
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

/// What is known of the effective plan.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct About {
    /// With the rules folded in.
    pub query: String,
    /// The feed, and by how many it is shared.
    pub feed: Option<(u64, u64)>,
    /// What one change costs, in nanoseconds.
    pub cost_ns: Option<u64>,
}

/// One person's result.
#[derive(Clone, Debug)]
pub struct Pane {
    /// A number that is not used twice.
    pub id: u32,
    /// The persona.
    pub persona: String,
    /// Its first role.
    pub role: String,
    /// Whether it is connected: since when it is not, and why.
    pub lost: Option<(Micros, String)>,
    /// The columns; `None` before the first rows.
    pub columns: Option<Vec<ColumnInfo>>,
    /// The first rows.
    pub rows: Vec<ShownRow>,
    /// All rows, in number.
    pub total: usize,
    /// Deltas since it was asked.
    pub deltas: u64,
    /// When the last one came.
    pub last: Option<Micros>,
    /// Set if it was refused.
    pub refused: Option<Refused>,
    /// What is known of the effective plan.
    pub about: Option<Result<About, String>>,
}

/// The view's state.
pub struct Ask {
    /// The query.
    pub editor: TextArea<'static>,
    /// Whether keys go into the query.
    pub editing: bool,
    /// Who asks.
    pub who: Vec<String>,
    /// Their results.
    pub panes: Vec<Pane>,
    /// The first row that is shown.
    pub scroll: usize,
    /// The first column that is shown.
    pub aside: usize,
    /// What was asked before, newest last.
    pub history: Vec<String>,
    /// Which of them is shown.
    pub looking_back: Option<usize>,
    /// What could be meant at the cursor, and which of it is chosen.
    pub offered: Vec<String>,
    /// The one that `tab` takes.
    pub picked: usize,
    /// Only rows with this text are shown.
    pub find: String,
    /// The query that is running.
    pub running: Option<String>,
    pub(super) looked: Micros,
    pub(super) next: u32,
}

impl Ask {
    /// Nothing asked yet.
    pub fn new(who: Vec<String>) -> Ask {
        Ask {
            editor: editor("SELECT * FROM "),
            editing: true,
            who,
            panes: Vec::new(),
            scroll: 0,
            aside: 0,
            history: Vec::new(),
            looking_back: None,
            offered: Vec::new(),
            picked: 0,
            find: String::new(),
            running: None,
            looked: 0,
            next: 0,
        }
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
