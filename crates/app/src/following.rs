//! Follows an instance's system tables as events, one row each: for a recording, and for charts.

use std::collections::{HashMap, VecDeque};
use std::time::Duration;

use gossip_client::{Incoming, Session};
use gossip_protocol::call::QuestionTarget;
use gossip_protocol::system::{self, SystemRow, VerdictRow};
use gossip_protocol::{Call, ChangeEntry, Notification, RpcError, call};
use gossip_server::now;
use serde_json::{Map, Value as Json, json};
use tokio::sync::oneshot;

use crate::outcome::Failure;
use crate::recording::{EXPLANATIONS, Event, TABLES};

/// Time between two questions for the steps of a verdict: an instance has other things to do.
const ASK_EVERY: Duration = Duration::from_millis(40);

/// Questions that wait for their turn, the newest, and for their answer.
const MAX_WANTED: usize = 2_000;
const MAX_ASKED: usize = 16;

/// Makes events of rows: knows which instance says what.
#[derive(Default)]
struct Events {
    instance: String,
}

impl Events {
    fn of(&mut self, table: &'static str, row: Map<String, Json>) -> Event {
        let text = |name: &str| row.get(name).and_then(Json::as_str).map(String::from);
        if table == "instances" && row.get("here") == Some(&Json::Bool(true)) {
            self.instance = text("name").unwrap_or_default();
        }
        // Of others an instance tells how they stand, and how their way to the relay does.
        let other = match table {
            "instances" => text("name"),
            "links" => text("instance"),
            _ => None,
        };
        Event { instance: other.unwrap_or_else(|| self.instance.clone()), table, at: now(), row }
    }
}

/// Follows the tables of a recording until `over`, or for so long. `ready` is told once all of them are followed.
///
/// # Errors
/// The connection ends, or `note` fails.
pub async fn follow(
    session: &mut Session,
    longest: Option<Duration>,
    over: impl Future<Output = ()>,
    ready: oneshot::Sender<()>,
    mut note: impl FnMut(Event) -> Result<(), Failure>,
) -> Result<(), Failure> {
    let mut events = Events::default();
    let mut why = Why::new();
    let mut tables: HashMap<u64, &'static str> = HashMap::new();
    for table in TABLES {
        let answer = session.subscribe(&format!("SELECT * FROM gossip.{table}")).await?;
        tables.insert(answer.subscription, table);
        // Streams start with retained events, so there may be events from before the start.
        for entry in answer.rows {
            why.wanted(table, &entry.row);
            note(events.of(table, entry.row))?;
        }
    }
    let _ = ready.send(());
    let until = tokio::time::sleep(longest.unwrap_or(Duration::from_secs(u64::from(u32::MAX))));
    tokio::pin!(until);
    tokio::pin!(over);
    loop {
        why.ask(session).await?;
        let told = tokio::select! {
            next = session.next() => next?.0,
            () = why.next(), if !why.due => continue,
            () = &mut until => return Ok(()),
            () = &mut over => return Ok(()),
        };
        match told {
            Incoming::Answer(id, answer) => {
                if let Some(row) = why.answered(id, answer) {
                    note(events.of(EXPLANATIONS, row))?;
                }
            }
            Incoming::Notification(Notification::Delta { subscription, changes, .. }) => {
                let Some(table) = tables.get(&subscription) else { continue };
                for change in changes {
                    match change {
                        ChangeEntry::Add { row, .. } | ChangeEntry::Replace { row, .. } => {
                            why.wanted(table, &row);
                            note(events.of(table, row))?;
                        }
                        ChangeEntry::Remove { key, .. } => note(events.of(table, gone(table, &key)))?,
                    }
                }
            }
            Incoming::Notification(
                Notification::Rows { subscription, rows, .. } | Notification::Snapshot { subscription, rows, .. },
            ) => {
                let Some(table) = tables.get(&subscription) else { continue };
                rows.into_iter().try_for_each(|r| note(events.of(table, r.row)))?;
            }
            Incoming::Notification(_) => {}
        }
    }
}

/// A row that is there no more: its key, and that.
fn gone(table: &str, key: &Json) -> Map<String, Json> {
    let shape = system::TABLES.iter().find(|shape| shape.name == table);
    let columns = shape.map(|shape| &shape.columns[..shape.key]).unwrap_or_default();
    let values = key.as_array().map(Vec::as_slice).unwrap_or_default();
    let named = columns.iter().zip(values).map(|((name, _), value)| (name.to_string(), value.clone()));
    named.chain([("gone".to_string(), Json::Bool(true))]).collect()
}

/// Verdicts whose steps are asked for, because a recording has no instance that could be asked later.
struct Why {
    wanted: VecDeque<(String, String, u64)>,
    asked: HashMap<u64, (String, String)>,
    pace: tokio::time::Interval,
    due: bool,
}

impl Why {
    fn new() -> Why {
        let mut pace = tokio::time::interval(ASK_EVERY);
        pace.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        Why { wanted: VecDeque::new(), asked: HashMap::new(), pace, due: true }
    }

    /// A verdict that somebody may ask the reason of.
    fn wanted(&mut self, table: &str, row: &Map<String, Json>) {
        let Some(row) = Some(row).filter(|_| table == "verdicts").and_then(|row| VerdictRow::read(row).ok()) else {
            return;
        };
        if !matches!(row.verdict.as_str(), "withheld" | "outside" | "unchanged") {
            return;
        }
        if self.wanted.len() >= MAX_WANTED {
            self.wanted.pop_front();
        }
        self.wanted.push_back((row.position, row.label, row.subscription));
    }

    /// Waits until it is time for another question.
    async fn next(&mut self) {
        self.pace.tick().await;
        self.due = true;
    }

    async fn ask(&mut self, session: &mut Session) -> Result<(), Failure> {
        if !self.due || self.asked.len() >= MAX_ASKED {
            return Ok(());
        }
        // The newest first: the instance forgets what is old.
        let Some((position, label, subscription)) = self.wanted.pop_back() else { return Ok(()) };
        self.due = false;
        let whom = QuestionTarget::Subscription { subscription };
        let call = call::Explain { instance: None, position: Some(position.clone()), whom };
        let id = session.send(&Call::Explain(Box::new(call))).await?;
        self.asked.insert(id, (position, label));
        Ok(())
    }

    /// The row of an event, if an answer has the steps that were asked for.
    fn answered(&mut self, id: u64, answer: Result<Json, RpcError>) -> Option<Map<String, Json>> {
        let (position, label) = self.asked.remove(&id)?;
        let steps = answer.ok()?.get_mut("steps")?.take();
        json!({"position": position, "label": label, "steps": steps}).as_object().cloned()
    }
}
