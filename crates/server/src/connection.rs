//! One client's WebSocket: calls in, messages out.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use futures_util::StreamExt;
use gossip_core::engine::{Request, Resume};
use gossip_core::position::Position;
use gossip_core::rule::Claims;
use gossip_core::wire::{self, RpcError, code};
use serde_json::{Map, Value as Json, json};
use tokio::io::AsyncReadExt;
use tokio::sync::{mpsc, oneshot, watch};
use tokio::time::Instant;
use tokio_tungstenite::tungstenite::protocol::CloseFrame;
use tokio_tungstenite::tungstenite::protocol::frame::Frame;
use tokio_tungstenite::tungstenite::{Error as SocketError, Message};

use crate::auth::{Accepted, Tokens};
use crate::node::{Ask, Client, Explain, Whom};
use crate::now;
use crate::outbox::{self, Flushed, Style};
use crate::upgrade::Calls;
use crate::writers::tell;

/// Longest message that is read, in bytes. A longer one ends the connection with 1009.
pub const MAX_MESSAGE: usize = 256 * 1024;

/// Longest time between two deltas that a client can ask for, in milliseconds.
const MAX_EVERY_MS: u64 = 60_000;

/// Most rows in one message that a client can ask for; a message ends earlier where it grows long.
const MAX_BATCH: u64 = 1_000_000;

/// A connection that is silent for so long is asked whether it lives.
const PING_EVERY: Duration = Duration::from_secs(20);

/// A client that takes nothing for so long is gone.
const STUCK: Duration = Duration::from_secs(60);

/// How long an ending connection may take to say so.
const FAREWELL: Duration = Duration::from_secs(1);

/// A connection ends after this at the latest, whatever its token says.
const LONGEST: Duration = Duration::from_secs(365 * 86_400);

/// Seconds as microseconds; a token may claim to end after the end of time.
fn micros(seconds: i64) -> i64 {
    seconds.saturating_mul(1_000_000)
}

/// WebSocket close codes (RFC 6455 and its registry).
mod close {
    pub const UNSUPPORTED: u16 = 1003;
    pub const POLICY: u16 = 1008;
    pub const TOO_BIG: u16 = 1009;
    pub const RESTART: u16 = 1012;
}

/// What a connection works with.
pub struct Served {
    /// The client.
    pub client: Arc<Client>,
    /// The engine's loop.
    pub asks: mpsc::Sender<Ask>,
    /// Checks tokens; `None`: nobody can authenticate.
    pub tokens: Option<Arc<Tokens>>,
    /// Stored queries by name.
    pub queries: Arc<BTreeMap<String, String>>,
    /// Seals keys and cursors.
    pub sealer: Arc<gossip_core::seal::Sealer>,
    /// Turns true when the instance stops.
    pub stopping: watch::Receiver<bool>,
}

/// Waits until the instance stops, or is gone.
async fn stopped(stopping: &mut watch::Receiver<bool>) {
    drop(stopping.wait_for(|s| *s).await);
}

/// Why a connection ends.
struct End(u16, String);

type Flow = Result<(), Option<End>>;

/// Serves a connection to its end. `token` is the one of the upgrade.
pub async fn serve(mut calls: Calls, served: Served, token: Option<String>) {
    let mut c = Connection { served, expires: None };
    let client = c.served.client.clone();
    if c.served.asks.send(Ask::Connected(client.clone())).await.is_err() {
        return;
    }
    let mut flow: Flow = Ok(());
    if let Some(token) = token
        && let Err(e) = c.authenticate(&token).await
    {
        client.outbox.say(&wire::refuse(&Json::Null, &e));
        flow = Err(Some(End(close::POLICY, e.message)));
    }
    if flow.is_ok() {
        flow = c.run(&mut calls).await;
    }
    match flow {
        // What ended it may have left the socket unusable.
        Err(Some(end)) => drop(tokio::time::timeout(FAREWELL, c.farewell(&mut calls, end)).await),
        // The answer to the client's own close may still wait.
        _ => drop(client.outbox.flush(&c.served.sealer)),
    }
    client.outbox.close();
    let _ = c.served.asks.send(Ask::Disconnected(client.id)).await;
}

struct Connection {
    served: Served,
    /// When the token ends, in seconds since 1970.
    expires: Option<i64>,
}

impl Connection {
    /// Reads calls. Writing is the writers' work, until the socket takes no more: then this waits for it, and reads
    /// nothing meanwhile, so that a client that does not listen cannot go on asking.
    async fn run(&mut self, calls: &mut Calls) -> Flow {
        let mut ping = tokio::time::interval(PING_EVERY);
        ping.tick().await;
        let client = self.served.client.clone();
        let tcp = calls.get_ref().tcp.clone();
        let mut stopping = self.served.stopping.clone();
        let mut stopped = std::pin::pin!(stopped(&mut stopping));
        let mut ends = std::pin::pin!(tokio::time::sleep(Duration::MAX));
        let mut known_end = None;
        let mut blocked = self.write().await?;
        let mut stuck = std::pin::pin!(tokio::time::sleep(STUCK));
        loop {
            if self.expires != known_end {
                known_end = self.expires;
                let left = self.expires.map_or(0, |at| micros(at).saturating_sub(now())).max(0);
                ends.as_mut().reset(Instant::now() + Duration::from_micros(left.unsigned_abs()).min(LONGEST));
            }
            tokio::select! {
                () = &mut stopped => {
                    return Err(Some(End(close::RESTART, "the instance stops; connect again".into())));
                }
                message = calls.next(), if !blocked => match message {
                    Some(Ok(message)) => {
                        self.read(message).await?;
                        blocked = self.write().await?;
                    }
                    Some(Err(e)) => return Err(too_big(&e)),
                    None => return Err(None),
                },
                () = client.outbox.blocked(), if !blocked => blocked = self.write().await?,
                writable = tcp.writable(), if blocked => {
                    writable.map_err(|_| None)?;
                    stuck.as_mut().reset(Instant::now() + STUCK);
                    blocked = self.write().await?;
                }
                () = &mut stuck, if blocked => return Err(None),
                () = &mut ends, if known_end.is_some() => {
                    return Err(Some(End(close::POLICY, "the token has expired".into())));
                }
                _ = ping.tick(), if !blocked => {
                    client.outbox.push(outbox::control(Frame::ping(Vec::new())));
                    blocked = self.write().await?;
                }
            }
            if !blocked {
                stuck.as_mut().reset(Instant::now() + STUCK);
            }
        }
    }

    /// Writes until nothing waits, or the socket takes no more: then it is true.
    async fn write(&self) -> Result<bool, Option<End>> {
        loop {
            let told = self.served.client.outbox.flush(&self.served.sealer);
            let flushed = told.flushed;
            tell(told, &self.served.asks).await.map_err(|()| None)?;
            match flushed {
                Flushed::Empty => return Ok(false),
                Flushed::Blocked => return Ok(true),
                Flushed::Gone => return Err(None),
                Flushed::More => tokio::task::yield_now().await,
            }
        }
    }

    /// Says why the connection ends, behind whatever else waits, and lets the client take it.
    async fn farewell(&self, calls: &mut Calls, end: End) {
        let End(code, reason) = end;
        let reason: String = reason.chars().take(100).collect();
        let frame = Frame::close(Some(CloseFrame { code: code.into(), reason: reason.into() }));
        self.served.client.outbox.push(outbox::control(frame));
        let tcp = calls.get_ref().tcp.clone();
        while let Ok(true) = self.write().await {
            if tcp.writable().await.is_err() {
                return;
            }
        }
        // A socket that is closed with something unread takes back what was written to it.
        let _ = socket2::SockRef::from(&*tcp).shutdown(std::net::Shutdown::Write);
        let mut unread = [0; 4 * 1024];
        while let Ok(1..) = calls.get_mut().read(&mut unread).await {}
    }

    async fn ask(&self, ask: Ask) -> Flow {
        self.served.asks.send(ask).await.map_err(|_| None)
    }

    async fn read(&mut self, message: Message) -> Flow {
        let text = match message {
            Message::Text(text) => text,
            Message::Binary(_) => {
                return Err(Some(End(close::UNSUPPORTED, "binary messages are not part of gossip.v1".into())));
            }
            Message::Ping(_) | Message::Pong(_) | Message::Frame(_) => return Ok(()),
            // The next turn answers it and finds the end.
            Message::Close(_) => return Ok(()),
        };
        let say = |e: RpcError, id: &Json| self.served.client.outbox.say(&wire::refuse(id, &e));
        let call: Json = match serde_json::from_str(&text) {
            Ok(call) => call,
            Err(e) => {
                let e = format!("not JSON: line {}, column {}", e.line(), e.column());
                say(RpcError::new(code::PARSE, e), &Json::Null);
                return Ok(());
            }
        };
        let Json::Object(mut call) = call else {
            let what = if call.is_array() { "batches are not part of gossip.v1" } else { "expected an object" };
            say(RpcError::new(code::INVALID_REQUEST, what), &Json::Null);
            return Ok(());
        };
        let id = call.remove("id");
        let ok_id = matches!(id, None | Some(Json::String(_) | Json::Number(_)));
        let method = call.get("method").and_then(Json::as_str).map(String::from);
        let version = call.get("jsonrpc").and_then(Json::as_str) == Some("2.0");
        let (Some(method), true, true) = (method, ok_id, version) else {
            let text =
                "expected {\"jsonrpc\":\"2.0\",\"id\":…,\"method\":\"…\",\"params\":{…}} with a string or number as id";
            say(RpcError::new(code::INVALID_REQUEST, text), &id.filter(|_| ok_id).unwrap_or(Json::Null));
            return Ok(());
        };
        // A notification by the standard: it asks for no answer, and every call here is about its answer.
        let Some(id) = id else { return Ok(()) };
        let params = match call.remove("params") {
            None => Map::new(),
            Some(Json::Object(params)) => params,
            Some(_) => {
                say(RpcError::new(code::INVALID_PARAMS, "params: expected an object"), &id);
                return Ok(());
            }
        };
        match self.call(&method, params, &id).await {
            Ok(Some(result)) => self.served.client.outbox.say(&wire::reply(&id, result)),
            Ok(None) => {}
            Err(Failed::Call(e)) => self.served.client.outbox.say(&wire::refuse(&id, &e)),
            Err(Failed::Connection(end)) => return Err(end),
        }
        Ok(())
    }

    /// Carries out a call. `None`: the engine's loop answers.
    async fn call(&mut self, method: &str, params: Map<String, Json>, id: &Json) -> Result<Option<Json>, Failed> {
        let mut p = Params(params);
        match method {
            "authenticate" => {
                let token = p.text("token")?.ok_or_else(|| missing("token"))?;
                p.end(&["token"])?;
                let before = self.served.client.claims.lock().clone();
                let accepted = self.authenticate(&token).await?;
                let subject = accepted.claims.subject().map(String::from);
                if before.subject().is_some() && before.subject() != subject.as_deref() {
                    let reason = "another subject; connect again".to_string();
                    return Err(Failed::Connection(Some(End(close::POLICY, reason))));
                }
                let expires = wire::rfc3339(micros(accepted.expires));
                Ok(Some(json!({"subject": subject, "roles": accepted.claims.roles, "expires": expires})))
            }
            "subscribe" => {
                let query = match (p.text("query")?, p.text("name")?) {
                    (Some(query), None) => query,
                    (None, Some(name)) => self.served.queries.get(&name).cloned().ok_or_else(|| {
                        let shown: String = name.chars().take(60).collect();
                        RpcError::new(code::UNKNOWN_NAME, format!("there is no stored query {shown}"))
                    })?,
                    (None, None) => return Err(missing("query")),
                    (Some(_), Some(_)) => return Err(invalid("query and name: expected one of them")),
                };
                let params = p.object("params")?;
                let resume = p.text("cursor")?.map(|c| match self.served.sealer.open(&c) {
                    Some(cursor) => Resume::At(cursor),
                    None => Resume::Unreadable,
                });
                let every_ms = p.number_up_to("every_ms", MAX_EVERY_MS)?.unwrap_or(0);
                let batch = p.number_up_to("batch", MAX_BATCH)?.unwrap_or(MAX_BATCH).max(1);
                let only_changed = match p.text("send")?.as_deref() {
                    None | Some("rows") => false,
                    Some("changed") => true,
                    Some(_) => return Err(invalid("send: expected \"rows\" or \"changed\"")),
                };
                let observed = match p.0.remove("observed") {
                    None | Some(Json::Bool(false)) => None,
                    Some(Json::Bool(true)) => Some(String::new()),
                    Some(Json::String(label)) if label.len() <= 64 => Some(label),
                    Some(_) => return Err(invalid("observed: expected true, false or a label of at most 64 bytes")),
                };
                p.end(&["query", "name", "params", "cursor", "every_ms", "batch", "send", "observed"])?;
                if observed.is_some() && every_ms > 0 {
                    return Err(invalid("observed and every_ms: what is observed is told transaction by transaction"));
                }
                let claims = self.served.client.claims.lock().clone();
                let every = every_ms as i64 * 1_000;
                let request = Request { query, params, claims, observed: observed.is_some(), every, resume };
                let style = Style { batch: batch as usize, only_changed };
                let client = self.served.client.id;
                self.ask(Ask::Subscribe { client, call: id.clone(), request, style, observed }).await?;
                Ok(None)
            }
            "unsubscribe" => {
                let number = p.number("subscription")?;
                p.end(&["subscription"])?;
                let client = self.served.client.id;
                self.ask(Ask::Unsubscribe { client, call: id.clone(), number }).await?;
                Ok(None)
            }
            "explain" => {
                let claims = self.served.client.claims.lock().clone();
                if !claims.operator {
                    return Err(RpcError::new(code::NOT_KNOWN, "explain is not known or not permitted").into());
                }
                let question = explain_params(&mut p)?;
                let (answer, answered) = oneshot::channel();
                self.ask(Ask::Explain(question, answer)).await?;
                Ok(Some(answered.await.map_err(|_| Failed::Connection(None))??))
            }
            other => {
                let known = ["authenticate", "subscribe", "unsubscribe", "explain"];
                let hint = gossip_core::query::similar(other, known);
                let hint = hint.map_or(format!("known: {}", known.join(", ")), |h| format!("did you mean {h}?"));
                let shown: String = other.chars().take(60).collect();
                Err(RpcError::new(code::NO_SUCH_CALL, format!("there is no call {shown}; {hint}")).into())
            }
        }
    }

    async fn authenticate(&mut self, token: &str) -> Result<Accepted, RpcError> {
        let Some(tokens) = &self.served.tokens else {
            let text = "this instance takes no tokens: its configuration has no [auth]";
            return Err(RpcError::new(code::NOT_AUTHENTICATED, text));
        };
        let accepted = tokens.check(token).map_err(|e| RpcError::new(code::NOT_AUTHENTICATED, e))?;
        let claims = Arc::new(accepted.claims.clone());
        let before = std::mem::replace(&mut *self.served.client.claims.lock(), claims.clone());
        self.expires = Some(accepted.expires);
        if before != claims {
            let ask = Ask::Claims(self.served.client.id, claims);
            self.ask(ask).await.map_err(|_| RpcError::new(code::UNAVAILABLE, "the instance stops"))?;
        }
        Ok(accepted)
    }
}

fn too_big(e: &SocketError) -> Option<End> {
    let big = matches!(e, SocketError::Capacity(_));
    big.then(|| End(close::TOO_BIG, format!("a message has at most {MAX_MESSAGE} bytes")))
}

enum Failed {
    Call(RpcError),
    Connection(Option<End>),
}

impl From<RpcError> for Failed {
    fn from(e: RpcError) -> Self {
        Failed::Call(e)
    }
}

impl From<Option<End>> for Failed {
    fn from(e: Option<End>) -> Self {
        Failed::Connection(e)
    }
}

fn invalid(text: impl Into<String>) -> Failed {
    Failed::Call(RpcError::new(code::INVALID_PARAMS, text))
}

fn missing(name: &str) -> Failed {
    invalid(format!("{name} is missing"))
}

struct Params(Map<String, Json>);

impl Params {
    fn text(&mut self, name: &str) -> Result<Option<String>, Failed> {
        match self.0.remove(name) {
            None => Ok(None),
            Some(Json::String(s)) => Ok(Some(s)),
            Some(_) => Err(invalid(format!("{name}: expected a text"))),
        }
    }

    fn object(&mut self, name: &str) -> Result<Map<String, Json>, Failed> {
        match self.0.remove(name) {
            None => Ok(Map::new()),
            Some(Json::Object(o)) => Ok(o),
            Some(_) => Err(invalid(format!("{name}: expected an object"))),
        }
    }

    fn number(&mut self, name: &str) -> Result<u64, Failed> {
        match self.0.remove(name) {
            None => Err(missing(name)),
            Some(v) => v.as_u64().ok_or_else(|| invalid(format!("{name}: expected a number"))),
        }
    }

    fn number_up_to(&mut self, name: &str, most: u64) -> Result<Option<u64>, Failed> {
        match self.0.remove(name) {
            None => Ok(None),
            Some(v) => match v.as_u64().filter(|n| *n <= most) {
                Some(n) => Ok(Some(n)),
                None => Err(invalid(format!("{name}: expected a number from 0 to {most}"))),
            },
        }
    }

    fn end(&self, known: &[&str]) -> Result<(), Failed> {
        match self.0.keys().next() {
            None => Ok(()),
            Some(stray) => {
                let hint = gossip_core::query::similar(stray, known.iter().copied());
                let hint = hint.map_or(format!("known: {}", known.join(", ")), |h| format!("did you mean {h}?"));
                Err(invalid(format!("{stray} is not a parameter of this call; {hint}")))
            }
        }
    }
}

fn explain_params(p: &mut Params) -> Result<Explain, Failed> {
    let parse = |at: String| at.rsplit_once(':').and_then(|(s, n)| Some((s.to_string(), n.parse::<Position>().ok()?)));
    let expected = || invalid("position: expected source:number, as deltas to operators carry it");
    let at = p.text("position")?.map(|at| parse(at).ok_or_else(expected)).transpose()?;
    let whom = match p.0.contains_key("subscription") {
        true => Whom::Subscription(p.number("subscription")?),
        false => {
            let query = p.text("query")?.ok_or_else(|| invalid("subscription, or claims and query, are missing"))?;
            let facts = p.object("claims")?;
            let roles = match p.0.remove("roles") {
                None => vec![gossip_core::rule::ANONYMOUS.to_string()],
                Some(roles) => serde_json::from_value(roles).map_err(|_| invalid("roles: expected a list of texts"))?,
            };
            let params = p.object("params")?;
            let claims = Arc::new(Claims { roles, facts, operator: false });
            Whom::Anybody(Box::new(Request { query, params, claims, ..Request::default() }))
        }
    };
    p.end(&["position", "subscription", "query", "claims", "roles", "params"])?;
    Ok(Explain { at, whom })
}
