//! State of Rules: who may read what, and what other rules would change.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;
use gossip_core::what_if::{Effect as Differs, How};
use ratatui_textarea::TextArea;
use serde::Deserialize;
use serde_json::{Map, Value as Json};

use crate::incident::rehearsal::Recorded;
use crate::personas::Persona;
use crate::workbench::ids::{Timestamp, WatcherId};

/// The view's state.
#[derive(Default)]
pub struct Rules {
    /// The rules in force, by number.
    pub told: BTreeMap<u64, RuleText>,
    /// Indices of the selected table and role.
    pub chosen: (usize, usize),
    /// The edited text of one cell.
    pub edited: Option<Edited>,
    /// Whether keys go into the text.
    pub editing: bool,
    /// The first difference that is shown.
    pub scroll: usize,
    /// What is drawn, computed when something changes.
    pub seen: Seen,
    /// What those see of the table whom the selected cell's rules cover.
    pub views: Views,
    /// The transactions of the recording that is shown.
    pub(super) recorded: Arc<Recorded>,
    pub(super) next: u64,
}

/// The matrix, and the selected cell's rules.
#[derive(Default)]
pub struct Seen {
    /// The tables, from top to bottom.
    pub tables: Vec<String>,
    /// The roles, from left to right.
    pub roles: Vec<String>,
    /// By table and role.
    pub cells: Vec<Vec<Cell>>,
    /// The text in force of the selected cell; empty if there is none.
    pub text: Vec<String>,
    /// The claims that its rules name, edited or not.
    pub claims: BTreeSet<String>,
}

/// Rules of one role on one table that are being edited.
pub struct Edited {
    /// The role.
    pub role: String,
    /// The table.
    pub table: TableName,
    /// The text.
    pub editor: TextArea<'static>,
    /// The rules before editing.
    pub before: Vec<RuleText>,
    /// The rules in the text, or its errors.
    pub made: Result<Vec<RuleText>, Vec<String>>,
    /// Its effects, by watcher.
    pub outcomes: BTreeMap<WatcherId, Result<Outcome, String>>,
    /// The traffic it was evaluated on.
    pub over: Option<Over>,
    /// Whether it is being saved.
    pub(super) saving: bool,
    /// Number of the newest what-if, and how many answers are outstanding.
    pub(super) asked: (u64, usize),
    /// Whether the text has changed since the what-if was sent.
    pub(super) again: bool,
}

/// The traffic that a what-if was evaluated on.
#[derive(Clone, Debug, Default)]
pub struct Over {
    /// Transactions.
    pub transactions: u64,
    /// When the first was committed.
    pub since: Option<Timestamp>,
    /// Sub-selects without a known result.
    pub unknown: Vec<String>,
    /// Rows of a recording that it does not tell enough of.
    pub left_out: u64,
}

/// An instance's answer to `what_if`.
#[derive(Clone, Debug, Deserialize)]
pub struct Answer {
    pub(super) transactions: u64,
    pub(super) since: Option<String>,
    #[serde(default)]
    pub(super) unknown: Vec<String>,
    #[serde(default)]
    pub(super) left_out: u64,
    pub(super) asked: Vec<Outcome>,
}

/// The outcome for one watcher.
#[derive(Clone, Debug, Deserialize)]
pub struct Outcome {
    /// Why its query is refused.
    pub refused: Option<String>,
    /// Why it would be.
    pub would_be_refused: Option<String>,
    /// Rows that would be heard in addition.
    pub more: usize,
    /// Rows that would no longer be heard.
    pub less: usize,
    /// Rows that would be heard with other contents.
    pub otherwise: usize,
    /// The newest of them.
    pub changes: Vec<Different>,
}

/// A row that would have been heard differently.
#[derive(Clone, Debug, Deserialize)]
pub struct Different {
    /// When it was committed.
    pub at: String,
    /// The table.
    pub table: String,
    /// The key.
    pub key: Vec<Json>,
    /// The row before.
    pub old: Option<Map<String, Json>>,
    /// The row after.
    pub new: Option<Map<String, Json>>,
    /// The difference.
    pub effect: Differs,
    /// The verdict.
    pub verdict: String,
    /// The operation that was heard.
    pub heard: Option<How>,
    /// The verdict under the other rules.
    pub would_be: String,
    /// The operation that would have been heard.
    pub would_be_heard: Option<How>,
}

/// What a role may do with a table.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Cell {
    /// Number of rules that permit reading.
    pub rules: usize,
    /// Whether some rule grants all rows.
    pub all_rows: bool,
    /// Whether some rule shows each column unmasked.
    pub all_columns: bool,
    /// Whether something is masked.
    pub masked: bool,
    /// Whether publishing is permitted.
    pub publishes: bool,
}

impl Rules {
    /// Whether there are changes that can be saved.
    pub fn can_save(&self) -> bool {
        let changed = |e: &Edited| !e.saving && e.made.as_ref().is_ok_and(|made| !alike(made, &e.before));
        self.edited.as_ref().is_some_and(changed)
    }
}

pub(super) fn alike(a: &[RuleText], b: &[RuleText]) -> bool {
    let bare = |r: &RuleText| RuleText { line: 0, ..r.clone() };
    a.len() == b.len() && a.iter().zip(b).all(|(a, b)| bare(a) == bare(b))
}

impl Edited {
    /// Whether an answer is outstanding.
    pub fn waits(&self) -> bool {
        self.asked.1 > 0
    }
}

/// What is looked at: a role on a table, and who has the role.
pub(super) type About = (String, TableName, Vec<(String, Persona)>);

/// What they see.
#[derive(Default)]
pub struct Views {
    /// What is looked at.
    pub(super) of: Option<About>,
    /// What each sees.
    pub people: Vec<Person>,
    pub(super) next: u32,
}

/// What one of them sees.
#[derive(Clone, Debug)]
pub struct Person {
    /// The persona's name.
    pub name: String,
    /// All rows that it sees; `None` until that is known.
    pub count: Option<u64>,
    /// The columns of the first rows.
    pub columns: Vec<String>,
    /// The first rows.
    pub rows: Vec<Map<String, Json>>,
    /// Why it sees nothing.
    pub refused: Option<String>,
    /// The numbers of the two queries.
    pub(super) asked: [u32; 2],
}
