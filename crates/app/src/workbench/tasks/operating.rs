//! The operator's connections: system tables in, calls out.

use std::collections::HashMap;

use gossip_client::{ClientError, Incoming, Session};
use gossip_protocol::system::{
    AlarmRow, ChangesRow, ConnectionRow, EventRow, InstanceRow, LinkRow, RuleRow, SystemRow, TableRow, TrafficRow,
    VerdictRow,
};
use gossip_protocol::{Call, ChangeEntry, Notification, RowEntry};
use gossip_server::now;
use serde_json::{Map, Value as Json};
use tokio::sync::{mpsc, oneshot};

use crate::workbench::message::Message;
use crate::workbench::tasks::again::{AGAIN, Messages};

/// The system tables that the workbench follows all the time.
const TABLES: [&str; 10] =
    ["instances", "links", "alarms", "tables", "rules", "changes", "events", "verdicts", "traffic", "connections"];

/// A call for the operator's connection to an instance.
pub struct Question {
    /// The call.
    pub call: Call,
    /// Where the answer goes.
    pub answer: oneshot::Sender<Result<Json, String>>,
}

/// The operator's connection to one instance: system tables in, calls out. Reconnects until aborted.
pub async fn operate(i: usize, url: String, token: String, messages: Messages, mut asked: mpsc::Receiver<Question>) {
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
    for table in TABLES {
        let query = format!("SELECT * FROM gossip.{table}");
        let answer = match session.subscribe(&query).await {
            Ok(answer) => answer,
            Err(e) => return e,
        };
        tables.insert(answer.subscription, table);
        if table == "tables" {
            let name = |e: &RowEntry| TableRow::read(&e.row).ok().map(|row| row.name);
            let names = answer.rows.iter().filter_map(name).collect();
            if messages.send(Message::OnlyTables(names)).await.is_err() {
                return ClientError::Ended("the workbench has closed".into());
            }
        }
        if table == "rules" {
            let rules = answer.rows.iter().filter_map(|e| RuleRow::read(&e.row).ok()).collect();
            if messages.send(Message::OnlyRules(rules)).await.is_err() {
                return ClientError::Ended("the workbench has closed".into());
            }
            continue;
        }
        for entry in answer.rows {
            if messages.send(about(i, table, &entry.row)).await.is_err() {
                return ClientError::Ended("the workbench has closed".into());
            }
        }
    }
    if messages.send(Message::Place(i, now(), Ok(()))).await.is_err() {
        return ClientError::Ended("the workbench has closed".into());
    }
    let mut waiting: HashMap<u64, oneshot::Sender<Result<Json, String>>> = HashMap::new();
    loop {
        tokio::select! {
            next = session.next() => match next {
                Err(e) => return e,
                Ok((Incoming::Answer(id, answer), _)) => {
                    if let Some(to) = waiting.remove(&id) {
                        let _ = to.send(answer.map_err(|e| e.message));
                    }
                }
                Ok((Incoming::Notification(told), _)) => {
                    for m in understood(i, &tables, told) {
                        if messages.send(m).await.is_err() {
                            return ClientError::Ended("the workbench has closed".into());
                        }
                    }
                }
            },
            Some(q) = asked.recv() => {
                // Drop calls whose caller has given up.
                waiting.retain(|_, to| !to.is_closed());
                match session.send(&q.call).await {
                    Ok(id) => drop(waiting.insert(id, q.answer)),
                    Err(e) => return e,
                }
            }
        }
    }
}

/// The message for a row of a system table. Rows with another release's columns are reported as a notice.
fn about(i: usize, table: &str, row: &Map<String, Json>) -> Message {
    let told = match table {
        "instances" => InstanceRow::read(row).map(|row| match row.here {
            true => Message::Instance(i, Box::new(row)),
            false => Message::Member(i, row.name.clone(), Some(Box::new(row))),
        }),
        "links" => LinkRow::read(row).map(|row| Message::RelayLink(row.instance.clone(), Some(Box::new(row)))),
        "traffic" => TrafficRow::read(row).map(|row| Message::Passing(i, row)),
        "tables" => TableRow::read(row).map(|row| Message::Table(row.name.clone(), Some(Box::new(row)))),
        "rules" => RuleRow::read(row).map(|row| Message::Rule(row.number, Some(row))),
        "alarms" => AlarmRow::read(row).map(|row| {
            Message::Alarm(i, (row.instance.clone(), row.kind.clone(), row.about.clone()), Some(Box::new(row)))
        }),
        "connections" => ConnectionRow::read(row).map(|row| Message::Came(i, Box::new(row))),
        "events" => EventRow::read(row).map(|row| Message::Event(i, Box::new(row))),
        "changes" => ChangesRow::read(row).map(|row| Message::Change(i, Box::new(row))),
        _ => VerdictRow::read(row).map(|row| Message::Verdict(Box::new(row))),
    };
    let unread = |column| Message::Notice(format!("gossip.{table}: {column} is not as this release knows it"));
    told.unwrap_or_else(unread)
}

fn understood(i: usize, tables: &HashMap<u64, &str>, told: Notification) -> Vec<Message> {
    match told {
        Notification::Delta { subscription, changes, .. } => {
            let Some(table) = tables.get(&subscription) else { return vec![] };
            let row = |c: ChangeEntry| match c {
                ChangeEntry::Add { row, .. } | ChangeEntry::Replace { row, .. } => Some(about(i, table, &row)),
                ChangeEntry::Remove { key, .. } if *table == "tables" => {
                    Some(Message::Table(key[0].as_str().unwrap_or("").to_string(), None))
                }
                ChangeEntry::Remove { key, .. } if *table == "rules" => Some(Message::Rule(key[0].as_u64()?, None)),
                ChangeEntry::Remove { key, .. } if *table == "instances" => {
                    Some(Message::Member(i, key[0].as_str().unwrap_or("").to_string(), None))
                }
                ChangeEntry::Remove { key, .. } if *table == "alarms" => {
                    let part = |i: usize| key[i].as_str().unwrap_or("").to_string();
                    Some(Message::Alarm(i, (part(0), part(1), part(2)), None))
                }
                ChangeEntry::Remove { key, .. } if *table == "links" => {
                    Some(Message::RelayLink(key[0].as_str().unwrap_or("").to_string(), None))
                }
                ChangeEntry::Remove { .. } => None,
            };
            changes.into_iter().filter_map(row).collect()
        }
        Notification::Rows { subscription, rows, .. } | Notification::Snapshot { subscription, rows, .. } => {
            let Some(table) = tables.get(&subscription) else { return vec![] };
            rows.iter().map(|r| about(i, table, &r.row)).collect()
        }
        _ => vec![],
    }
}
