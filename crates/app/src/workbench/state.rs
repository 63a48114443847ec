//! The state of the workbench. Changed only by [`update`](super::update), drawn by
//! [`view`](super::view).

use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::sync::Arc;

use gossip_core::explain::Step;
use gossip_protocol::system::{AlarmRow, InstanceRow, VerdictRow};

use crate::personas::Persona;
use crate::recording::Event;
use crate::workbench::access::Access;
use crate::workbench::ids::{Timestamp, WatcherId};
use crate::workbench::input::Input;
use crate::workbench::line::{At, Line};
use crate::workbench::overlays::form::state::Form;
use crate::workbench::overlays::frames::state::{Log, Looking};
use crate::workbench::player::Player;
use crate::workbench::rail::View;
use crate::workbench::rates::Rates;
use crate::workbench::theme::Theme;
use crate::workbench::views::ask::state::Ask;
use crate::workbench::views::charts::state::Charts;
use crate::workbench::views::clients::state::{ClientId, Clients};
use crate::workbench::views::earshot::state::Sight;
use crate::workbench::views::earshot::sums::Sums;
use crate::workbench::views::relay::state::Relay;
use crate::workbench::views::rules::state::Rules;
use crate::workbench::views::tables::state::{Proposal, Tables};
use gossip_source::database::Look;

/// Most lines kept; the oldest are dropped.
pub const MAX_LINES: usize = 4_000;

/// Most cursors and early frames kept.
pub const MAX_REMEMBERED: usize = 20_000;

/// State of a connection.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Link {
    /// Not made yet.
    Connecting,
    /// Connected, since then.
    Up(Timestamp),
    /// Lost, since then, and why. Retried automatically.
    Down(Timestamp, String),
}

/// An instance as the workbench sees it.
#[derive(Clone, Debug)]
pub struct PlaceState {
    /// Its name.
    pub name: String,
    /// Where it listens.
    pub url: String,
    /// The operator's connection.
    pub link: Link,
    /// Its row of `gossip.instances`.
    pub info: InstanceRow,
}

impl PlaceState {
    /// Not connected yet.
    pub fn new(place: &crate::workbench::access::Place) -> PlaceState {
        let name = if place.name.is_empty() { &place.url } else { &place.name };
        PlaceState { name: name.clone(), url: place.url.clone(), link: Link::Connecting, info: InstanceRow::default() }
    }
}

/// A watcher.
#[derive(Clone, Debug)]
pub struct WatcherState {
    /// Its id.
    pub id: WatcherId,
    /// The persona's name.
    pub persona: String,
    /// The persona's first role, or `anyone`.
    pub role: String,
    /// Its live query.
    pub query: String,
    /// Index of its instance.
    pub place: usize,
    /// Its connection.
    pub link: Link,
    /// The error if its query was refused.
    pub refused: Option<String>,
    /// Its instance's position, as reported on its own connection.
    pub current: Option<At>,
    /// It was not listening before this position.
    pub listens_after: Option<At>,
    /// Its subscription's number in its instance, which verdicts refer to.
    pub subscription: Option<u64>,
    /// Rows of its result.
    pub rows: usize,
    /// Deltas since the start.
    pub heard: u64,
    /// The table that its query is about, as it is written there.
    pub table: String,
    /// Since when it listens, the first time.
    pub since: Option<Timestamp>,
    /// The newest event of a topic that arrived, by its instance's count.
    pub event_heard: Option<At>,
    /// Snapshots that replaced its result.
    pub snapshots: Vec<Shown>,
    /// The times during which it was not connected.
    pub absent: Vec<(Timestamp, Option<Timestamp>)>,
    /// Its newest frames.
    pub frames: Log,
}

/// A snapshot that replaced a watcher's result.
#[derive(Clone, Debug)]
pub struct Shown {
    /// When it arrived.
    pub at: Timestamp,
    /// After which position.
    pub after: Option<At>,
    /// Why.
    pub why: String,
}

/// What a click selects.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Click {
    /// A view.
    View(View),
    /// A line of Earshot.
    Line(u64),
    /// A watcher's column.
    Watcher(usize),
    /// A table.
    Table(usize),
    /// A table and a role in Rules.
    Rules(usize, usize),
    /// A client.
    Client(ClientId),
}

/// Something that somebody has to do something about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Alarm {
    /// What, in a few words.
    pub what: String,
    /// Why, and what to do.
    pub text: String,
}

/// An open explanation.
#[derive(Clone, Debug)]
pub struct Why {
    /// The line.
    pub line: u64,
    /// The watcher.
    pub watcher: WatcherId,
    /// The steps; `None` until they have arrived.
    pub steps: Option<Result<Vec<Step>, String>>,
}

/// The overlay on the view.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Overlay {
    /// Nothing.
    None,
    /// Keys and marks; the first line shown, if they do not all fit.
    Help(usize),
    /// What somebody has to do something about; the first one shown.
    Alarms(usize),
    /// A form.
    Form(Form),
    /// The instances; the selected one.
    Instances(usize),
    /// Raw frames.
    Frames(Looking),
    /// The personas to run a query as; the selected one.
    Who(usize),
    /// Why something was refused: what, and the steps.
    Refused(String, Vec<Step>),
    /// Kinds of lines to show; the selected one.
    Kinds(usize),
    /// The mark at which the flow is to stop; the selected one.
    StopAt(usize),
    /// A proposal to confirm.
    Proposal(Proposal),
    /// The palette: its text and the selected action.
    Palette(Input, usize),
    /// A line's journey.
    Journey {
        /// The line.
        line: u64,
        /// Whether the raw frame is shown.
        frame: bool,
    },
}

/// The whole state.
pub struct State {
    /// The title in the head line.
    pub title: String,
    /// The view.
    pub view: View,
    /// The state of Ask.
    pub ask: Ask,
    /// The state of Tables.
    pub tables: Tables,
    /// Rules.
    pub rules: Rules,
    /// Relay.
    pub relay: Relay,
    /// Clients.
    pub clients: Clients,
    /// Charts.
    pub charts: Charts,
    /// The instances.
    pub places: Vec<PlaceState>,
    /// The watchers, in the order of their columns.
    pub watchers: Vec<WatcherState>,
    /// The personas.
    pub personas: BTreeMap<String, Persona>,
    /// The persona created or edited last.
    pub newest_persona: Option<String>,
    /// Rows that the form for a change offers, by table.
    pub looks: BTreeMap<String, Look>,
    /// Whether a change is being repeated.
    pub repeating: bool,
    /// The lines, newest first.
    pub lines: VecDeque<Line>,
    /// Position → id of its line.
    pub by_position: HashMap<At, u64>,
    /// A delta's cursor → its line's position.
    pub by_cursor: HashMap<(WatcherId, String), At>,
    /// Deltas that arrived before their verdict, by cursor.
    pub early: HashMap<(WatcherId, String), (Timestamp, Arc<str>)>,
    /// Verdicts that arrived before their line.
    pub orphans: HashMap<At, Vec<VerdictRow>>,
    /// The line at the top while the flow is held.
    pub held: Option<u64>,
    /// The selected line; the newest if `None`.
    pub chosen: Option<u64>,
    /// The selected watcher's column.
    pub column: usize,
    /// Only lines with this text are shown.
    pub filter: String,
    /// Which lines are shown besides, and where the flow is to stop.
    pub sight: Sight,
    /// Lines summed by second and table.
    pub sums: Sums,
    /// An event's hash → its lines, the oldest first.
    pub by_identity: HashMap<String, VecDeque<u64>>,
    /// The overlay on the view.
    pub overlay: Overlay,
    /// The explanation that is open.
    pub why: Option<Why>,
    /// The last notice, and its time.
    pub notice: Option<(Timestamp, String)>,
    /// Rates for the head line.
    pub rates: Rates,
    /// What somebody has to do something about, as of the last tick.
    pub troubles: Vec<Alarm>,
    /// The rates shown in the head line.
    pub shown_rates: (f64, f64, Option<u64>),
    /// The time of the last tick.
    pub now: Timestamp,
    /// Clickable areas, as drawn last.
    pub places_on_screen: Vec<(ratatui::layout::Rect, Click)>,
    /// Lines that fit on the screen, as drawn last.
    pub page: usize,
    /// Colours.
    pub theme: Theme,
    /// Whether tokens can be minted here.
    pub can_mint: bool,
    /// Personas whose token was given.
    pub given: BTreeSet<String>,
    /// Whether the database can be reached from here.
    pub has_database: bool,
    /// Whether the configuration can be written from here.
    pub has_config: bool,
    /// Whether the instances run in this process.
    pub has_cluster: bool,
    /// Which of them run.
    pub running: Vec<bool>,
    /// Recent operator events, to save as a recording: what happened.
    pub kept: VecDeque<Event>,
    /// And how things stood.
    pub samples: VecDeque<Event>,
    /// And events of topics and presence, of which there may be very many.
    pub events: VecDeque<Event>,
    /// What needs an operator's attention, by instance, kind and what it is about.
    pub alarms: BTreeMap<(String, String, String), AlarmRow>,
    /// Steps of verdicts that were asked for.
    pub explained: HashMap<(At, WatcherId), Vec<Step>>,
    /// The recording that is shown.
    pub player: Option<Player>,
    /// Whether this is a recording, to which nothing is added.
    pub recorded: bool,
    /// Whether the user wants to leave.
    pub leaving: bool,
    next_line: u64,
    next_watcher: WatcherId,
}

impl State {
    /// The initial state.
    pub fn new(access: &Access, theme: Theme, now: Timestamp) -> State {
        State {
            title: access.title.clone(),
            view: if access.first_steps { View::Steps } else { View::default() },
            ask: Ask::new(access.personas.keys().take(3).cloned().collect(), access.queries.clone()),
            tables: Tables { rules: access.rules.clone(), ..Tables::default() },
            rules: Rules::default(),
            relay: Relay::default(),
            clients: Clients::default(),
            charts: Charts::default(),
            places: access.places.iter().map(PlaceState::new).collect(),
            watchers: Vec::new(),
            personas: access.personas.clone(),
            newest_persona: None,
            looks: BTreeMap::new(),
            repeating: false,
            lines: VecDeque::new(),
            by_position: HashMap::new(),
            by_cursor: HashMap::new(),
            early: HashMap::new(),
            orphans: HashMap::new(),
            held: None,
            chosen: None,
            column: 0,
            filter: String::new(),
            sight: Sight::default(),
            sums: Sums::default(),
            by_identity: HashMap::new(),
            overlay: Overlay::None,
            why: None,
            notice: None,
            rates: Rates::default(),
            troubles: Vec::new(),
            shown_rates: (0.0, 0.0, None),
            now,
            places_on_screen: Vec::new(),
            page: 20,
            theme,
            can_mint: access.tokens.is_some(),
            given: access.given.keys().cloned().collect(),
            has_database: access.database.is_some(),
            has_config: access.config.is_some(),
            has_cluster: access.cluster.is_some(),
            running: vec![true; access.places.len()],
            kept: VecDeque::new(),
            samples: VecDeque::new(),
            events: VecDeque::new(),
            alarms: BTreeMap::new(),
            explained: HashMap::new(),
            player: None,
            recorded: false,
            leaving: false,
            next_line: 1,
            next_watcher: 1,
        }
    }

    /// Index of the instance with a name; 0 if unknown.
    pub fn place_named(&self, name: &str) -> usize {
        self.places.iter().position(|p| p.name == name).unwrap_or(0)
    }

    /// A new line's id.
    pub fn line_id(&mut self) -> u64 {
        self.next_line += 1;
        self.next_line - 1
    }

    /// A new watcher's id.
    pub fn watcher_id(&mut self) -> WatcherId {
        self.next_watcher += 1;
        self.next_watcher - 1
    }

    /// The line with an id. Ids decrease from front to back, except for lines that arrived out of order.
    pub fn line(&self, id: u64) -> Option<&Line> {
        self.lines.iter().find(|l| l.id == id)
    }

    /// Mutable access to the same.
    pub fn line_mut(&mut self, id: u64) -> Option<&mut Line> {
        self.lines.iter_mut().find(|l| l.id == id)
    }

    /// A watcher.
    pub fn watcher(&self, id: WatcherId) -> Option<&WatcherState> {
        self.watchers.iter().find(|w| w.id == id)
    }

    /// Mutable access to the same.
    pub fn watcher_mut(&mut self, id: WatcherId) -> Option<&mut WatcherState> {
        self.watchers.iter_mut().find(|w| w.id == id)
    }

    /// The lines that the filter lets through, newest first.
    pub fn visible(&self) -> impl Iterator<Item = &Line> {
        let wanted = self.filter.to_lowercase();
        let seen = self.lines.iter().filter(|l| self.sight.shows(l));
        seen.filter(move |l| wanted.is_empty() || self.matches(l, &wanted))
    }

    /// Whether lines are shown in sums: there are too many of them, and nobody has asked for some of them.
    pub fn is_summed(&self) -> bool {
        self.sums.needed && self.held.is_none() && self.filter.is_empty() && self.sight.only.is_none()
    }

    fn matches(&self, line: &Line, wanted: &str) -> bool {
        let text = crate::workbench::words::whole(line).to_lowercase();
        let marks = || self.watchers.iter().any(|w| self.mark(line, w).word().contains(wanted));
        wanted.split_whitespace().all(|word| text.contains(word)) || marks()
    }

    /// The selected line.
    pub fn chosen_line(&self) -> Option<&Line> {
        let newest = || self.visible().next();
        match self.chosen {
            Some(id) => self.line(id).or_else(newest),
            None => newest(),
        }
    }

    /// Lines that are newer than the top one while the flow is held.
    pub fn newer(&self) -> usize {
        // A top line that is not shown any more holds nothing back.
        self.held.and_then(|top| self.visible().position(|l| l.id == top)).unwrap_or(0)
    }
}
