//! One client's WebSocket: calls in, messages out.

use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;

use axum::extract::ws::{CloseFrame, Message, WebSocket};
use futures_util::SinkExt;
use gossip_core::engine::Request;
use gossip_core::position::Position;
use gossip_core::rule::Claims;
use gossip_core::wire::{self, RpcError, code};
use serde_json::{Map, Value as Json, json};
use tokio::sync::{mpsc, oneshot, watch};
use tokio::time::Instant;

use crate::auth::{Accepted, Tokens};
use crate::node::{Ask, Client, Explain, Whom};
use crate::now;

/// Longest message that is read, in bytes. A longer one ends the connection with 1009.
pub const MAX_MESSAGE: usize = 256 * 1024;

/// Messages joined in one write.
const JOINED: usize = 64;

/// A connection that is silent for so long is asked whether it lives.
const PING_EVERY: Duration = Duration::from_secs(20);

/// A client that takes nothing for so long is gone.
const STUCK: Duration = Duration::from_secs(60);

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
pub async fn serve(mut socket: WebSocket, served: Served, token: Option<String>) {
    let mut c = Connection { served, expires: None };
    let client = c.served.client.clone();
    if c.served.asks.send(Ask::Connected(client.clone())).await.is_err() {
        return;
    }
    let mut flow: Flow = Ok(());
    if let Some(token) = token
        && let Err(e) = c.authenticate(&token).await
    {
        let _ = socket.send(Message::Text(wire::refuse(&Json::Null, &e).into())).await;
        flow = Err(Some(End(close::POLICY, e.message)));
    }
    if flow.is_ok() {
        flow = c.run(&mut socket).await;
    }
    // What ended it may have left the socket unusable; then this fails quickly.
    if let Err(Some(End(code, reason))) = flow {
        let reason: String = reason.chars().take(100).collect();
        let frame = CloseFrame { code, reason: reason.into() };
        let _ = tokio::time::timeout(Duration::from_secs(1), socket.send(Message::Close(Some(frame)))).await;
    }
    let _ = c.served.asks.send(Ask::Disconnected(client.id)).await;
}

struct Connection {
    served: Served,
    /// When the token ends, in seconds since 1970.
    expires: Option<i64>,
}

impl Connection {
    async fn run(&mut self, socket: &mut WebSocket) -> Flow {
        let mut ping = tokio::time::interval(PING_EVERY);
        ping.tick().await;
        let client = self.served.client.clone();
        // Made once and only looked at in every turn: a turn per delta has to be cheap.
        let mut stopping = self.served.stopping.clone();
        let mut stopped = std::pin::pin!(stopped(&mut stopping));
        let mut ends = std::pin::pin!(tokio::time::sleep(Duration::MAX));
        let mut known_end = None;
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
                () = client.outbox.filled() => self.write(socket).await?,
                message = socket.recv() => match message {
                    Some(Ok(message)) => self.read(message).await?,
                    Some(Err(e)) => return Err(too_big(&e)),
                    None => return Err(None),
                },
                () = &mut ends, if known_end.is_some() => {
                    return Err(Some(End(close::POLICY, "the token has expired".into())));
                }
                _ = ping.tick() => send(socket, Message::Ping(Default::default())).await?,
            }
        }
    }

    /// Writes until nothing waits. Whatever waits together goes out in one write.
    async fn write(&mut self, socket: &mut WebSocket) -> Flow {
        loop {
            let (texts, lagging) = self.served.client.outbox.take(JOINED, &self.served.sealer);
            for id in lagging {
                self.ask(Ask::CatchUp(id)).await?;
            }
            if texts.is_empty() {
                return Ok(());
            }
            let mut receipts = Vec::new();
            {
                let mut write = std::pin::pin!(async {
                    for (text, receipt) in texts {
                        receipts.extend(receipt);
                        socket.feed(Message::Text(text)).await?;
                    }
                    socket.flush().await
                });
                // Most writes are done at once; only one that is not needs somebody to watch over it.
                let written = match std::future::poll_fn(|cx| Poll::Ready(write.as_mut().poll(cx))).await {
                    Poll::Ready(written) => written.map_err(drop),
                    Poll::Pending => {
                        let mut stopping = self.served.stopping.clone();
                        tokio::select! {
                            written = tokio::time::timeout(STUCK, write) => written.map_err(drop).and_then(|w| w.map_err(drop)),
                            () = stopped(&mut stopping) => Err(()),
                        }
                    }
                };
                written.map_err(|()| None)?;
            }
            let at = now();
            for receipt in receipts {
                self.ask(Ask::Written(receipt, at)).await?;
            }
        }
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
            Message::Ping(_) | Message::Pong(_) => return Ok(()),
            Message::Close(_) => return Err(None),
        };
        let say = |e: RpcError, id: &Json| self.served.client.outbox.say(wire::refuse(id, &e));
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
            Ok(Some(result)) => self.served.client.outbox.say(wire::reply(&id, result)),
            Ok(None) => {}
            Err(Failed::Call(e)) => self.served.client.outbox.say(wire::refuse(&id, &e)),
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
                let query = p.text("query")?.ok_or_else(|| missing("query"))?;
                let params = p.object("params")?;
                // A cursor is taken and answered by the whole result, which is always right.
                p.text("cursor")?;
                let observed = match p.0.remove("observed") {
                    None | Some(Json::Bool(false)) => None,
                    Some(Json::Bool(true)) => Some(String::new()),
                    Some(Json::String(label)) if label.len() <= 64 => Some(label),
                    Some(_) => return Err(invalid("observed: expected true, false or a label of at most 64 bytes")),
                };
                p.end(&["query", "params", "cursor", "observed"])?;
                let claims = self.served.client.claims.lock().clone();
                let request = Request { query, params, claims, observed: observed.is_some() };
                let client = self.served.client.id;
                self.ask(Ask::Subscribe { client, call: id.clone(), request, observed }).await?;
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

fn too_big(e: &axum::Error) -> Option<End> {
    // The codec says what it refused only in words.
    let text = e.to_string();
    let big = text.contains("too long") || text.contains("too big") || text.contains("exceed");
    big.then(|| End(close::TOO_BIG, format!("a message has at most {MAX_MESSAGE} bytes")))
}

async fn send(socket: &mut WebSocket, message: Message) -> Flow {
    match tokio::time::timeout(STUCK, socket.send(message)).await {
        Ok(Ok(())) => Ok(()),
        _ => Err(None),
    }
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
    let position = p.text("position")?.ok_or_else(|| missing("position"))?;
    let parsed = position.rsplit_once(':').and_then(|(s, at)| Some((s.to_string(), at.parse::<Position>().ok()?)));
    let (source, position) =
        parsed.ok_or_else(|| invalid("position: expected source:number, as deltas to operators carry it"))?;
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
            Whom::Anybody(Box::new(Request { query, params, claims, observed: false }))
        }
    };
    p.end(&["position", "subscription", "query", "claims", "roles", "params"])?;
    Ok(Explain { source, position, whom })
}
