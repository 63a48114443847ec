//! The workbench's I/O: connections to instances, changes to the database, the instances of this
//! process. Everything reports by messages; nothing here draws or decides.

mod again;
mod brokers;
mod calls;
mod clients;
mod database;
mod instances;
mod listening;
mod operating;
mod publishing;
mod rules;
mod saving;
mod streaming;

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use gossip_core::rule::RuleText;
use gossip_server::instance::conditions;
use gossip_source::Source;
use parking_lot::Mutex;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

use crate::incident::rehearsal;
use crate::personas::Persona;
use crate::recording;
use crate::workbench::access::{Access, Place};
use crate::workbench::ids::WatcherId;
use crate::workbench::message::{Effect, Message};
use crate::workbench::overlays::frames::state::Log;
use crate::workbench::tasks::again::Messages;
use crate::workbench::tasks::listening::{Asker, Identity, Listener};
use crate::workbench::tasks::operating::{Question, operate};
use crate::workbench::views::tables::state::Inspection;

/// Most messages waiting for the screen; senders of more wait.
pub const CHANNEL: usize = 10_000;

/// All running tasks.
pub struct Tasks {
    access: Access,
    messages: Messages,
    /// Prefix of the labels of this workbench's watchers.
    prefix: String,
    watchers: HashMap<WatcherId, JoinHandle<()>>,
    askers: HashMap<u32, JoinHandle<()>>,
    questions: Vec<mpsc::Sender<Question>>,
    operators: Vec<JoinHandle<()>>,
    /// Follow who is connected to each instance.
    following: Vec<JoinHandle<()>>,
    /// Follows the frames of one client.
    frames: Option<JoinHandle<()>>,
    /// The database with the tables that currently stream.
    database: Arc<Mutex<Option<Arc<dyn Source>>>>,
    /// Stops the repeated change.
    stopped: Arc<AtomicBool>,
}

impl Tasks {
    /// Connects to all instances as an operator.
    pub fn start(access: Access, messages: Messages) -> Tasks {
        let prefix = format!("{:08x}", rand::random::<u32>());
        let places = access.places.clone();
        let mut tasks = Tasks {
            database: Arc::new(Mutex::new(access.database.clone())),
            access,
            messages,
            prefix,
            watchers: HashMap::new(),
            askers: HashMap::new(),
            questions: Vec::new(),
            operators: Vec::new(),
            following: Vec::new(),
            frames: None,
            stopped: Arc::default(),
        };
        places.iter().for_each(|place| tasks.reach(place));
        tasks
    }

    fn reach(&mut self, place: &Place) {
        let (ask, asked) = mpsc::channel(64);
        let (i, url) = (self.questions.len(), place.url.clone());
        self.questions.push(ask);
        let operator = self.access.operator.clone();
        self.operators.push(tokio::spawn(operate(i, url, operator, self.messages.clone(), asked)));
    }

    /// Carries out an effect, in the background.
    #[expect(clippy::too_many_lines, reason = "one arm per effect")]
    pub fn carry_out(&mut self, effect: Effect) {
        match effect {
            Effect::Listen { watcher, persona, identity, query, place, frames } => {
                let who = self.identity(persona, identity);
                self.listen(watcher, who, query, place, frames);
            }
            Effect::Hush(watcher) => {
                if let Some(task) = self.watchers.remove(&watcher) {
                    task.abort();
                }
            }
            Effect::Explain { line, watcher, subscription, at, place } => {
                self.explain(place, subscription, at, move |steps| Message::Explained(line, watcher, steps));
            }
            Effect::WhyRefused { line, watcher, identity, query, place } => {
                self.why_refused(place, identity, query, move |steps| Message::Explained(line, watcher, steps));
            }
            Effect::Ask { id, persona, identity, query, params } => {
                let Some(place) = self.access.places.first() else { return };
                let who = self.identity(persona, identity);
                let asker = Asker { id, who, query, params, url: place.url.clone() };
                self.askers.insert(id, tokio::spawn(asker.run(self.messages.clone())));
            }
            Effect::Unask(id) => {
                if let Some(task) = self.askers.remove(&id) {
                    task.abort();
                }
            }
            Effect::FollowClients(on) => self.follow_clients(on),
            Effect::FollowFrames(whose) => self.follow_frames(whose),
            Effect::HoldClient { place, client, ms } => self.hold_client(place, client, ms),
            Effect::Describe { id, identity, query, params } => self.describe(id, identity, query, params),
            Effect::Inspect => {
                let rules = self.access.rules.clone();
                self.in_database(move |source| Message::Inspected(inspect(source, &rules)));
            }
            Effect::PlanStream(table, on) => {
                self.in_database(move |source| Message::Proposed(database::plan_stream(source, &table, on)));
            }
            Effect::CarryOut(proposal) => self.carry_out_proposal(proposal),
            Effect::Grant(rule) => self.grant(rule),
            Effect::Try { number, place, watchers, asked, rules } => {
                self.try_rules(place, asked, rules, move |answer| Message::Tried(number, watchers, answer));
            }
            Effect::Publish { persona, identity, topic, data, place } => {
                let who = self.identity(persona, identity);
                self.publish(place, who, topic, data);
            }
            Effect::TryBroker { url, prefix } => self.try_broker(url, prefix),
            Effect::Rehearse { number, watchers, question } => self.blocking(move || {
                let answer = serde_json::from_value(rehearsal::answer(&question)).map_err(|e| e.to_string());
                Message::Tried(number, watchers, answer)
            }),
            Effect::KeepRules { role, table, before, text, new } => self.save_rules((role, table), before, text, new),
            Effect::KeepWatchers(watchers) => {
                self.keep("the watchers are", |path| saving::save_watchers(path, &watchers));
            }
            Effect::KeepQuery(name, sql) => {
                let what = format!("query.{name} is");
                if let Some(path) = self.keep(&what, |path| saving::save_query(path, &name, &sql)) {
                    let where_to = format!("{}; instances know it from their next start", path.display());
                    self.notice(format!("saved as query.{name} in {where_to}"));
                }
            }
            Effect::KeepPersona(name, persona) => {
                self.keep(&format!("{name} is"), |path| saving::save_persona(path, &name, &persona));
            }
            Effect::Repeat { sql, times, second } => {
                self.stopped = Arc::default();
                let stopped = self.stopped.clone();
                self.in_database(move |source| {
                    Message::Repeated(database::repeat(source, &sql, times, second, &stopped))
                });
            }
            Effect::StopRepeating => self.stopped.store(true, Ordering::Relaxed),
            // Done by the loop that owns the terminal.
            Effect::Copy(_) => {}
            Effect::SaveRecording(file, masks, events) => self.blocking(move || {
                let n = events.len();
                Message::Notice(match recording::write(Path::new(&file), masks, events) {
                    Ok(()) => format!("recorded: {n} events in {file}"),
                    Err(e) => format!("not recorded: {e}"),
                })
            }),
            Effect::Export(page) => self.blocking(move || {
                Message::Notice(match saving::write_page(Path::new("."), &page) {
                    Ok(name) => format!("written: {name}.svg, .pdf and .txt"),
                    Err(e) => format!("not written: {e}"),
                })
            }),
            Effect::WriteReport(report) => self.blocking(move || {
                Message::Notice(match saving::write_report(Path::new("."), &report) {
                    Ok(name) => format!("written: {name}.pdf and .txt"),
                    Err(e) => format!("not written: {e}"),
                })
            }),
            Effect::LookAt(table) => self.in_database(move |source| {
                let look = source.database().look_at(&table).unwrap_or_default();
                Message::Looked(table, look)
            }),
            Effect::Make(line, sql) => {
                self.in_database(move |source| Message::Made(line, source.database().make(&sql)));
            }
            Effect::Reach(place) => {
                self.reach(&place);
                self.access.places.push(place);
            }
            Effect::Drain(through, name) => self.drain(through, name),
            Effect::Instance(i, action) => self.instance(i, action),
        }
    }

    fn listen(&mut self, watcher: WatcherId, who: Identity, query: String, place: usize, frames: Log) {
        let Some(url) = self.access.places.get(place).map(|p| p.url.clone()) else { return };
        let label = format!("{}-{watcher}", self.prefix);
        let listener = Listener { watcher, who, query, url, label, frames };
        let task = tokio::spawn(listener.run(self.messages.clone()));
        if let Some(old) = self.watchers.insert(watcher, task) {
            old.abort();
        }
    }

    /// Changes the configuration, if there is one, and returns its path. A failure is reported: `what` was not saved.
    fn keep(&self, what: &str, change: impl FnOnce(&Path) -> Result<(), String>) -> Option<PathBuf> {
        let path = self.access.config.clone()?;
        let kept = change(&path);
        if let Err(e) = &kept {
            self.notice(format!("{what} not saved: {e}"));
        }
        kept.is_ok().then_some(path)
    }

    /// Shows a notice in the foot line.
    fn notice(&self, text: String) {
        let _ = self.messages.try_send(Message::Notice(text));
    }

    fn identity(&self, persona: String, identity: Persona) -> Identity {
        let given = self.access.given.get(&persona).cloned();
        Identity { persona, identity, tokens: self.access.tokens.clone(), given }
    }

    /// Runs blocking work on its own thread, and reports its result.
    fn blocking(&self, work: impl FnOnce() -> Message + Send + 'static) {
        let messages = self.messages.clone();
        tokio::task::spawn_blocking(move || {
            let _ = messages.blocking_send(work());
        });
    }

    /// Runs blocking work on the database on its own thread, and reports its result.
    fn in_database(&self, work: impl FnOnce(&dyn Source) -> Message + Send + 'static) {
        if let Some(source) = self.database.lock().clone() {
            self.blocking(move || work(&*source));
        }
    }

    /// Stops all tasks.
    pub fn stop(self) {
        self.stopped.store(true, Ordering::Relaxed);
        let clients = self.following.into_iter().chain(self.frames);
        let all = self.watchers.into_values().chain(self.askers.into_values()).chain(self.operators).chain(clients);
        all.for_each(|t| t.abort());
    }
}

/// Inspects the database, with the needs of the rules.
fn inspect(source: &dyn Source, rules: &[RuleText]) -> Result<Inspection, String> {
    let conditions = conditions(rules, &BTreeMap::new(), source).map_err(|e| e.to_string())?;
    database::inspect(source, &conditions)
}
