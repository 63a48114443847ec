//! The protocol's Rust client: connect, authenticate, subscribe, and keep the result.
//!
//! A [`Session`] is one WebSocket with one owner, who calls [`Session::next`] and hands what comes to a [`ResultSet`] result.
//! It does not reconnect by itself: its owner decides when, and [`ClientError`] says why it ended. A
//! [`ReconnectingSubscription`] does: it keeps one live query over whichever instance can be reached.
//!
//! ```no_run
//! use gossip_client::{Incoming, ResultSet, Session};
//!
//! # async fn run() -> Result<(), Box<dyn std::error::Error>> {
//! let mut session = Session::connect("localhost:4750", None).await?;
//! let mut result = ResultSet::new(session.subscribe("SELECT * FROM calls").await?);
//! while let (Incoming::Notification(notification), _) = session.next().await? {
//!     result.apply(&notification)?;
//!     println!("{} rows", result.rows.len());
//! }
//! # Ok(())
//! # }
//! ```

#![cfg_attr(not(test), warn(clippy::too_many_lines))]

pub mod result_set;
pub mod subscription;

use std::collections::VecDeque;
use std::time::Duration;

use futures_util::{SinkExt, StreamExt};
use gossip_protocol::call::Subscribe;
use gossip_protocol::{Call, Notification, RpcError, SUBPROTOCOL, Subscribed, message};
use serde_json::{Value as Json, json};
use tokio::net::TcpStream;
use tokio_tungstenite::tungstenite::client::IntoClientRequest;
use tokio_tungstenite::tungstenite::protocol::WebSocketConfig;
use tokio_tungstenite::tungstenite::{Error as WsError, Message};
use tokio_tungstenite::{MaybeTlsStream, WebSocketStream};

pub use result_set::ResultSet;
pub use subscription::{ReconnectingSubscription, SubscriptionEvent};

/// Messages buffered while waiting for an answer.
const KEPT: usize = 100_000;

/// Longest message that is read: results come in parts far below this.
const MAX_MESSAGE: usize = 16 << 20;

/// How long a connection may take to be made.
const CONNECT: Duration = Duration::from_secs(10);

/// Why a call or a connection failed.
#[derive(Debug, thiserror::Error)]
pub enum ClientError {
    /// The URL is not one of an instance.
    #[error("url {0:?}: {1}")]
    Url(String, String),
    /// Nobody answers there.
    #[error("cannot connect to {0}: {1}")]
    Connect(String, String),
    /// The instance refused a call.
    #[error("{0}")]
    Refused(RpcError),
    /// The connection ended; with the close code and reason, if there were any.
    #[error("the connection ended: {0}")]
    Ended(String),
    /// Something arrived that the protocol does not know.
    #[error("not understood: {0}")]
    NotUnderstood(String),
}

/// A message from the instance.
#[derive(Clone, Debug)]
pub enum Incoming {
    /// The answer to a call.
    Answer(u64, Result<Json, RpcError>),
    /// A notification.
    Notification(Notification),
}

/// Which way a message went.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Direction {
    /// To the instance.
    Sent,
    /// From the instance.
    Received,
}

/// Somebody who is shown every message as it goes over the socket.
pub type Tap = Box<dyn FnMut(Direction, &str) + Send + Sync>;

/// One connection to an instance.
pub struct Session {
    socket: WebSocketStream<MaybeTlsStream<TcpStream>>,
    tap: Option<Tap>,
    next_id: u64,
    kept: VecDeque<(Incoming, String)>,
}

/// Turns what a user gives (`host:port`, `http://…`, `ws://…`) into the socket's URL.
///
/// # Errors
/// It is not the address of an instance.
pub fn socket_url(url: &str) -> Result<String, ClientError> {
    let fail = |why: &str| Err(ClientError::Url(url.into(), why.into()));
    let rest = match url.split_once("://") {
        None => url,
        Some(("ws" | "http", rest)) => rest,
        Some(("wss" | "https", _)) => return fail("TLS is not supported yet; use ws:// behind a tunnel"),
        Some(_) => return fail("expected ws://host:port"),
    };
    let host = rest.split('/').next().unwrap_or("");
    if host.is_empty() || host.contains('@') {
        fail("expected ws://host:port")
    } else {
        Ok(format!("ws://{host}/v1/socket"))
    }
}

impl std::fmt::Debug for Session {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Session").field("next_id", &self.next_id).finish_non_exhaustive()
    }
}

impl Session {
    /// Connects, with a token if there is one.
    ///
    /// # Errors
    /// The URL is not one of an instance, or there is no answer in time.
    pub async fn connect(url: &str, token: Option<&str>) -> Result<Session, ClientError> {
        Session::connect_within(CONNECT, url, token).await
    }

    /// The same, with another deadline than ten seconds.
    ///
    /// # Errors
    /// As [`Session::connect`].
    pub async fn connect_within(deadline: Duration, url: &str, token: Option<&str>) -> Result<Session, ClientError> {
        let full = socket_url(url)?;
        let fail = |e: String| ClientError::Connect(url.into(), e);
        let mut request = full.as_str().into_client_request().map_err(|e| fail(e.to_string()))?;
        let headers = request.headers_mut();
        headers.insert(http::header::SEC_WEBSOCKET_PROTOCOL, http::HeaderValue::from_static(SUBPROTOCOL));
        if let Some(token) = token {
            let value = http::HeaderValue::from_str(&format!("Bearer {token}"));
            let mut value = value.map_err(|_| fail("the token has characters that no token has".into()))?;
            value.set_sensitive(true);
            headers.insert(http::header::AUTHORIZATION, value);
        }
        let config = WebSocketConfig::default().max_message_size(Some(MAX_MESSAGE));
        let connecting = tokio_tungstenite::connect_async_with_config(request, Some(config), true);
        match tokio::time::timeout(deadline, connecting).await {
            Ok(Ok((socket, _))) => Ok(Session { socket, tap: None, next_id: 1, kept: VecDeque::new() }),
            Ok(Err(WsError::Http(answer))) => {
                let text = answer.body().as_deref().map(String::from_utf8_lossy).unwrap_or_default();
                Err(fail(format!("{} {}", answer.status(), text.trim())))
            }
            Ok(Err(e)) => Err(fail(e.to_string())),
            Err(_) => Err(fail(format!("no answer within {} s", deadline.as_secs()))),
        }
    }

    /// Calls this with every message from now on.
    pub fn tap(&mut self, tap: Tap) {
        self.tap = Some(tap);
    }

    /// Sends a call and returns its id; the answer comes as [`Incoming::Answer`].
    ///
    /// # Errors
    /// The connection has ended.
    pub async fn send(&mut self, call: &Call) -> Result<u64, ClientError> {
        let id = self.id();
        self.send_raw(message::request(id, call)).await?;
        Ok(id)
    }

    fn id(&mut self) -> u64 {
        self.next_id += 1;
        self.next_id - 1
    }

    /// Sends text as it is.
    ///
    /// # Errors
    /// The connection has ended.
    pub async fn send_raw(&mut self, text: String) -> Result<(), ClientError> {
        if let Some(tap) = &mut self.tap {
            tap(Direction::Sent, &text);
        }
        self.socket.send(Message::text(text)).await.map_err(|e| ClientError::Ended(e.to_string()))
    }

    /// The next message with its text. May be dropped and called again without losing one.
    ///
    /// # Errors
    /// The connection has ended, or what came is not of this protocol.
    pub async fn next(&mut self) -> Result<(Incoming, String), ClientError> {
        match self.kept.pop_front() {
            Some(kept) => Ok(kept),
            None => self.receive().await,
        }
    }

    async fn receive(&mut self) -> Result<(Incoming, String), ClientError> {
        loop {
            match self.socket.next().await {
                Some(Ok(Message::Text(text))) => {
                    if let Some(tap) = &mut self.tap {
                        tap(Direction::Received, &text);
                    }
                    return Ok((understand(&text)?, text.as_str().to_owned()));
                }
                Some(Ok(Message::Close(frame))) => {
                    let text =
                        frame.map_or("without a reason".into(), |f| format!("{} {}", u16::from(f.code), f.reason));
                    return Err(ClientError::Ended(text));
                }
                Some(Ok(_)) => {}
                Some(Err(e)) => return Err(ClientError::Ended(e.to_string())),
                None => return Err(ClientError::Ended("the instance is gone".into())),
            }
        }
    }

    /// Makes a call and waits for the answer. Notifications meanwhile are buffered for [`Session::next`].
    ///
    /// # Errors
    /// The instance refuses, or the connection ends.
    pub async fn make(&mut self, call: &Call) -> Result<Json, ClientError> {
        let id = self.send(call).await?;
        self.answer(id).await
    }

    /// Calls by name, with whatever parameters, and waits for the answer.
    ///
    /// # Errors
    /// The instance refuses, or the connection ends.
    pub async fn call(&mut self, method: &str, params: Json) -> Result<Json, ClientError> {
        let id = self.send_named(method, params).await?;
        self.answer(id).await
    }

    /// Sends a call by its name, with whatever parameters, and returns its id.
    ///
    /// # Errors
    /// The connection has ended.
    pub async fn send_named(&mut self, method: &str, params: Json) -> Result<u64, ClientError> {
        let id = self.id();
        let call = json!({"jsonrpc": "2.0", "id": id, "method": method, "params": params});
        self.send_raw(call.to_string()).await?;
        Ok(id)
    }

    async fn answer(&mut self, id: u64) -> Result<Json, ClientError> {
        loop {
            match self.receive().await? {
                (Incoming::Answer(of, answer), _) if of == id => return answer.map_err(ClientError::Refused),
                other if self.kept.len() < KEPT => self.kept.push_back(other),
                _ => return Err(ClientError::Ended("too much arrived before the answer".into())),
            }
        }
    }

    /// Subscribes and waits for the first rows.
    ///
    /// # Errors
    /// The instance refuses, or the connection ends.
    pub async fn subscribe(&mut self, asked: impl Into<Subscribe>) -> Result<Subscribed, ClientError> {
        let answer = self.make(&Call::Subscribe(Box::new(asked.into()))).await?;
        serde_json::from_value(answer).map_err(|e| ClientError::NotUnderstood(e.to_string()))
    }

    /// Says goodbye.
    pub async fn close(mut self) {
        let _ = tokio::time::timeout(Duration::from_secs(1), self.socket.close(None)).await;
    }
}

fn understand(text: &str) -> Result<Incoming, ClientError> {
    let bad = |e: serde_json::Error| ClientError::NotUnderstood(e.to_string());
    let mut json: Json = serde_json::from_str(text).map_err(bad)?;
    if json.get("method").is_some() {
        return serde_json::from_value(json).map(Incoming::Notification).map_err(bad);
    }
    let id = json.get("id").and_then(Json::as_u64).unwrap_or(0);
    if let Some(error) = json.get_mut("error") {
        return Ok(Incoming::Answer(id, Err(serde_json::from_value(error.take()).map_err(bad)?)));
    }
    let result = json.get_mut("result").map(Json::take).unwrap_or_default();
    Ok(Incoming::Answer(id, Ok(result)))
}
