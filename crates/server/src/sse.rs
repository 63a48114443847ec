//! Live queries as server-sent events (HTML, 9.2), and the tickets that browsers' `EventSource` needs for them, because
//! it cannot send a token.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::Json as Body;
use axum::extract::rejection::JsonRejection;
use axum::extract::{ConnectInfo, Query, State as Shared};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use bytes::Bytes;
use gossip_core::engine::{Request, Resume};
use gossip_core::rule::Claims;
use gossip_protocol::timestamp::rfc3339;
use gossip_protocol::{RpcError, code};
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use serde_json::{Map, Value as Json, json};
use tokio::sync::mpsc;
use tokio::time::{Instant, sleep_until, timeout};

use crate::auth::{Accepted, KeyId};
use crate::connection::{ConnectedClient, STUCK, changed};
use crate::node::{Client, Command};
use crate::now;
use crate::outbox::Style;
use crate::query_ref::{QueryRef, owner};
use crate::requests::{Front, asked, bearer, refuse, refuse_unknown};
use crate::writers::tell;
use gossip_protocol::call::{MAX_EVERY_MS, Send};

/// Longest ticket, in bytes: it stands in an address.
const MAX_TICKET: usize = 6 * 1024;

/// What tickets are sealed for.
const PURPOSE: &str = "ticket";

/// Messages between the client's queue and its socket.
const AHEAD: usize = 4;

/// A comment is sent so often, so that what lies between does not take the connection for dead.
const COMMENT_EVERY: Duration = Duration::from_secs(15);

/// A ticket: whose it is, and for exactly which query.
#[derive(Serialize, Deserialize)]
struct Ticket {
    token: String,
    query: Option<String>,
    name: Option<String>,
    grant: Option<String>,
    params: Map<String, Json>,
}

/// The body of a call for a ticket.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ForTicket {
    query: Option<String>,
    name: Option<String>,
    grant: Option<String>,
    #[serde(default)]
    params: Map<String, Json>,
}

/// `POST /v1/tickets`: a ticket for one query, good until the token's end.
pub async fn ticket(
    Shared(front): Shared<Arc<Front>>,
    ConnectInfo(address): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    body: Result<Body<ForTicket>, JsonRejection>,
) -> Response {
    match make_ticket(&front, address, &headers, body).await {
        Ok(made) => (StatusCode::CREATED, [(header::CACHE_CONTROL, "no-store")], Body(made)).into_response(),
        Err(e) => refuse(&front, &address, "a ticket", &e),
    }
}

async fn make_ticket(
    front: &Front,
    address: SocketAddr,
    headers: &HeaderMap,
    body: Result<Body<ForTicket>, JsonRejection>,
) -> Result<Json, RpcError> {
    let Some(token) = bearer(headers) else {
        let text = "a ticket is issued for a token: send one in Authorization";
        return Err(RpcError::new(code::NOT_AUTHENTICATED, text));
    };
    let who = front.who(Some(&token)).await?;
    let Body(ForTicket { query, name, grant, params }) =
        body.map_err(|e| RpcError::invalid(format!("the body: {}", e.body_text())))?;
    let (claims, expires) = who.map_or((Claims::anonymous(), 0), |a| (a.claims, a.expires));
    // Report an error here, where the client can read it.
    let asked = QueryRef { query: query.clone(), name: name.clone(), grant: grant.clone(), params: params.clone() };
    let owner = owner(None, &claims, address);
    front.askable.request(asked, Arc::new(claims), owner).await?;
    let ticket = json!(Ticket { token, query, name, grant, params }).to_string();
    let sealed = front.sealer.seal_for(PURPOSE, ticket.as_bytes());
    if sealed.len() > MAX_TICKET {
        let text =
            format!("limit reached: a ticket of {} bytes, at most {MAX_TICKET}: it stands in an address", sealed.len());
        return Err(RpcError::new(code::LIMIT, text));
    }
    Ok(json!({"ticket": sealed, "expires": rfc3339(expires.saturating_mul(1_000_000))}))
}

/// `GET /v1/live`: one live query as server-sent events.
pub async fn live(
    Shared(front): Shared<Arc<Front>>,
    ConnectInfo(address): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Query(query): Query<HashMap<String, String>>,
) -> Response {
    match begin(&front, address, &headers, query).await {
        Ok(response) => response,
        Err(e) => refuse(&front, &address, "a live query", &e),
    }
}

/// `every_ms`, and how results are sent.
fn options(q: &mut HashMap<String, String>) -> Result<(u64, Style), RpcError> {
    let every_ms = match q.remove("every_ms").map(|t| t.parse::<u64>()) {
        None => 0,
        Some(Ok(n)) if n <= MAX_EVERY_MS => n,
        Some(_) => return Err(RpcError::invalid(format!("every_ms: expected a number from 0 to {MAX_EVERY_MS}"))),
    };
    let send = Send::read(q.remove("send").as_deref())?;
    let mut flag = |name: &'static str, default: bool| match q.remove(name).as_deref() {
        None => Ok(default),
        Some("true") => Ok(true),
        Some("false") => Ok(false),
        Some(_) => Err(RpcError::invalid(format!("{name}: expected true or false"))),
    };
    let (changes_only, was) = (!flag("initial", true)?, flag("was", false)?);
    Ok((every_ms, Style { send, was, changes_only, ..Style::default() }))
}

async fn begin(
    front: &Arc<Front>,
    address: SocketAddr,
    headers: &HeaderMap,
    mut q: HashMap<String, String>,
) -> Result<Response, RpcError> {
    let last = headers.get("last-event-id").and_then(|v| v.to_str().ok()).map(String::from);
    let resume = last.or(q.remove("cursor")).filter(|c| !c.is_empty());
    let (every_ms, style) = options(&mut q)?;
    let (token, asked) = match q.remove("ticket") {
        None => (bearer(headers), asked(&mut q)?),
        Some(sealed) => {
            let opened = front.sealer.open_for(PURPOSE, &sealed);
            let ticket: Option<Ticket> = opened.and_then(|t| serde_json::from_slice(&t).ok());
            let Some(Ticket { token, query, name, grant, params }) = ticket else {
                return Err(RpcError::new(code::NOT_AUTHENTICATED, "the ticket is not one of this cluster's"));
            };
            (Some(token), QueryRef { query, name, grant, params })
        }
    };
    refuse_unknown(&q, "ticket, or query, name or grant with params; cursor, every_ms, send, initial, was")?;
    let who = front.who(token.as_deref()).await?;
    let (claims, expires, key) = match who {
        None => (Claims::anonymous(), None, None),
        Some(Accepted { claims, expires, key }) => (claims, Some(expires), Some(key)),
    };
    let client = front.client(address, "sse", claims.clone());
    let owner = owner(Some(client.id), &claims, address);
    let request = front.askable.request(asked, Arc::new(claims), owner).await?;
    let resume = resume.map(|c| front.sealer.open(&c).map_or(Resume::Unreadable, Resume::At));
    let request = Request { every: every_ms as i64 * 1_000, resume: resume.map(Box::new), ..style.of(request) };
    client.outbox.open_to_take();
    let stops = |_| RpcError::new(code::UNAVAILABLE, "the instance stops");
    let known = ConnectedClient { client: client.clone(), asks: front.asks.clone() };
    let connected = Connected { front: front.clone(), client: client.clone(), _known: known };
    front.asks.send(Command::Connected(client.clone())).await.map_err(|_| stops(()))?;
    let subscribe = Command::Subscribe { client: client.id, call: 1.into(), request, style, observed: None };
    front.asks.send(subscribe).await.map_err(|_| stops(()))?;
    // A refusal is an ordinary response; only then the stream starts.
    let mut stopping = front.stopping.clone();
    let first = tokio::select! {
        first = connected.next() => first.map_err(|()| stops(()))?,
        _ = stopping.wait_for(|s| *s) => return Err(stops(())),
    };
    let mut cursor = None;
    let first = match in_words(&first, &mut cursor) {
        Parsed::Event(event, over) => (event, over),
        Parsed::Refused(e) => return Err(e),
    };
    let (events, body) = mpsc::channel(AHEAD);
    tokio::spawn(connected.pump(first, cursor, (expires, key), events));
    let stream = futures_util::stream::unfold(body, |mut body| async move {
        let event: Event = body.recv().await?;
        Some((Ok::<_, std::convert::Infallible>(event), body))
    });
    let events = Sse::new(stream).keep_alive(KeepAlive::new().interval(COMMENT_EVERY));
    Ok(([(header::CACHE_CONTROL, "no-store")], events).into_response())
}

/// A client that the engine's loop knows, until this is dropped.
struct Connected {
    front: Arc<Front>,
    client: Arc<Client>,
    _known: ConnectedClient,
}

impl Connected {
    /// The next message; an error if the instance stops.
    async fn next(&self) -> Result<Bytes, ()> {
        loop {
            let taken = self.client.outbox.take(&self.front.sealer);
            tell(taken.told, &self.front.asks).await?;
            match taken.text {
                Some(text) => return Ok(text),
                None => self.client.outbox.blocked().await,
            }
        }
    }

    /// Forwards the client's messages, until it leaves, its token ends, its subscription is closed or the instance
    /// stops.
    async fn pump(
        self,
        first: (Event, bool),
        mut cursor: Option<String>,
        (expires, key): (Option<i64>, Option<KeyId>),
        events: mpsc::Sender<Event>,
    ) {
        let tokens = self.front.askable.tokens.clone();
        let mut keys = tokens.as_ref().map(|t| t.changes());
        let left_set = async move {
            loop {
                changed(&mut keys).await;
                if key.is_some_and(|key| tokens.as_ref().is_none_or(|t| !t.has(&key))) {
                    return;
                }
            }
        };
        let mut left_set = std::pin::pin!(left_set);
        let mut stopping = self.front.stopping.clone();
        let left = expires.map(|at| at.saturating_mul(1_000_000).saturating_sub(now()).max(0).unsigned_abs());
        let grace = self.front.askable.tokens.as_ref().map_or(Duration::ZERO, |t| t.grace());
        let ends = left.and_then(|left| Instant::now().checked_add(Duration::from_micros(left) + grace));
        let mut next = first;
        loop {
            let (ready, over) = next;
            // What waits for a slow client waits in its queue, which has a limit.
            if !matches!(timeout(STUCK, events.send(ready)).await, Ok(Ok(()))) || over {
                return;
            }
            let expired =
                |why: &str| (event("closed", &json!({"why": format!("expired: {why}")}).to_string(), None), true);
            next = tokio::select! {
                next = self.next() => match next.map(|n| in_words(&n, &mut cursor)) {
                    Ok(Parsed::Event(event, over)) => (event, over),
                    // Nothing else was called.
                    Ok(Parsed::Refused(_)) | Err(()) => return,
                },
                () = events.closed() => return,
                () = self.client.leave.notified() => {
                    let _ = self.client.ended.set("an operator has ended this connection".into());
                    return;
                }
                _ = stopping.wait_for(|s| *s) => return,
                () = &mut left_set => expired("the token's key is not accepted any more"),
                () = async { match ends { Some(at) => sleep_until(at).await, None => std::future::pending().await } } => {
                    expired("the token has ended")
                }
            };
        }
    }
}

enum Parsed {
    /// An event, and whether it is the last.
    Event(Event, bool),
    Refused(RpcError),
}

/// A message as the socket's protocol has it, as an event. The cursor of a result counts once all of it is there.
fn in_words(message: &[u8], cursor: &mut Option<String>) -> Parsed {
    #[derive(Deserialize)]
    struct Message<'a> {
        method: Option<&'a str>,
        #[serde(borrow)]
        params: Option<&'a RawValue>,
        #[serde(borrow)]
        result: Option<&'a RawValue>,
        error: Option<RpcError>,
    }
    #[derive(Deserialize)]
    struct Content {
        cursor: Option<String>,
        #[serde(default)]
        more: bool,
    }
    let Ok(Message { method, params, result, error }) = serde_json::from_slice(message) else {
        return Parsed::Refused(RpcError::new(code::UNAVAILABLE, "a message that cannot be read"));
    };
    if let Some(e) = error {
        return Parsed::Refused(e);
    }
    let name = method.unwrap_or("rows");
    let content = params.or(result).map_or("{}", RawValue::get);
    let told: Content = serde_json::from_str(content).unwrap_or(Content { cursor: None, more: false });
    let id = match name {
        "delta" => told.cursor,
        _ => {
            *cursor = told.cursor.or(cursor.take());
            if told.more { None } else { cursor.take() }
        }
    };
    Parsed::Event(event(name, content, id.as_deref()), name == "closed")
}

/// One event. Line breaks in JSON stand between its parts, never in a text: a blank is as good.
fn event(name: &str, data: &str, id: Option<&str>) -> Event {
    let event = Event::default().event(name).data(data.replace(['\r', '\n'], " "));
    match id {
        Some(id) => event.id(id),
        None => event,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn line_breaks_within_json_do_not_end_an_event() {
        let said = event("delta", "{\"note\":\r\n {\n\"a\": 1}}", Some("c"));
        let stream = futures_util::stream::iter([Ok::<_, std::convert::Infallible>(said)]);
        let body = Sse::new(stream).into_response().into_body();
        let bytes = axum::body::to_bytes(body, 1_000).await.unwrap();
        assert_eq!(bytes, "event: delta\ndata: {\"note\":   { \"a\": 1}}\nid: c\n\n");
    }
}
