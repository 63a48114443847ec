//! What can happen to the workbench, and what it asks to be done.

use std::sync::Arc;

use crossterm::event::{KeyEvent, MouseEvent};
use gossip_core::explain::Step;
use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;
use gossip_protocol::ColumnInfo;
use gossip_protocol::call::QuestionTarget;
use gossip_protocol::system::{ChangesRow, InstanceRow, LinkRow, RuleRow, TableRow, TrafficRow, VerdictRow};
use gossip_source::database::{Look, Made};
use serde_json::{Map, Value as Json};

use crate::personas::{Persona, Watcher};
use crate::recording::{Event, Masks};
use crate::workbench::access::Place;
use crate::workbench::ids::{Micros, WatcherId};
use crate::workbench::line::At;
use crate::workbench::overlays::frames::state::Log;
use crate::workbench::page::Page;
use crate::workbench::views::ask::state::{About, Refused};
use crate::workbench::views::rules::state::Answer;
use crate::workbench::views::tables::state::{Inspection, Proposal};

/// Something that happened.
#[derive(Clone, Debug)]
pub enum Message {
    /// A key was pressed.
    Key(KeyEvent),
    /// The mouse was moved, pressed or turned.
    Mouse(MouseEvent),
    /// The window changed its size.
    Resized,
    /// Some time has passed.
    Tick(Micros),
    /// An operator's connection was made, or lost with a reason.
    Place(usize, Micros, Result<(), String>),
    /// A row of `gossip.instances`.
    Instance(usize, Box<InstanceRow>),
    /// What a place says of another instance, or that it is gone.
    Member(usize, String, Option<Box<InstanceRow>>),
    /// A row of `gossip.links` by its instance, or that it is gone.
    RelayLink(String, Option<Box<LinkRow>>),
    /// A row of `gossip.traffic`.
    Passing(usize, TrafficRow),
    /// A row of `gossip.changes`.
    Change(usize, Box<ChangesRow>),
    /// A row of `gossip.verdicts`.
    Verdict(Box<VerdictRow>),
    /// A watcher's subscription has its first rows.
    Listening(WatcherId, Micros, usize),
    /// A watcher's connection was lost.
    WatcherLost(WatcherId, Micros, String),
    /// A watcher's query was refused.
    Refused(WatcherId, String),
    /// A delta arrived at a watcher.
    Delta {
        /// The watcher.
        watcher: WatcherId,
        /// When.
        at: Micros,
        /// Its cursor.
        cursor: String,
        /// The frame.
        frame: Arc<str>,
        /// Rows of the result after it.
        rows: usize,
    },
    /// A watcher's result was replaced.
    Snapshot(WatcherId, String, usize),
    /// A watcher was told how far its instance is.
    Current(WatcherId, String),
    /// An explanation came.
    Explained(u64, WatcherId, Result<Vec<Step>, String>),
    /// A change made here was carried out.
    Made(u64, Made),
    /// Something about a live query that was asked.
    Asked(u32, QueryUpdate),
    /// A row of `gossip.tables` by its table's name, or that it is gone.
    Table(String, Option<Box<TableRow>>),
    /// A change is no longer repeated, and what came of it.
    Repeated(String),
    /// A row of `gossip.rules` by its number, or that it is gone.
    Rule(u64, Option<RuleRow>),
    /// All rows of `gossip.rules`, and no others.
    OnlyRules(Vec<RuleRow>),
    /// What other rules would have let these watchers hear; the question's number.
    Tried(u64, Vec<WatcherId>, Result<Answer, String>),
    /// The edited rules are kept, and where, or why not.
    RulesKept(Result<String, String>),
    /// Rows of a table, to make changes to.
    Looked(String, Look),
    /// An instance that was connected to streams these and no others.
    OnlyTables(Vec<String>),
    /// What a look at the database has found.
    Inspected(Result<Inspection, String>),
    /// Something that is to be shown before it is done.
    Proposed(Result<Proposal, String>),
    /// Which instances run.
    Running(Vec<bool>),
    /// One more instance runs.
    Added(Place),
    /// Something to say.
    Notice(String),
}

/// What is told of a live query that was asked.
#[derive(Clone, Debug)]
pub enum QueryUpdate {
    /// The result as it is now.
    Rows {
        /// Its columns.
        columns: Vec<ColumnInfo>,
        /// Its first rows, by their keys as JSON.
        rows: Vec<(String, Map<String, Json>)>,
        /// All its rows, in number.
        total: usize,
        /// Deltas so far.
        deltas: u64,
    },
    /// It was refused, or ended.
    Refused(Refused),
    /// Its connection was lost.
    Lost(String),
    /// What an instance makes of it.
    About(Result<About, String>),
}

/// Something to be done outside.
#[derive(Clone, Debug)]
pub enum Effect {
    /// Let a watcher listen.
    Listen {
        /// Its number.
        watcher: WatcherId,
        /// Who it is.
        persona: String,
        /// The persona's roles and claims.
        identity: Persona,
        /// The live query.
        query: String,
        /// Where.
        place: usize,
        /// Where its frames are noted.
        frames: Log,
    },
    /// End a watcher.
    Hush(WatcherId),
    /// Ask why.
    Explain {
        /// The line.
        line: u64,
        /// The watcher.
        watcher: WatcherId,
        /// Its subscription in its instance.
        subscription: u64,
        /// The transaction.
        at: At,
        /// The watcher's place.
        place: usize,
    },
    /// Run SQL many times, at a pace.
    Repeat {
        /// The SQL; `{n}` and `{random}` stand for numbers.
        sql: String,
        /// How often.
        times: u64,
        /// How many in a second.
        second: f64,
    },
    /// Save events as a recording.
    SaveRecording(String, Masks, Vec<Event>),
    /// Put a text into the terminal's clipboard.
    Copy(String),
    /// Write a page to files.
    Export(Box<Page>),
    /// Repeat it no longer.
    StopRepeating,
    /// Look at the rows of a table.
    LookAt(String),
    /// Run SQL on the database.
    Make(u64, String),
    /// Ask a live query.
    Ask {
        /// The number under which it is told of.
        id: u32,
        /// Who asks.
        persona: String,
        /// The persona's roles and claims.
        identity: Persona,
        /// The query.
        query: String,
        /// Its parameters.
        params: Map<String, Json>,
    },
    /// Ask it no longer.
    Unask(u32),
    /// Ask an instance what it makes of a query.
    Describe {
        /// The number under which it was asked.
        id: u32,
        /// Who asks it.
        identity: Persona,
        /// The query.
        query: String,
        /// Its parameters.
        params: Map<String, Json>,
    },
    /// Look at the database.
    Inspect,
    /// Find out what it takes to let a table stream, or no longer.
    PlanStream(String, bool),
    /// Do what was proposed.
    CarryOut(Proposal),
    /// Keep a rule in the configuration, and put all of them in force.
    Grant(RuleText, Vec<RuleText>),
    /// Ask an instance what other rules would have let be heard.
    Try {
        /// The question's number.
        number: u64,
        /// The instance.
        place: usize,
        /// Whom it is about, and the same as the instance knows them.
        watchers: Vec<WatcherId>,
        /// See `watchers`.
        asked: Vec<QuestionTarget>,
        /// All rules.
        rules: Vec<RuleText>,
    },
    /// Keep the rules of one role on one table in the configuration, and put all in force.
    KeepRules {
        /// The role.
        role: String,
        /// The table.
        table: TableName,
        /// The rules that are replaced.
        before: Vec<RuleText>,
        /// The text that replaces them.
        text: String,
        /// All rules from now on.
        all: Vec<RuleText>,
    },
    /// Keep the watchers in the configuration.
    KeepWatchers(Vec<Watcher>),
    /// Keep a query in the configuration.
    KeepQuery(String, String),
    /// Keep a persona in the configuration.
    KeepPersona(String, Persona),
    /// Do something to an instance.
    Instance(usize, InstanceAction),
    /// Let an instance of this name go, asked of one that can be reached.
    Drain(usize, String),
    /// Connect to one more instance.
    Reach(Place),
}

/// What can be done to an instance in this process.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum InstanceAction {
    /// End it as a crash would, or start it again.
    EndOrStart,
    /// Lose the next relay message on its way in.
    LoseNext,
    /// Cut it off from the relay, or fix that.
    CutOrMend,
    /// Let it go politely: its clients are told to come back elsewhere.
    Drain,
    /// Start one more.
    Add,
}
