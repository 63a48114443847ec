//! One client's WebSocket: calls in, messages out.

use std::sync::Arc;
use std::time::Duration;

use futures_util::StreamExt;
use gossip_core::engine::{Request, Resume};
use gossip_core::rule::Claims;
use gossip_core::seal::Sealer;
use gossip_core::wire::{self, RpcError, code};
use gossip_relay::cloudevent::CloudEvent;
use serde_json::{Map, Value as Json, json};
use tokio::io::AsyncReadExt;
use tokio::sync::{mpsc, oneshot, watch};
use tokio::time::Instant;
use tokio_tungstenite::tungstenite::protocol::CloseFrame;
use tokio_tungstenite::tungstenite::protocol::frame::Frame;
use tokio_tungstenite::tungstenite::{Error as SocketError, Message};

use crate::audit_log::{AuditLog, Who};
use crate::auth::{Accepted, KeyId};
use crate::node::{Client, Command, OPERATORS, Operate, Publish};
use crate::now;
use crate::outbox::{self, Flushed, Style};
use crate::params::{self, Params, invalid, missing};
use crate::query_ref::{Askable, QueryRef, owner};
use crate::upgrade::{Calls, MAX_MESSAGE};
use crate::writers::tell;

/// Longest time between two deltas that a client can ask for, in milliseconds.
pub const MAX_EVERY_MS: u64 = 60_000;

/// Most rows in one message that a client can ask for; a message ends earlier where it grows long.
const MAX_BATCH: u64 = 1_000_000;

/// A client that takes nothing for so long is gone.
pub const STUCK: Duration = Duration::from_secs(60);

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
    pub asks: mpsc::Sender<Command>,
    /// Where queries come from.
    pub askable: Askable,
    /// Who was refused what.
    pub record: Arc<AuditLog>,
    /// Seals keys and cursors.
    pub sealer: Arc<Sealer>,
    /// Turns true when the instance stops.
    pub stopping: watch::Receiver<bool>,
}

/// Waits until the instance stops, or is gone.
async fn stopped(stopping: &mut watch::Receiver<bool>) {
    drop(stopping.wait_for(|s| *s).await);
}

/// Waits until the set of keys is another one; for ever where there is none.
pub(crate) async fn changed(keys: &mut Option<watch::Receiver<u64>>) {
    if let Some(keys) = keys
        && keys.changed().await.is_ok()
    {
        return;
    }
    std::future::pending().await
}

/// Bytes of a call's id: it is kept until the call is answered.
const MAX_CALL_ID: usize = 128;

/// Calls that a connection may make at once, and how many more each second.
const CALLS: u32 = 2_000;
const CALLS_PER_SECOND: u32 = 200;

/// A connection that has made no call within this time ends.
const FIRST_CALL: Duration = Duration::from_secs(30);

/// Bytes of an event's id.
const MAX_ID: usize = 200;

/// Why a connection ends.
struct End(u16, String);

type Flow = Result<(), Option<End>>;

/// Serves a connection to its end. `token` is the one of the upgrade.
pub async fn serve(mut calls: Calls, served: Served, token: Option<String>) {
    let mut c = Connection { served, expires: None, key: None };
    let client = c.served.client.clone();
    if c.served.asks.send(Command::Connected(client.clone())).await.is_err() {
        return;
    }
    let _known = Known { client: client.clone(), asks: c.served.asks.clone() };
    let mut flow: Flow = Ok(());
    if let Some(token) = token
        && let Err(e) = c.authenticate(&token).await
    {
        c.record(|record, who| record.refused(who, "the token of a connection", &e));
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
}

/// A client that the loop knows, until this is dropped, however its connection ends.
pub(crate) struct Known {
    pub(crate) client: Arc<Client>,
    pub(crate) asks: mpsc::Sender<Command>,
}

impl Drop for Known {
    fn drop(&mut self) {
        self.client.outbox.close();
        let (asks, id) = (self.asks.clone(), self.client.id);
        // Where the runtime is ending, so is the loop.
        if let Ok(runtime) = tokio::runtime::Handle::try_current() {
            runtime.spawn(async move { asks.send(Command::Disconnected(id)).await });
        }
    }
}

struct Connection {
    served: Served,
    /// When the token ends, in seconds since 1970.
    expires: Option<i64>,
    /// The key that it is signed with.
    key: Option<KeyId>,
}

impl Connection {
    /// Reads calls. Writing is the writers' work, until the socket takes no more: then this waits for it, and reads
    /// nothing meanwhile, so that a client that does not listen cannot go on asking.
    async fn run(&mut self, calls: &mut Calls) -> Flow {
        let silence = self.served.askable.admission.silence;
        // Asked twice, in vain, before it counts as gone.
        let mut ping = tokio::time::interval(silence / 3);
        ping.tick().await;
        let mut heard = Instant::now();
        let client = self.served.client.clone();
        let tcp = calls.get_ref().tcp.clone();
        let mut stopping = self.served.stopping.clone();
        let mut keys = self.served.askable.tokens.as_ref().map(|t| t.changes());
        let mut stopped = std::pin::pin!(stopped(&mut stopping));
        let mut ends = std::pin::pin!(tokio::time::sleep(Duration::MAX));
        let mut known_end = None;
        // Whether the client has been told that its token has ended.
        let mut noticed = false;
        let mut calls_left = f64::from(CALLS);
        let mut refilled = Instant::now();
        let mut first_call = std::pin::pin!(tokio::time::sleep(FIRST_CALL));
        let mut called = self.expires.is_some();
        let mut blocked = self.write().await?;
        let mut stuck = std::pin::pin!(tokio::time::sleep(STUCK));
        loop {
            if self.expires != known_end {
                known_end = self.expires;
                let left = self.expires.map_or(0, |at| micros(at).saturating_sub(now())).max(0);
                ends.as_mut().reset(Instant::now() + Duration::from_micros(left.unsigned_abs()).min(LONGEST));
                noticed = false;
            }
            // Whoever calls too fast is read from more slowly; nobody else notices.
            let since = refilled.elapsed().as_secs_f64() * f64::from(CALLS_PER_SECOND);
            (calls_left, refilled) = ((calls_left + since).min(f64::from(CALLS)), Instant::now());
            let too_fast = calls_left < 1.0;
            tokio::select! {
                () = &mut stopped => {
                    return Err(Some(End(close::RESTART, "the instance stops; connect again".into())));
                }
                () = tokio::time::sleep(Duration::from_millis(20)), if too_fast => {}
                () = &mut first_call, if !called => {
                    let reason = format!("no call within {} s", FIRST_CALL.as_secs());
                    return Err(Some(End(close::POLICY, reason)));
                }
                message = calls.next(), if !blocked && !too_fast => match message {
                    Some(Ok(message)) => {
                        heard = Instant::now();
                        if message.is_text() {
                            (called, calls_left) = (true, calls_left - 1.0);
                        }
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
                    if noticed {
                        self.expire().await?;
                        known_end = None;
                    } else {
                        let grace = self.served.askable.tokens.as_ref().map_or(Duration::ZERO, |t| t.grace());
                        let told = json!({"closes_ms": grace.as_millis() as u64});
                        client.outbox.say(&wire::notify("expired", told));
                        ends.as_mut().reset(Instant::now() + grace);
                        noticed = true;
                    }
                    blocked = self.write().await?;
                }
                () = changed(&mut keys) => {
                    let tokens = self.served.askable.tokens.as_ref();
                    if self.key.is_some_and(|key| tokens.is_none_or(|t| !t.has(&key))) {
                        // What it let in it lets in no more, and there is nothing to wait for.
                        client.outbox.say(&wire::notify("expired", json!({"closes_ms": 0})));
                        self.expire().await?;
                        known_end = None;
                    }
                    blocked = self.write().await?;
                }
                _ = ping.tick(), if !blocked => {
                    if heard.elapsed() > silence {
                        return Err(None);
                    }
                    client.outbox.push(outbox::control(Frame::ping(Vec::new())));
                    blocked = self.write().await?;
                }
            }
            if blocked {
                // It is not read from meanwhile, so that is no silence of its own.
                heard = Instant::now();
            } else {
                stuck.as_mut().reset(Instant::now() + STUCK);
            }
        }
    }

    /// Writes until nothing waits, or the socket takes no more: then it is true.
    async fn write(&self) -> Result<bool, Option<End>> {
        write(&self.served.client, &self.served.asks, &self.served.sealer).await
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

    async fn ask(&self, ask: Command) -> Flow {
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
        let ok_id = match &id {
            None | Some(Json::Number(_)) => true,
            Some(Json::String(text)) => text.len() <= MAX_CALL_ID,
            Some(_) => false,
        };
        let method = call.get("method").and_then(Json::as_str).map(String::from);
        let version = call.get("jsonrpc").and_then(Json::as_str) == Some("2.0");
        let (Some(method), true, true) = (method, ok_id, version) else {
            let text = "expected {\"jsonrpc\":\"2.0\",\"id\":…,\"method\":\"…\",\"params\":{…}} with a number or a string of at most \
                 128 bytes as id";
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
            Err(Failed::Call(e)) => {
                self.record(|record, who| record.refused(who, &format!("the call {method}"), &e));
                self.served.client.outbox.say(&wire::refuse(&id, &e));
            }
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
                let (query, name, grant) = (p.text("query")?, p.text("name")?, p.text("grant")?);
                let asked = QueryRef { query, name, grant, params: p.object("params")? };
                let resume = p.text("cursor")?.map(|c| match self.served.sealer.open(&c) {
                    Some(cursor) => Resume::At(cursor),
                    None => Resume::Unreadable,
                });
                let every_ms = p.number_up_to("every_ms", MAX_EVERY_MS)?.unwrap_or(0);
                let batch = p.number_up_to("batch", MAX_BATCH)?.unwrap_or(MAX_BATCH).max(1);
                let only_changed = match p.text("send")?.as_deref() {
                    None | Some("rows") => false,
                    Some("changed") => true,
                    Some(_) => return Err(invalid("send: expected \"rows\" or \"changed\"").into()),
                };
                let observed = match p.0.remove("observed") {
                    None | Some(Json::Bool(false)) => None,
                    Some(Json::Bool(true)) => Some(String::new()),
                    Some(Json::String(label)) if label.len() <= 64 => Some(label),
                    Some(_) => {
                        return Err(invalid("observed: expected true, false or a label of at most 64 bytes").into());
                    }
                };
                p.end(&["query", "name", "grant", "params", "cursor", "every_ms", "batch", "send", "observed"])?;
                if observed.is_some() && every_ms > 0 {
                    return Err(
                        invalid("observed and every_ms: what is observed is told transaction by transaction").into()
                    );
                }
                let claims = self.served.client.claims.lock().clone();
                let every = every_ms as i64 * 1_000;
                let client = &self.served.client;
                let owner = owner(Some(client.id), &claims, client.address);
                let request = self.served.askable.request(asked, claims, owner).await?;
                let request = Request { observed: observed.is_some(), every, resume: resume.map(Box::new), ..request };
                let style = Style { batch: batch as usize, only_changed };
                let client = self.served.client.id;
                self.ask(Command::Subscribe { client, call: id.clone(), request, style, observed }).await?;
                Ok(None)
            }
            "unsubscribe" => {
                let number = p.number("subscription")?;
                p.end(&["subscription"])?;
                let client = self.served.client.id;
                self.ask(Command::Unsubscribe { client, call: id.clone(), number }).await?;
                Ok(None)
            }
            call if OPERATORS.contains(&call) => {
                let claims = self.served.client.claims.lock().clone();
                if !claims.operator {
                    return Err(RpcError::new(code::NOT_KNOWN, format!("{call} is not known or not permitted")).into());
                }
                let instance = p.text("instance")?;
                let at = instance.as_ref().map_or(String::new(), |name| format!(" at {}", name.escape_debug()));
                let what = match call {
                    // Looked at here already, so that what is recorded says what was asked.
                    "explain" => params::explain(&mut Params(p.0.clone()))?.to_string(),
                    "what_if" => {
                        let n = params::what_if(Params(p.0.clone()))?.asked.len();
                        format!("what other rules would mean for {n} queries")
                    }
                    call => call.to_string(),
                };
                self.record(|record, who| record.looked(who, &format!("{what}{at}")));
                let (answer, answered) = oneshot::channel();
                let operate = Operate { instance, call: call.into(), params: p.0, answer };
                self.ask(Command::Operate(Box::new(operate))).await?;
                self.say_later(id.clone(), answered);
                Ok(None)
            }
            "publish" => {
                let topic = p.text("topic")?.ok_or_else(|| missing("topic"))?;
                let event_id = p.text("id")?;
                if event_id.as_ref().is_some_and(|id| id.is_empty() || id.len() > MAX_ID) {
                    return Err(invalid(format!("id: expected 1 to {MAX_ID} bytes")).into());
                }
                let data = p.0.remove("data").ok_or_else(|| missing("data"))?;
                p.end(&["topic", "data", "id"])?;
                let claims = self.served.client.claims.lock().clone();
                let mut event = CloudEvent::new(&topic, "", event_id.unwrap_or_default(), String::new(), data);
                event.time = None;
                let (answer, answered) = oneshot::channel();
                self.ask(Command::Publish(Box::new(Publish { topic, claims, event, answer }))).await?;
                let (told, tell) = oneshot::channel();
                self.say_later(id.clone(), tell);
                tokio::spawn(async move {
                    if let Ok(outcome) = answered.await {
                        let _ = told.send(outcome.map(|published| published.to_json()));
                    }
                });
                Ok(None)
            }
            "join" => {
                let place = p.text("place")?.ok_or_else(|| missing("place"))?;
                let data = p.0.remove("data").unwrap_or(Json::Null);
                p.end(&["place", "data"])?;
                let client = self.served.client.id;
                self.ask(Command::Join { client, call: id.clone(), place, data }).await?;
                Ok(None)
            }
            "leave" => {
                let place = p.text("place")?.ok_or_else(|| missing("place"))?;
                p.end(&["place"])?;
                let client = self.served.client.id;
                self.ask(Command::Leave { client, call: id.clone(), place }).await?;
                Ok(None)
            }
            other => {
                let known = ["authenticate", "subscribe", "unsubscribe", "publish", "join", "leave"];
                let known: Vec<&str> = known.into_iter().chain(OPERATORS).collect();
                let hint = gossip_core::query::similar(other, known.iter().copied());
                let hint = hint.map_or(format!("known: {}", known.join(", ")), |h| format!("did you mean {h}?"));
                let shown: String = other.chars().take(60).collect();
                Err(RpcError::new(code::NO_SUCH_CALL, format!("there is no call {shown}; {hint}")).into())
            }
        }
    }

    /// Says the answer to a call when it is there. The connection goes on meanwhile.
    fn say_later(&self, call: Json, answered: oneshot::Receiver<Result<Json, RpcError>>) {
        let (client, asks, sealer) = (self.served.client.clone(), self.served.asks.clone(), self.served.sealer.clone());
        tokio::spawn(async move {
            let Ok(answer) = answered.await else { return };
            client.outbox.say(&answer.map_or_else(|e| wire::refuse(&call, &e), |found| wire::reply(&call, found)));
            let _ = write(&client, &asks, &sealer).await;
        });
    }

    fn record(&self, tell: impl FnOnce(&AuditLog, &Who<'_>)) {
        let claims = self.served.client.claims.lock().clone();
        tell(&self.served.record, &Who { address: &self.served.client.address, claims: &claims });
    }

    /// The token has ended and was not renewed: what it opened is closed, and who comes next is nobody known.
    async fn expire(&mut self) -> Flow {
        (self.expires, self.key) = (None, None);
        *self.served.client.claims.lock() = Arc::new(Claims::anonymous());
        self.ask(Command::Expired(self.served.client.id)).await
    }

    async fn authenticate(&mut self, token: &str) -> Result<Accepted, RpcError> {
        let Some(tokens) = &self.served.askable.tokens else {
            let text = "this instance takes no tokens: its configuration has no [auth]";
            return Err(RpcError::new(code::NOT_AUTHENTICATED, text));
        };
        let accepted = tokens.accept(token).await.map_err(|e| RpcError::new(code::NOT_AUTHENTICATED, e))?;
        let claims = Arc::new(accepted.claims.clone());
        let before = std::mem::replace(&mut *self.served.client.claims.lock(), claims.clone());
        (self.expires, self.key) = (Some(accepted.expires), Some(accepted.key));
        if before != claims {
            let ask = Command::Claims(self.served.client.id, before, claims);
            self.ask(ask).await.map_err(|_| RpcError::new(code::UNAVAILABLE, "the instance stops"))?;
        }
        Ok(accepted)
    }
}

/// Writes until nothing waits, or the socket takes no more: then it is true.
async fn write(client: &Client, asks: &mpsc::Sender<Command>, sealer: &Sealer) -> Result<bool, Option<End>> {
    loop {
        let told = client.outbox.flush(sealer);
        let flushed = told.flushed;
        tell(told, asks).await.map_err(|()| None)?;
        match flushed {
            Flushed::Empty => return Ok(false),
            Flushed::Blocked => return Ok(true),
            Flushed::Gone => return Err(None),
            Flushed::More => tokio::task::yield_now().await,
        }
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
