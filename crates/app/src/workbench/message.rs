//! Messages into the workbench's state, and effects out of it.

use std::sync::Arc;

use crossterm::event::{KeyEvent, MouseEvent};
use gossip_core::explain::Step;
use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;
use gossip_protocol::ColumnInfo;
use gossip_protocol::call::QuestionTarget;
use gossip_protocol::system::{
    AlarmRow, ChangesRow, ClientRow, ConnectionRow, EventRow, FrameRow, InstanceRow, LinkRow, RuleRow, TableRow,
    TrafficRow, VerdictRow,
};
use gossip_source::database::{Look, Made};
use serde_json::{Map, Value as Json};

use crate::incident::rehearsal::Question;
use crate::personas::{Persona, Watcher};
use crate::recording::{Event, Masks};
use crate::workbench::access::Place;
use crate::workbench::ids::{Timestamp, WatcherId};
use crate::workbench::line::At;
use crate::workbench::overlays::frames::state::Log;
use crate::workbench::page::{Page, Report};
use crate::workbench::views::ask::state::{About, Refused};
use crate::workbench::views::clients::state::ClientId;
use crate::workbench::views::rules::state::Answer;
use crate::workbench::views::tables::state::{Inspection, Proposal};

/// An input.
#[derive(Clone, Debug)]
pub enum Message {
    /// A key was pressed.
    Key(KeyEvent),
    /// A mouse event.
    Mouse(MouseEvent),
    /// The window was resized.
    Resized,
    /// A tick of the clock.
    Tick(Timestamp),
    /// An operator's connection was made, or lost with a reason.
    Place(usize, Timestamp, Result<(), String>),
    /// A row of `gossip.instances`.
    Instance(usize, Box<InstanceRow>),
    /// A row of `gossip.instances` about another instance, or its removal.
    Member(usize, String, Option<Box<InstanceRow>>),
    /// A row of `gossip.links` by its instance, or its removal.
    RelayLink(String, Option<Box<LinkRow>>),
    /// A row of `gossip.traffic`.
    Passing(usize, TrafficRow),
    /// A row of `gossip.clients` by its instance and number, or its removal.
    Client(usize, u64, Option<Box<ClientRow>>),
    /// A snapshot of an instance's `gossip.clients`.
    OnlyClients(usize, Vec<ClientRow>),
    /// A row of `gossip.alarms` by instance, kind and what it is about, or its removal.
    Alarm(usize, (String, String, String), Option<Box<AlarmRow>>),
    /// A row of `gossip.connections`.
    Came(usize, Box<ConnectionRow>),
    /// A row of `gossip.frames`, of the client that is followed.
    ClientFrame(usize, Box<FrameRow>),
    /// A row of `gossip.changes`.
    Change(usize, Box<ChangesRow>),
    /// A row of `gossip.events`.
    Event(usize, Box<EventRow>),
    /// A row of `gossip.verdicts`.
    Verdict(Box<VerdictRow>),
    /// A watcher's subscription has its snapshot.
    Listening(WatcherId, Timestamp, usize),
    /// A watcher's connection was lost.
    WatcherLost(WatcherId, Timestamp, String),
    /// A watcher's query was refused.
    Refused(WatcherId, String),
    /// A delta arrived at a watcher.
    Delta {
        /// The watcher.
        watcher: WatcherId,
        /// When it arrived.
        at: Timestamp,
        /// Its cursor.
        cursor: String,
        /// The frame.
        frame: Arc<str>,
        /// Rows of the result after it.
        rows: usize,
    },
    /// A watcher's result was replaced.
    Snapshot(WatcherId, String, usize),
    /// A watcher's instance reported its position.
    Current(WatcherId, String),
    /// An explanation arrived.
    Explained(u64, WatcherId, Result<Vec<Step>, String>),
    /// An event was refused: whose, of which topic, and why, step by step.
    NotPublished(String, String, Vec<Step>),
    /// A change made here was carried out.
    Made(u64, Made),
    /// An update about a running query.
    Asked(u32, QueryUpdate),
    /// A row of `gossip.tables` by its table's name, or its removal.
    Table(String, Option<Box<TableRow>>),
    /// Repeating a change has ended, with a summary.
    Repeated(String),
    /// A row of `gossip.rules` by its number, or its removal.
    Rule(u64, Option<RuleRow>),
    /// A snapshot of `gossip.rules`.
    OnlyRules(Vec<RuleRow>),
    /// The answer to a what-if: its number, the watchers, and what they would have heard.
    Tried(u64, Vec<WatcherId>, Result<Answer, String>),
    /// The edited rules were saved, and where; or why not.
    RulesKept(Result<String, String>),
    /// Rows of a table, to offer in the form for a change.
    Looked(String, Look),
    /// A snapshot of `gossip.tables`: the streaming tables.
    OnlyTables(Vec<String>),
    /// The result of inspecting the database.
    Inspected(Result<Inspection, String>),
    /// A proposal to review.
    Proposed(Result<Proposal, String>),
    /// Which instances run.
    Running(Vec<bool>),
    /// One more instance is running.
    Added(Place),
    /// A notice for the foot line.
    Notice(String),
}

/// An update about a running query.
#[derive(Clone, Debug)]
pub enum QueryUpdate {
    /// The current result.
    Rows {
        /// Its columns.
        columns: Vec<ColumnInfo>,
        /// Its first rows, with their keys as JSON.
        rows: Vec<(String, Map<String, Json>)>,
        /// Number of all its rows.
        total: usize,
        /// Deltas so far.
        deltas: u64,
    },
    /// It was refused, or ended.
    Refused(Refused),
    /// Its connection was lost.
    Lost(String),
    /// The instance's description of its plan.
    About(Result<About, String>),
    /// Why it is refused: which rules there are, and what they lack.
    WhyNot(Vec<Step>),
}

/// I/O that the state asks for.
#[derive(Clone, Debug)]
pub enum Effect {
    /// Start a watcher.
    Listen {
        /// Its id.
        watcher: WatcherId,
        /// Its persona.
        persona: String,
        /// The persona's roles and claims.
        identity: Persona,
        /// The live query.
        query: String,
        /// The instance.
        place: usize,
        /// The log for its frames.
        frames: Log,
    },
    /// Stop a watcher.
    Hush(WatcherId),
    /// Ask an instance to explain.
    Explain {
        /// The line.
        line: u64,
        /// The watcher.
        watcher: WatcherId,
        /// Its subscription's number in its instance.
        subscription: u64,
        /// The transaction.
        at: At,
        /// The watcher's instance.
        place: usize,
    },
    /// Publish an event as somebody.
    Publish {
        /// The persona.
        persona: String,
        /// Its roles and claims.
        identity: Persona,
        /// The topic.
        topic: String,
        /// The event's data.
        data: Json,
        /// The instance.
        place: usize,
    },
    /// Try a broker, and write it to the configuration if it answers.
    TryBroker {
        /// Its address.
        url: String,
        /// What all names on it begin with.
        prefix: String,
    },
    /// Hold a recording against other rules.
    Rehearse {
        /// The what-if's number.
        number: u64,
        /// The watchers that it is about.
        watchers: Vec<WatcherId>,
        /// The question.
        question: Box<Question>,
    },
    /// Ask an instance why somebody's query is refused.
    WhyRefused {
        /// The line.
        line: u64,
        /// The watcher.
        watcher: WatcherId,
        /// Its persona's roles and claims.
        identity: Persona,
        /// The query.
        query: String,
        /// The watcher's instance.
        place: usize,
    },
    /// Run SQL many times, at a pace.
    Repeat {
        /// The SQL; `{n}` and `{random}` stand for numbers.
        sql: String,
        /// How often.
        times: u64,
        /// Rate per second.
        second: f64,
    },
    /// Save events as a recording.
    SaveRecording(String, Masks, Vec<Event>),
    /// Put a text into the terminal's clipboard.
    Copy(String),
    /// Export a page.
    Export(Box<Page>),
    /// Write a report.
    WriteReport(Box<Report>),
    /// Stop repeating.
    StopRepeating,
    /// Read rows of a table.
    LookAt(String),
    /// Run SQL on the database.
    Make(u64, String),
    /// Run a live query.
    Ask {
        /// The id for its updates.
        id: u32,
        /// The persona.
        persona: String,
        /// The persona's roles and claims.
        identity: Persona,
        /// The query.
        query: String,
        /// Its parameters.
        params: Map<String, Json>,
    },
    /// Stop a running query.
    Unask(u32),
    /// Follow who is connected, or no more.
    FollowClients(bool),
    /// Follow the frames of this client instead of another's.
    FollowFrames(Option<ClientId>),
    /// Hold what is written to a client.
    HoldClient {
        /// Its instance.
        place: usize,
        /// Its number there.
        client: u64,
        /// For how long, in milliseconds; 0: no longer.
        ms: u64,
    },
    /// Ask an instance to describe a query's plan.
    Describe {
        /// The running query's id.
        id: u32,
        /// The persona's roles and claims.
        identity: Persona,
        /// The query.
        query: String,
        /// Its parameters.
        params: Map<String, Json>,
    },
    /// Inspect the database.
    Inspect,
    /// Plan starting or stopping to stream a table.
    PlanStream(String, bool),
    /// Carry out a proposal.
    CarryOut(Proposal),
    /// Save a rule to the configuration, and put it in force.
    Grant(RuleText),
    /// Ask an instance a what-if: what other rules would have delivered.
    Try {
        /// Number of the question.
        number: u64,
        /// The instance.
        place: usize,
        /// The watchers it is about.
        watchers: Vec<WatcherId>,
        /// The same watchers as the instance knows them.
        asked: Vec<QuestionTarget>,
        /// All rules.
        rules: Vec<RuleText>,
    },
    /// Save the rules of one role on one table to the configuration, and put them in force.
    KeepRules {
        /// The role.
        role: String,
        /// The table.
        table: TableName,
        /// The rules that are replaced.
        before: Vec<RuleText>,
        /// The text that replaces them.
        text: String,
        /// The rules that it has.
        new: Vec<RuleText>,
    },
    /// Save the watchers to the configuration.
    KeepWatchers(Vec<Watcher>),
    /// Save a query to the configuration.
    KeepQuery(String, String),
    /// Save a persona to the configuration.
    KeepPersona(String, Persona),
    /// Act on an instance of this process.
    Instance(usize, InstanceAction),
    /// Drain the instance of this name, through one that is connected.
    Drain(usize, String),
    /// Connect to one more instance.
    Reach(Place),
}

/// Actions on an instance of this process.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum InstanceAction {
    /// Stop it as a crash would, or start it again.
    EndOrStart,
    /// Drop the next incoming relay message.
    LoseNext,
    /// Cut it off from the relay, or reconnect it.
    CutOrMend,
    /// Drain it: its clients are sent to the other instances.
    Drain,
    /// Start one more instance.
    Add,
}
