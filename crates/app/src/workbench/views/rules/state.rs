//! What Rules shows: who may read what, and what other rules would mean.

use std::collections::{BTreeMap, BTreeSet};

use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;
use gossip_core::what_if::{Effect as Differs, How};
use ratatui_textarea::TextArea;
use serde::Deserialize;
use serde_json::{Map, Value as Json};

use crate::workbench::ids::{Micros, WatcherId};

/// The view's state.
#[derive(Default)]
pub struct Rules {
    /// What instances tell of their rules, by number.
    pub told: BTreeMap<u64, RuleText>,
    /// The chosen table and role, by their places.
    pub chosen: (usize, usize),
    /// The edited text of one cell.
    pub edited: Option<Edited>,
    /// Whether keys go into the text.
    pub editing: bool,
    /// The first difference that is shown.
    pub scroll: usize,
    /// What is drawn, worked out when something changes.
    pub seen: Seen,
    pub(super) next: u64,
}

/// The matrix, and what the chosen cell's rules are about.
#[derive(Default)]
pub struct Seen {
    /// The tables, from top to bottom.
    pub tables: Vec<String>,
    /// The roles, from left to right.
    pub roles: Vec<String>,
    /// By table and role.
    pub cells: Vec<Vec<Cell>>,
    /// The text of the chosen cell as it is in force; without a line if there is none.
    pub text: Vec<String>,
    /// The claims that its rules name, edited or not.
    pub claims: BTreeSet<String>,
}

/// Rules of one role on one table that are being changed.
pub struct Edited {
    /// The role.
    pub role: String,
    /// The table.
    pub table: TableName,
    /// The text.
    pub editor: TextArea<'static>,
    /// The rules as they were.
    pub before: Vec<RuleText>,
    /// The rules that the text makes, or what is wrong with it.
    pub made: Result<Vec<RuleText>, Vec<String>>,
    /// What it would have changed, by watcher.
    pub outcomes: BTreeMap<WatcherId, Result<Outcome, String>>,
    /// Over which traffic.
    pub over: Option<Over>,
    /// Whether it is being saved.
    pub(super) saving: bool,
    /// The number of the newest question, and how many answers are still to come.
    pub(super) asked: (u64, usize),
    /// The text has changed since it was asked.
    pub(super) again: bool,
}

/// Over which traffic a question was answered.
#[derive(Clone, Debug, Default)]
pub struct Over {
    /// Transactions.
    pub transactions: u64,
    /// When the first was committed.
    pub since: Option<Micros>,
    /// Sub-selects of which nothing was known.
    pub unknown: Vec<String>,
}

/// What an instance answers to `what_if`.
#[derive(Clone, Debug, Deserialize)]
pub struct Answer {
    pub(super) transactions: u64,
    pub(super) since: Option<String>,
    #[serde(default)]
    pub(super) unknown: Vec<String>,
    pub(super) asked: Vec<Outcome>,
}

/// What came of one watcher.
#[derive(Clone, Debug, Deserialize)]
pub struct Outcome {
    /// Why its query is refused.
    pub refused: Option<String>,
    /// Why it would be.
    pub would_be_refused: Option<String>,
    /// Rows that would newly be heard.
    pub more: usize,
    /// Rows that would no longer be heard.
    pub less: usize,
    /// Rows that would be heard with another content.
    pub otherwise: usize,
    /// The newest of these.
    pub changes: Vec<Different>,
}

/// A row of which something else would have been heard.
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
    /// What is different.
    pub effect: Differs,
    /// What became of it.
    pub verdict: String,
    /// As what it was heard.
    pub heard: Option<How>,
    /// What would have become of it.
    pub would_be: String,
    /// As what it would have been heard.
    pub would_be_heard: Option<How>,
}

/// What a role may do with a table.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Cell {
    /// Rules that let something be read.
    pub rules: usize,
    /// Whether some rule grants all rows.
    pub all_rows: bool,
    /// Whether every column is granted openly somewhere.
    pub all_columns: bool,
    /// Whether something is masked.
    pub masked: bool,
    /// Whether something may be published.
    pub publishes: bool,
}

impl Rules {
    /// Whether there is something that could be saved.
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
    /// Whether an answer is still to come.
    pub fn waits(&self) -> bool {
        self.asked.1 > 0
    }
}
