//! The operator's connections: system tables in, questions out.

use std::collections::HashMap;

use gossip_client::{ClientError, Incoming, Session};
use gossip_core::wire::{ChangeEntry, Notification};
use gossip_server::now;
use serde_json::{Map, Value as Json};
use tokio::sync::{mpsc, oneshot};

use super::{AGAIN, Messages};
use crate::workbench::message::Message;

/// A question to the operator's connection of a place.
pub struct Question {
    /// The call.
    pub call: &'static str,
    /// Its params.
    pub params: Json,
    /// Where the answer goes.
    pub answer: oneshot::Sender<Result<Json, String>>,
}

/// The operator's connection to one place: system tables in, questions out. Reconnects until it is aborted.
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
    for table in ["instances", "links", "tables", "rules", "changes", "verdicts", "traffic"] {
        let query = format!("SELECT * FROM gossip.{table}");
        let answer = match session.subscribe(&query, &Map::new(), None).await {
            Ok(answer) => answer,
            Err(e) => return e,
        };
        tables.insert(answer.subscription, table);
        if table == "tables" {
            let name = |e: &gossip_core::wire::RowEntry| e.row.get("name").and_then(Json::as_str).map(String::from);
            let names = answer.rows.iter().filter_map(name).collect();
            if messages.send(Message::OnlyTables(names)).await.is_err() {
                return ClientError::Ended("the workbench is gone".into());
            }
        }
        if table == "rules" {
            let rule = |e: gossip_core::wire::RowEntry| Some((number(&e.row)?, e.row));
            let rules = answer.rows.into_iter().filter_map(rule).collect();
            if messages.send(Message::OnlyRules(rules)).await.is_err() {
                return ClientError::Ended("the workbench is gone".into());
            }
            continue;
        }
        for entry in answer.rows {
            if messages.send(about(i, table, entry.row)).await.is_err() {
                return ClientError::Ended("the workbench is gone".into());
            }
        }
    }
    if messages.send(Message::Place(i, now(), Ok(()))).await.is_err() {
        return ClientError::Ended("the workbench is gone".into());
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
                Ok((Incoming::Told(told), _)) => {
                    for m in understood(i, &tables, told) {
                        if messages.send(m).await.is_err() {
                            return ClientError::Ended("the workbench is gone".into());
                        }
                    }
                }
            },
            Some(q) = asked.recv() => {
                // Those who have given up need no answer.
                waiting.retain(|_, to| !to.is_closed());
                match session.send(q.call, q.params).await {
                    Ok(id) => drop(waiting.insert(id, q.answer)),
                    Err(e) => return e,
                }
            }
        }
    }
}

fn about(i: usize, table: &str, row: Map<String, Json>) -> Message {
    match table {
        "instances" if row.get("here") == Some(&Json::Bool(true)) => Message::Instance(i, row),
        "instances" => Message::Member(i, name(&row, "name"), Some(row)),
        "links" => Message::RelayLink(name(&row, "instance"), Some(row)),
        "traffic" => Message::Passing(i, row),
        "tables" => {
            let name = row.get("name").and_then(Json::as_str).unwrap_or("").to_string();
            Message::Table(name, Some(row))
        }
        "rules" => Message::Rule(number(&row).unwrap_or(0), Some(row)),
        "changes" => Message::Change(i, row),
        _ => Message::Verdict(row),
    }
}

fn name(row: &Map<String, Json>, column: &str) -> String {
    row.get(column).and_then(Json::as_str).unwrap_or("").to_string()
}

fn number(rule: &Map<String, Json>) -> Option<i64> {
    rule.get("number")?.as_i64()
}

fn understood(i: usize, tables: &HashMap<u64, &str>, told: Notification) -> Vec<Message> {
    match told {
        Notification::Delta { subscription, changes, .. } => {
            let Some(table) = tables.get(&subscription) else { return vec![] };
            let row = |c: ChangeEntry| match c {
                ChangeEntry::Add { row, .. } | ChangeEntry::Replace { row, .. } => Some(about(i, table, row)),
                ChangeEntry::Remove { key } if *table == "tables" => {
                    Some(Message::Table(key[0].as_str().unwrap_or("").to_string(), None))
                }
                ChangeEntry::Remove { key } if *table == "rules" => Some(Message::Rule(key[0].as_i64()?, None)),
                ChangeEntry::Remove { key } if *table == "instances" => {
                    Some(Message::Member(i, key[0].as_str().unwrap_or("").to_string(), None))
                }
                ChangeEntry::Remove { key } if *table == "links" => {
                    Some(Message::RelayLink(key[0].as_str().unwrap_or("").to_string(), None))
                }
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
