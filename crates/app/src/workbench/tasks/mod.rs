//! What the workbench does outside of itself: connections to instances, changes on the database, the instances of this
//! process. Everything reports by messages; nothing here draws or decides.

mod again;
mod database;
mod keeping;
mod listening;
mod operating;

use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use gossip_core::explain::Step;
use gossip_core::rule::RuleText;
use gossip_protocol::Call;
use gossip_protocol::call::{Explain, TriedRule, WhatIf, Whom};
use gossip_server::config::Persona;
use gossip_server::instance::conditions;
use gossip_source::Source;
use parking_lot::Mutex;
use serde_json::Value as Json;
use tokio::sync::{mpsc, oneshot};
use tokio::task::JoinHandle;

use crate::local::Cluster;
use crate::recording;
use crate::workbench::access::{Access, Place};
use crate::workbench::ids::WatcherId;
use crate::workbench::message::{Effect, InstanceAction, Message, Told};
use crate::workbench::tasks::again::Messages;
use crate::workbench::tasks::listening::{Asker, Identity, Listener};
use crate::workbench::tasks::operating::{Question, operate};
use crate::workbench::views::ask::state::About;
use crate::workbench::views::tables::state::{Inspection, Proposal, Proposed};

/// Messages that may wait for the screen; whoever has more waits.
pub const CHANNEL: usize = 10_000;

/// Longest wait for an operator's answer.
const PATIENCE: Duration = Duration::from_secs(5);

/// Everything that runs outside.
pub struct Tasks {
    access: Access,
    messages: Messages,
    /// Tells this workbench's watchers from those of others.
    prefix: String,
    watchers: HashMap<WatcherId, JoinHandle<()>>,
    askers: HashMap<u32, JoinHandle<()>>,
    questions: Vec<mpsc::Sender<Question>>,
    operators: Vec<JoinHandle<()>>,
    /// The database with the tables that stream at present.
    database: Arc<Mutex<Option<Arc<dyn Source>>>>,
    /// Ends the repeated change.
    stopped: Arc<AtomicBool>,
}

impl Tasks {
    /// Connects to all places as an operator.
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

    /// Does what was asked for, in the background.
    pub fn carry_out(&mut self, effect: Effect) {
        match effect {
            Effect::Listen { watcher, persona, identity, query, place, frames } => {
                let Some(url) = self.access.places.get(place).map(|p| p.url.clone()) else { return };
                let label = format!("{}-{watcher}", self.prefix);
                let who = self.identity(persona, identity);
                let listener = Listener { watcher, who, query, url, label, frames };
                let task = tokio::spawn(listener.run(self.messages.clone()));
                if let Some(old) = self.watchers.insert(watcher, task) {
                    old.abort();
                }
            }
            Effect::Hush(watcher) => {
                if let Some(task) = self.watchers.remove(&watcher) {
                    task.abort();
                }
            }
            Effect::Explain { line, watcher, subscription, at, place } => {
                let whom = Whom::Subscription { subscription };
                let call = Explain { instance: None, position: Some(at.to_string()), whom };
                let (answer, messages) = (self.ask(place, Call::Explain(Box::new(call))), self.messages.clone());
                tokio::spawn(async move {
                    let steps = answer.await.and_then(|a| {
                        serde_json::from_value::<Vec<Step>>(a["steps"].clone()).map_err(|e| e.to_string())
                    });
                    let _ = messages.send(Message::Explained(line, watcher, steps)).await;
                });
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
            Effect::Describe { id, identity, query, params } => {
                let roles = Some(identity.roles).filter(|roles| !roles.is_empty());
                let whom = Whom::Anybody { query, claims: identity.claims, roles, params };
                let call = Explain { instance: None, position: None, whom };
                let (answer, messages) = (self.ask(0, Call::Explain(Box::new(call))), self.messages.clone());
                tokio::spawn(async move {
                    let about = answer.await.map(|a| About {
                        query: a["query"].as_str().unwrap_or("").into(),
                        feed: a["feed"]["id"].as_u64().zip(a["feed"]["subscriptions"].as_u64()),
                        cost_ns: a["cost_ns"].as_u64(),
                    });
                    let _ = messages.send(Message::Asked(id, Told::About(about))).await;
                });
            }
            Effect::Inspect => {
                let rules = self.access.rules.clone();
                self.in_database(move |source, messages| {
                    let _ = messages.blocking_send(Message::Inspected(inspect(&*source, &rules)));
                });
            }
            Effect::PlanStream(table, on) => self.in_database(move |source, messages| {
                let proposal = database::plan_stream(&*source, &table, on);
                let _ = messages.blocking_send(Message::Proposed(proposal));
            }),
            Effect::CarryOut(proposal) => self.carry_out_proposal(proposal),
            Effect::Grant(rule, all) => {
                let (Some(path), Some(cluster)) = (self.access.config.clone(), self.access.cluster.clone()) else {
                    return;
                };
                let messages = self.messages.clone();
                tokio::spawn(async move {
                    let text = match keeping::keep_rule(&path, &rule) {
                        Ok(()) => format!("{} may read {}", rule.role, rule.table),
                        Err(e) => format!(
                            "{} may read {} until the end, but the rule is not kept: {e}",
                            rule.role, rule.table
                        ),
                    };
                    if let Some(cluster) = cluster.lock().await.as_mut() {
                        cluster.set_rules(all).await;
                    }
                    let _ = messages.send(Message::Notice(text)).await;
                });
            }
            Effect::Try { number, place, watchers, asked, rules } => {
                let rule = |r: RuleText| TriedRule {
                    may: Some(r.may.words().map(String::from).collect()),
                    role: r.role,
                    table: r.table.to_string(),
                    rows: r.rows,
                    columns: r.columns,
                    masks: r.masks,
                };
                let call = WhatIf { instance: None, rules: rules.into_iter().map(rule).collect(), asked };
                let (answer, messages) = (self.ask(place, Call::WhatIf(call)), self.messages.clone());
                tokio::spawn(async move {
                    let answer = answer.await.and_then(|a| serde_json::from_value(a).map_err(|e| e.to_string()));
                    let _ = messages.send(Message::Tried(number, watchers, answer)).await;
                });
            }
            Effect::KeepRules { role, table, before, text, all } => {
                let (config, cluster) = (self.access.config.clone(), self.access.cluster.clone());
                let messages = self.messages.clone();
                tokio::spawn(async move {
                    let kept = match &config {
                        Some(path) => keeping::keep_rules(path, &role, &table, &before, &text)
                            .map(|()| format!("kept in {}", path.display())),
                        None => keeping::hand_out_rules(&role, &table, &text),
                    };
                    if kept.is_ok()
                        && let Some(cluster) = &cluster
                        && let Some(cluster) = cluster.lock().await.as_mut()
                    {
                        cluster.set_rules(all).await;
                    }
                    let _ = messages.send(Message::RulesKept(kept)).await;
                });
            }
            Effect::KeepWatchers(watchers) => {
                let Some(path) = self.access.config.clone() else { return };
                if let Err(e) = keeping::keep_watchers(&path, &watchers) {
                    let _ = self.messages.try_send(Message::Notice(format!("the watchers are not kept: {e}")));
                }
            }
            Effect::KeepQuery(name, sql) => {
                let Some(path) = self.access.config.clone() else { return };
                let text = match keeping::keep_query(&path, &name, &sql) {
                    Ok(()) => {
                        format!("kept as query.{name} in {}; instances know it from their next start", path.display())
                    }
                    Err(e) => format!("query.{name} is not kept: {e}"),
                };
                let _ = self.messages.try_send(Message::Notice(text));
            }
            Effect::Repeat { sql, times, second } => {
                self.stopped = Arc::default();
                let stopped = self.stopped.clone();
                self.in_database(move |source, messages| {
                    let text = database::repeat(&*source, &sql, times, second, &stopped);
                    let _ = messages.blocking_send(Message::Repeated(text));
                });
            }
            Effect::StopRepeating => self.stopped.store(true, Ordering::Relaxed),
            // The screen's own: it is done where the terminal is.
            Effect::Copy(_) => {}
            Effect::SaveRecording(file, masks, events) => {
                let messages = self.messages.clone();
                tokio::task::spawn_blocking(move || {
                    let n = events.len();
                    let text = match recording::write(std::path::Path::new(&file), masks, events) {
                        Ok(()) => format!("recorded: {n} events in {file}"),
                        Err(e) => format!("not recorded: {e}"),
                    };
                    let _ = messages.blocking_send(Message::Notice(text));
                });
            }
            Effect::Export(page) => {
                let messages = self.messages.clone();
                tokio::task::spawn_blocking(move || {
                    let text = match keeping::write_page(std::path::Path::new("."), &page) {
                        Ok(name) => format!("written: {name}.svg, .pdf and .txt"),
                        Err(e) => format!("not written: {e}"),
                    };
                    let _ = messages.blocking_send(Message::Notice(text));
                });
            }
            Effect::LookAt(table) => self.in_database(move |source, messages| {
                let look = source.database().look_at(&table).unwrap_or_default();
                let _ = messages.blocking_send(Message::Looked(table, look));
            }),
            Effect::Make(line, sql) => self.in_database(move |source, messages| {
                let made = source.database().make(&sql);
                let _ = messages.blocking_send(Message::Made(line, made));
            }),
            Effect::KeepPersona(name, persona) => {
                let Some(path) = self.access.config.clone() else { return };
                if let Err(e) = keeping::keep_persona(&path, &name, &persona) {
                    let text = format!("{} is not kept: {e}", name);
                    let _ = self.messages.try_send(Message::Notice(text));
                }
            }
            Effect::Reach(place) => {
                self.reach(&place);
                self.access.places.push(place);
            }
            Effect::Drain(through, name) => {
                let (answer, messages) =
                    (self.ask(through, Call::Drain { instance: Some(name.clone()) }), self.messages.clone());
                tokio::spawn(async move {
                    let text = match answer.await {
                        Ok(_) => format!("{name} goes: its clients are told to come back elsewhere"),
                        Err(why) => format!("{name} cannot be drained: {why}"),
                    };
                    let _ = messages.send(Message::Notice(text)).await;
                });
            }
            Effect::Instance(i, action) => {
                let Some(cluster) = self.access.cluster.clone() else { return };
                let messages = self.messages.clone();
                tokio::spawn(async move {
                    let mut cluster = cluster.lock().await;
                    let Some(cluster) = cluster.as_mut() else { return };
                    let text = match action {
                        InstanceAction::Add => match cluster.add().await {
                            Ok((name, address)) => {
                                let text = format!("{name} runs as well, at {address}");
                                let place = Place { name, url: address.to_string() };
                                let _ = messages.send(Message::Added(place)).await;
                                text
                            }
                            Err(why) => format!("no instance could be added: {why}"),
                        },
                        action => instance_action(cluster, i, action).await,
                    };
                    let running = (0..cluster.places().len()).map(|i| cluster.is_running(i)).collect();
                    let _ = messages.send(Message::Running(running)).await;
                    let _ = messages.send(Message::Notice(text)).await;
                });
            }
        }
    }

    fn identity(&self, persona: String, identity: Persona) -> Identity {
        let given = self.access.given.get(&persona).cloned();
        Identity { persona, identity, tokens: self.access.tokens.clone(), given }
    }

    /// Does something with the database on a thread of its own.
    fn in_database(&self, work: impl FnOnce(Arc<dyn Source>, Messages) + Send + 'static) {
        if let Some(source) = self.database.lock().clone() {
            let messages = self.messages.clone();
            tokio::task::spawn_blocking(move || work(source, messages));
        }
    }

    /// Asks a place's instance something that only operators may ask.
    fn ask(&self, place: usize, call: Call) -> impl Future<Output = Result<Json, String>> + Send + 'static {
        let question = self.questions.get(place).cloned();
        async move {
            let (answer, answered) = oneshot::channel();
            let gone = || Err("its instance is not reachable".to_string());
            match question {
                Some(ask) if ask.try_send(Question { call, answer }).is_ok() => {
                    match tokio::time::timeout(PATIENCE, answered).await {
                        Ok(Ok(answer)) => answer,
                        _ => gone(),
                    }
                }
                _ => gone(),
            }
        }
    }

    /// Does what was shown before: on the database first, then in the configuration, then in the instances here.
    fn carry_out_proposal(&mut self, proposal: Proposal) {
        let Some(source) = self.database.lock().clone() else { return };
        let (messages, config, cluster) =
            (self.messages.clone(), self.access.config.clone(), self.access.cluster.clone());
        let rules = self.access.rules.clone();
        let Proposed::Stream(table, on) = proposal.what.clone() else {
            return self.in_database(move |source, messages| {
                let text = match source.carry_out(&proposal.sql) {
                    Ok(()) => "done".to_string(),
                    Err(e) => format!("not done: {e}"),
                };
                let _ = messages.blocking_send(Message::Notice(text));
                let _ = messages.blocking_send(Message::Inspected(inspect(&*source, &rules)));
            });
        };
        let database = self.database.clone();
        tokio::spawn(async move {
            let changed = database::with(&*source, &table, on);
            let done = switch(&source, &changed, &table, on, proposal.sql, config, cluster).await;
            if done.is_ok() {
                *database.lock() = Some(changed);
            }
            let word = if on { "streams" } else { "streams no longer" };
            let text = done.map_or_else(|e| format!("{table}: not done: {e}"), |()| format!("{table} {word}"));
            let _ = messages.send(Message::Notice(text)).await;
            let now = database.lock().clone().unwrap_or(source);
            let found = tokio::task::spawn_blocking(move || inspect(&*now, &rules)).await;
            let _ = messages.send(Message::Inspected(found.unwrap_or_else(|e| Err(e.to_string())))).await;
        });
    }

    /// Ends everything.
    pub fn stop(self) {
        self.stopped.store(true, Ordering::Relaxed);
        self.watchers.into_values().chain(self.askers.into_values()).chain(self.operators).for_each(|t| t.abort());
    }
}

/// Looks at the database, and at what the rules need of it.
fn inspect(source: &dyn Source, rules: &[RuleText]) -> Result<Inspection, String> {
    let conditions = conditions(rules, &BTreeMap::new(), source).map_err(|e| e.to_string())?;
    database::inspect(source, &conditions)
}

/// Lets a table stream, or no longer: in the database, in the configuration and in the instances of this process.
async fn switch(
    source: &Arc<dyn Source>,
    changed: &Arc<dyn Source>,
    table: &str,
    on: bool,
    sql: Vec<String>,
    config: Option<PathBuf>,
    cluster: Option<Arc<tokio::sync::Mutex<Option<Cluster>>>>,
) -> Result<(), String> {
    let in_database = async |sql: Vec<String>| {
        let source = source.clone();
        let done = tokio::task::spawn_blocking(move || source.carry_out(&sql).map_err(|e| e.to_string())).await;
        done.unwrap_or_else(|e| Err(e.to_string()))
    };
    if on {
        in_database(sql.clone()).await?;
    }
    if let Some(path) = config {
        keeping::keep_stream(&path, source.name(), table, on)?;
    }
    if let Some(cluster) = cluster
        && let Some(cluster) = cluster.lock().await.as_mut()
    {
        cluster.set_source(changed.clone()).await.map_err(|e| e.to_string())?;
    }
    // Last: an instance that still follows the table puts its triggers back, and one that does not may take them away.
    if on { Ok(()) } else { in_database(sql).await }
}

async fn instance_action(cluster: &mut crate::local::Cluster, i: usize, action: InstanceAction) -> String {
    use std::sync::atomic::Ordering::Relaxed;
    let name = cluster.places().get(i).map(|(name, _)| name.clone()).unwrap_or_default();
    match action {
        InstanceAction::EndOrStart if cluster.is_running(i) => {
            cluster.kill(i);
            format!("{name} has been ended, as by a crash")
        }
        InstanceAction::EndOrStart => match cluster.start_one(i).await {
            Ok(()) => format!("{name} runs again"),
            Err(e) => format!("{name} does not start: {e}"),
        },
        InstanceAction::Drain => {
            cluster.drain(i).await;
            format!("{name} has been drained: its clients were told to come back elsewhere")
        }
        InstanceAction::Add => String::new(),
        InstanceAction::LoseNext => {
            cluster.faults(i).drop_next.fetch_add(1, Relaxed);
            format!("the next change on its way to {name} will be lost")
        }
        InstanceAction::CutOrMend => {
            let cut = !cluster.faults(i).cut.fetch_xor(true, Relaxed);
            format!("{name} is {} the relay", if cut { "cut off from" } else { "back on" })
        }
    }
}
