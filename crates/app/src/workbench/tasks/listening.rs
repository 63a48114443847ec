//! Real clients: watchers and running queries.

use std::sync::Arc;
use std::time::Duration;

use gossip_client::result_set::{Applied, JsonRow};
use gossip_client::{ClientError, Incoming, ResultSet, Session};
use gossip_protocol::call::Subscribe;
use gossip_protocol::{Notification, RpcError, Shape, code};
use gossip_server::auth::Tokens;
use gossip_server::now;
use serde_json::{Map, Value as Json};
use tokio::time::Instant;

use crate::personas::Persona;
use crate::workbench::ids::WatcherId;
use crate::workbench::message::{Message, QueryUpdate};
use crate::workbench::overlays::frames::state::Log;
use crate::workbench::tasks::again::{AGAIN, Messages};
use crate::workbench::views::ask::state::{Refused, SHOWN};

/// Validity of a client's token, in seconds.
const TOKEN_SECONDS: i64 = 86_400;

/// Shortest time between two updates of a result.
const PICTURE: Duration = Duration::from_millis(40);

/// Time after which a watcher whose query was refused asks again: at first, and at most. Each time a table may be read.
const REFUSED_AGAIN: [Duration; 2] = [Duration::from_secs(5), Duration::from_secs(60)];

/// Results up to this many rows are sorted by key.
const ORDERED: usize = 5_000;

/// A client's identity.
#[derive(Clone)]
pub struct Identity {
    /// The persona's name.
    pub persona: String,
    /// Its roles and claims.
    pub identity: Persona,
    /// Mints its token.
    pub tokens: Option<Arc<Tokens>>,
    /// Its token, if one was given.
    pub given: Option<String>,
}

impl Identity {
    pub(super) fn token(&self) -> Option<String> {
        if self.given.is_some() {
            return self.given.clone();
        }
        if self.identity.roles.is_empty() {
            return None;
        }
        let time = now() / 1_000_000;
        let tokens = self.tokens.as_ref()?;
        tokens.mint_for(&self.persona, &self.identity.roles, &self.identity.claims, time, TOKEN_SECONDS).ok()
    }
}

/// A watcher: a real client over a real socket.
pub struct Listener {
    /// Its id.
    pub watcher: WatcherId,
    /// Its identity.
    pub who: Identity,
    /// Its live query.
    pub query: String,
    /// The instance's URL.
    pub url: String,
    /// Its label for operators.
    pub label: String,
    /// The log for its frames.
    pub frames: Log,
}

impl Listener {
    /// Listens until aborted; reconnects when its connection is lost, and asks again where it is refused: rules change.
    pub async fn run(self, messages: Messages) {
        let [first, most] = REFUSED_AGAIN;
        let mut refused_again = first;
        loop {
            let (told, pause) = match self.listen(&messages).await {
                ClientError::Refused(e) if e.code != code::UNAVAILABLE => {
                    let pause = refused_again;
                    refused_again = (2 * pause).min(most);
                    (Message::Refused(self.watcher, e.message), pause)
                }
                e => (Message::WatcherLost(self.watcher, now(), e.to_string()), AGAIN),
            };
            if messages.send(told).await.is_err() {
                return;
            }
            tokio::time::sleep(pause).await;
        }
    }

    async fn listen(&self, messages: &Messages) -> ClientError {
        let mut session = match Session::connect(&self.url, self.who.token().as_deref()).await {
            Ok(session) => session,
            Err(e) => return e,
        };
        let frames = self.frames.clone();
        session.tap(Box::new(move |direction, text| frames.note(now(), direction, text)));
        let answer = match session
            .subscribe(Subscribe { observed: Some(self.label.clone()), ..Subscribe::from(&self.query) })
            .await
        {
            Ok(answer) => answer,
            Err(e) => return e,
        };
        let mut live = ResultSet::new(answer);
        let mut tell = Message::Listening(self.watcher, now(), live.rows.len());
        loop {
            if messages.send(tell).await.is_err() {
                return ClientError::Ended("the workbench has closed".into());
            }
            tell = loop {
                let (told, text) = match session.next().await {
                    Ok((Incoming::Notification(told), text)) => (told, text),
                    Ok(_) => continue,
                    Err(e) => return e,
                };
                let at = now();
                match live.apply(&told) {
                    Err(e) => return ClientError::NotUnderstood(e),
                    Ok(Applied::Closed(why)) => {
                        return ClientError::Refused(RpcError::new(0, why));
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
                    Notification::Current { position: Some(position), .. } => {
                        break Message::Current(self.watcher, position);
                    }
                    _ => {}
                }
            };
        }
    }
}

/// A running query of Ask.
pub struct Asker {
    /// The id for its updates.
    pub id: u32,
    /// The identity.
    pub who: Identity,
    /// The query.
    pub query: String,
    /// Its parameters.
    pub params: Map<String, Json>,
    /// The instance's URL.
    pub url: String,
}

impl Asker {
    /// Runs until aborted or refused.
    pub async fn run(self, messages: Messages) {
        loop {
            let told = match self.ask(&messages).await {
                ClientError::Refused(e) if e.code != code::UNAVAILABLE => QueryUpdate::Refused(refused(e)),
                e => QueryUpdate::Lost(e.to_string()),
            };
            let over = matches!(told, QueryUpdate::Refused(_));
            if messages.send(Message::Asked(self.id, told)).await.is_err() || over {
                return;
            }
            tokio::time::sleep(AGAIN).await;
        }
    }

    async fn ask(&self, messages: &Messages) -> ClientError {
        let mut session = match Session::connect(&self.url, self.who.token().as_deref()).await {
            Ok(session) => session,
            Err(e) => return e,
        };
        let mut live =
            match session.subscribe(Subscribe { params: self.params.clone(), ..Subscribe::from(&self.query) }).await {
                Ok(answer) => ResultSet::new(answer),
                Err(e) => return e,
            };
        let mut deltas = 0;
        // However fast deltas arrive, send an update at most every so often, and always the last one.
        let mut due = Some(Instant::now());
        loop {
            let picture = async {
                match due {
                    Some(due) => tokio::time::sleep_until(due).await,
                    None => std::future::pending().await,
                }
            };
            tokio::select! {
                () = picture => {
                    due = None;
                    if messages.send(Message::Asked(self.id, picture_of(&live, deltas))).await.is_err() {
                        return ClientError::Ended("the workbench has closed".into());
                    }
                }
                next = session.next() => match next {
                    Err(e) => return e,
                    Ok((Incoming::Answer(..), _)) => {}
                    Ok((Incoming::Notification(told), _)) => match live.apply(&told) {
                        Err(e) => return ClientError::NotUnderstood(e),
                        Ok(Applied::NotMine) => {}
                        Ok(Applied::Closed(why)) => return ClientError::Refused(RpcError::new(0, why)),
                        Ok(Applied::Changed | Applied::Whole(_)) => {
                            deltas += u64::from(matches!(told, Notification::Delta { .. }));
                            if !live.unfinished {
                                due.get_or_insert(Instant::now() + PICTURE);
                            }
                        }
                    },
                },
            }
        }
    }
}

fn refused(e: RpcError) -> Refused {
    let number = |name: &str| e.data.as_ref().and_then(|d| d[name].as_u64()).map(|n| n as usize);
    Refused { place: number("line").zip(number("column")), text: e.message }
}

fn picture_of(live: &ResultSet, deltas: u64) -> QueryUpdate {
    let parsed = |key: &str| serde_json::from_str::<Json>(key).unwrap_or_default();
    let of_key = live.rows.iter().map(|(key, row)| (key.clone(), row.clone()));
    let rows: Vec<(String, JsonRow)> = if live.shape == Shape::Ordered {
        let in_order = live.order.iter().filter_map(|key| Some((key.clone(), live.rows.get(key)?.clone())));
        in_order.take(SHOWN).collect()
    } else if live.rows.len() > ORDERED {
        of_key.take(SHOWN).collect()
    } else {
        let mut rows: Vec<_> = of_key.map(|(key, row)| (parsed(&key), key, row)).collect();
        rows.sort_by(|a, b| in_order(&a.0, &b.0));
        rows.into_iter().take(SHOWN).map(|(_, key, row)| (key, row)).collect()
    };
    // A result without keys only gains rows; show the newest.
    let numbered = |(i, row): (usize, &JsonRow)| ((live.gone + i as u64).to_string(), row.clone());
    let stream = live.stream.iter().enumerate().rev().take(SHOWN).map(numbered);
    let rows: Vec<_> = rows.into_iter().chain(stream).collect();
    let total = live.rows.len() + live.stream.len() + live.gone as usize;
    QueryUpdate::Rows { columns: live.columns.clone(), rows, total, deltas }
}

/// Compares numbers by value, everything else by text.
fn in_order(a: &Json, b: &Json) -> std::cmp::Ordering {
    match (a, b) {
        (Json::Array(a), Json::Array(b)) => {
            let differs = a.iter().zip(b).map(|(a, b)| in_order(a, b)).find(|o| o.is_ne());
            differs.unwrap_or(a.len().cmp(&b.len()))
        }
        (Json::Number(a), Json::Number(b)) => a.as_f64().unwrap_or_default().total_cmp(&b.as_f64().unwrap_or_default()),
        _ => a.to_string().cmp(&b.to_string()),
    }
}
