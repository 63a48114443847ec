//! What the workbench does outside of itself: connections to instances, changes on the database, the instances of this
//! process. Everything reports by messages; nothing here draws or decides.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use gossip_client::live::Applied;
use gossip_client::{ClientError, Incoming, Live, Session};
use gossip_core::explain::Step;
use gossip_core::wire::{ChangeEntry, Notification};
use gossip_server::config::Persona;
use gossip_server::now;
use serde_json::{Map, Value as Json, json};
use tokio::sync::{mpsc, oneshot};
use tokio::task::JoinHandle;

use super::Access;
use super::message::{Effect, InstanceAction, Made, Message};
use super::state::{At, WatcherId};

/// Messages that may wait for the screen; whoever has more waits.
pub const CHANNEL: usize = 10_000;

/// Between two attempts to connect.
const AGAIN: Duration = Duration::from_millis(700);

/// A watcher's token is good for a day.
const TOKEN_SECONDS: i64 = 86_400;

type Messages = mpsc::Sender<Message>;

/// A question to the operator's connection of a place.
struct Question {
    subscription: u64,
    at: At,
    answer: oneshot::Sender<Result<Vec<Step>, String>>,
}

/// Everything that runs outside.
pub struct Tasks {
    access: Access,
    messages: Messages,
    /// Tells this workbench's watchers from those of others.
    prefix: String,
    watchers: HashMap<WatcherId, JoinHandle<()>>,
    questions: Vec<mpsc::Sender<Question>>,
    operators: Vec<JoinHandle<()>>,
}

impl Tasks {
    /// Connects to all places as an operator.
    pub fn start(access: Access, messages: Messages) -> Tasks {
        let prefix = format!("{:08x}", rand::random::<u32>());
        let mut questions = Vec::new();
        let mut operators = Vec::new();
        for (i, place) in access.places.iter().enumerate() {
            let (ask, asked) = mpsc::channel(64);
            questions.push(ask);
            operators.push(tokio::spawn(operate(
                i,
                place.url.clone(),
                access.operator.clone(),
                messages.clone(),
                asked,
            )));
        }
        Tasks { access, messages, prefix, watchers: HashMap::new(), questions, operators }
    }

    /// Does what was asked for, in the background.
    pub fn carry_out(&mut self, effect: Effect) {
        match effect {
            Effect::Listen { watcher, persona, identity, query, place } => {
                let Some(url) = self.access.places.get(place).map(|p| p.url.clone()) else { return };
                let label = format!("{}-{watcher}", self.prefix);
                let listener =
                    Listener { watcher, persona, identity, query, url, label, tokens: self.access.tokens.clone() };
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
                let (ask, messages) = (self.questions[place].clone(), self.messages.clone());
                tokio::spawn(async move {
                    let (answer, answered) = oneshot::channel();
                    let gone = || Err("its instance is not reachable".to_string());
                    let sent = ask.try_send(Question { subscription, at, answer }).is_ok();
                    let steps = match sent {
                        true => tokio::time::timeout(Duration::from_secs(5), answered)
                            .await
                            .map_or_else(|_| gone(), |answer| answer.unwrap_or_else(|_| gone())),
                        false => gone(),
                    };
                    let _ = messages.send(Message::Explained(line, watcher, steps)).await;
                });
            }
            Effect::Make(line, sql) => {
                let Some(source) = self.access.database.clone() else { return };
                let messages = self.messages.clone();
                tokio::task::spawn_blocking(move || {
                    let made = make(&source, &sql);
                    let _ = messages.blocking_send(Message::Made(line, made));
                });
            }
            Effect::KeepPersona(name, persona) => {
                let Some(path) = self.access.config.clone() else { return };
                if let Err(e) = keep_persona(&path, &name, &persona) {
                    let text = format!("{} is not kept: {e}", name);
                    let _ = self.messages.try_send(Message::Notice(text));
                }
            }
            Effect::Instance(i, action) => {
                let Some(cluster) = self.access.cluster.clone() else { return };
                let messages = self.messages.clone();
                tokio::spawn(async move {
                    let mut cluster = cluster.lock().await;
                    let Some(cluster) = cluster.as_mut() else { return };
                    let text = instance_action(cluster, i, action).await;
                    let running = (0..cluster.places().len()).map(|i| cluster.is_running(i)).collect();
                    let _ = messages.send(Message::Running(running)).await;
                    let _ = messages.send(Message::Notice(text)).await;
                });
            }
        }
    }

    /// Ends everything.
    pub fn stop(self) {
        self.watchers.into_values().chain(self.operators).for_each(|t| t.abort());
    }
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

/// Runs SQL as any other program would, and finds out whether it can be heard.
fn make(source: &gossip_source::sqlite::SqliteSource, sql: &str) -> Made {
    let touched: Arc<parking_lot::Mutex<std::collections::BTreeMap<String, u64>>> = Arc::default();
    let run = || -> Result<(i64, i64), String> {
        let mut db = source.connect().map_err(|e| e.to_string())?;
        db.busy_timeout(Duration::from_secs(5)).map_err(|e| e.to_string())?;
        let noted = touched.clone();
        let hook = move |_: rusqlite::hooks::Action, _: &str, table: &str, _: i64| {
            if !table.starts_with("gossip_") {
                *noted.lock().entry(table.to_string()).or_default() += 1;
            }
        };
        db.update_hook(Some(hook)).map_err(|e| e.to_string())?;
        let last = |db: &rusqlite::Connection| {
            db.query_row("SELECT max(seq) FROM gossip_log", [], |r| r.get::<_, i64>(0)).map_err(|e| e.to_string())
        };
        db.execute_batch("BEGIN IMMEDIATE").map_err(|e| e.to_string())?;
        let before = last(&db)?;
        db.execute_batch(sql).map_err(|e| e.to_string())?;
        let after = last(&db)?;
        // A COMMIT in the SQL itself has ended the transaction.
        if !db.is_autocommit() {
            db.execute_batch("COMMIT").map_err(|e| e.to_string())?;
        }
        Ok((before, after))
    };
    match run() {
        Err(e) => Made::Failed(e),
        Ok((before, after)) if after > before => Made::Logged(after.max(0) as u64),
        Ok(_) => {
            let touched = touched.lock();
            if touched.is_empty() {
                return Made::Nothing;
            }
            Made::Unheard(touched.keys().cloned().collect(), touched.values().sum())
        }
    }
}

fn keep_persona(path: &std::path::Path, name: &str, persona: &Persona) -> Result<(), String> {
    let text = std::fs::read_to_string(path).map_err(|e| e.to_string())?;
    let mut doc: toml_edit::DocumentMut = text.parse().map_err(|e: toml_edit::TomlError| e.to_string())?;
    let mut table = toml_edit::Table::new();
    table["roles"] = toml_edit::value(persona.roles.iter().collect::<toml_edit::Array>());
    if !persona.claims.is_empty() {
        let mut claims = toml_edit::InlineTable::new();
        for (k, v) in &persona.claims {
            claims.insert(k, to_toml(v).ok_or_else(|| format!("claim {k} cannot be written as TOML"))?);
        }
        table["claims"] = toml_edit::value(claims);
    }
    let personas = doc.entry("persona").or_insert_with(|| {
        let mut t = toml_edit::Table::new();
        t.set_implicit(true);
        toml_edit::Item::Table(t)
    });
    personas[name] = toml_edit::Item::Table(table);
    // Beside the file first: a crash must not leave half of it.
    let beside = path.with_extension("toml.new");
    std::fs::write(&beside, doc.to_string()).and_then(|()| std::fs::rename(&beside, path)).map_err(|e| e.to_string())
}

fn to_toml(v: &Json) -> Option<toml_edit::Value> {
    Some(match v {
        Json::Null => return None,
        Json::Bool(b) => (*b).into(),
        Json::Number(n) => n.as_i64().map(Into::into).or_else(|| n.as_f64().map(Into::into))?,
        Json::String(s) => s.as_str().into(),
        Json::Array(a) => a.iter().map(to_toml).collect::<Option<toml_edit::Array>>()?.into(),
        Json::Object(o) => {
            let mut t = toml_edit::InlineTable::new();
            for (k, v) in o {
                t.insert(k, to_toml(v)?);
            }
            t.into()
        }
    })
}

/// The operator's connection to one place: system tables in, questions out. Reconnects until it is aborted.
async fn operate(i: usize, url: String, token: String, messages: Messages, mut asked: mpsc::Receiver<Question>) {
    loop {
        let ended = match Session::connect(&url, Some(&token)).await {
            Ok(session) => operate_once(i, session, &messages, &mut asked).await,
            Err(e) => e,
        };
        if messages.send(Message::Place(i, now(), Err(ended.to_string()))).await.is_err() {
            return;
        }
        tokio::time::sleep(AGAIN).await;
    }
}

async fn operate_once(
    i: usize,
    mut session: Session,
    messages: &Messages,
    asked: &mut mpsc::Receiver<Question>,
) -> ClientError {
    let mut tables: HashMap<u64, &str> = HashMap::new();
    for table in ["instances", "changes", "verdicts"] {
        let query = format!("SELECT * FROM gossip.{table}");
        let answer = match session.subscribe(&query, &Map::new(), None).await {
            Ok(answer) => answer,
            Err(e) => return e,
        };
        tables.insert(answer.subscription, table);
        for entry in answer.rows {
            if messages.send(about(i, table, entry.row)).await.is_err() {
                return ClientError::Ended("the workbench is gone".into());
            }
        }
    }
    if messages.send(Message::Place(i, now(), Ok(()))).await.is_err() {
        return ClientError::Ended("the workbench is gone".into());
    }
    let mut waiting: HashMap<u64, oneshot::Sender<Result<Vec<Step>, String>>> = HashMap::new();
    loop {
        tokio::select! {
            next = session.next() => match next {
                Err(e) => return e,
                Ok((Incoming::Answer(id, answer), _)) => {
                    let steps = answer.map_err(|e| e.message).and_then(|a| {
                        serde_json::from_value(a["steps"].clone()).map_err(|e| e.to_string())
                    });
                    if let Some(to) = waiting.remove(&id) {
                        let _ = to.send(steps);
                    }
                }
                Ok((Incoming::Told(told), _)) => {
                    for m in understood(i, &tables, told) {
                        if messages.send(m).await.is_err() {
                            return ClientError::Ended("the workbench is gone".into());
                        }
                    }
                }
            },
            Some(q) = asked.recv() => {
                let params = json!({"position": q.at.to_string(), "subscription": q.subscription});
                match session.send("explain", params).await {
                    Ok(id) => drop(waiting.insert(id, q.answer)),
                    Err(e) => return e,
                }
            }
        }
    }
}

fn about(i: usize, table: &str, row: Map<String, Json>) -> Message {
    match table {
        "instances" => Message::Instance(i, row),
        "changes" => Message::Change(i, row),
        _ => Message::Verdict(row),
    }
}

fn understood(i: usize, tables: &HashMap<u64, &str>, told: Notification) -> Vec<Message> {
    match told {
        Notification::Delta { subscription, changes, .. } => {
            let Some(table) = tables.get(&subscription) else { return vec![] };
            let row = |c: ChangeEntry| match c {
                ChangeEntry::Add { row, .. } | ChangeEntry::Replace { row, .. } => Some(about(i, table, row)),
                ChangeEntry::Remove { .. } => None,
            };
            changes.into_iter().filter_map(row).collect()
        }
        Notification::Rows { subscription, rows, .. } | Notification::Snapshot { subscription, rows, .. } => {
            let Some(table) = tables.get(&subscription) else { return vec![] };
            rows.into_iter().map(|r| about(i, table, r.row)).collect()
        }
        _ => vec![],
    }
}

/// A watcher: a real client over a real socket.
struct Listener {
    watcher: WatcherId,
    persona: String,
    identity: Persona,
    query: String,
    url: String,
    label: String,
    tokens: Option<Arc<gossip_server::auth::Tokens>>,
}

impl Listener {
    async fn run(self, messages: Messages) {
        loop {
            let ended = match self.listen(&messages).await {
                ClientError::Refused(e) => {
                    let _ = messages.send(Message::Refused(self.watcher, e.message)).await;
                    return;
                }
                e => e.to_string(),
            };
            if messages.send(Message::WatcherLost(self.watcher, now(), ended)).await.is_err() {
                return;
            }
            tokio::time::sleep(AGAIN).await;
        }
    }

    fn token(&self) -> Option<String> {
        if self.identity.roles.is_empty() {
            return None;
        }
        let time = now() / 1_000_000;
        let tokens = self.tokens.as_ref()?;
        tokens.mint_for(&self.persona, &self.identity.roles, &self.identity.claims, time, TOKEN_SECONDS).ok()
    }

    async fn listen(&self, messages: &Messages) -> ClientError {
        let mut session = match Session::connect(&self.url, self.token().as_deref()).await {
            Ok(session) => session,
            Err(e) => return e,
        };
        let answer = match session.subscribe(&self.query, &Map::new(), Some(&self.label)).await {
            Ok(answer) => answer,
            Err(e) => return e,
        };
        let mut live = Live::new(answer);
        let mut tell = Message::Listening(self.watcher, now(), live.rows.len());
        loop {
            if messages.send(tell).await.is_err() {
                return ClientError::Ended("the workbench is gone".into());
            }
            tell = loop {
                let (told, text) = match session.next().await {
                    Ok((Incoming::Told(told), text)) => (told, text),
                    Ok(_) => continue,
                    Err(e) => return e,
                };
                let at = now();
                match live.apply(&told) {
                    Err(e) => return ClientError::NotUnderstood(e),
                    Ok(Applied::Closed(why)) => {
                        return ClientError::Refused(gossip_core::wire::RpcError::new(0, why));
                    }
                    Ok(Applied::Whole(why)) => break Message::Snapshot(self.watcher, why, live.rows.len()),
                    Ok(_) => {}
                }
                match told {
                    Notification::Delta { cursor, .. } => {
                        let rows = live.rows.len();
                        let frame = text.into();
                        break Message::Delta { watcher: self.watcher, at, cursor, frame, rows };
                    }
                    Notification::Current { position, .. } => break Message::Current(self.watcher, position),
                    _ => {}
                }
            };
        }
    }
}
