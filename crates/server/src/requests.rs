//! What all HTTP requests share: what they work with, who sends them, and how they are refused.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, OnceLock};

use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use gossip_core::rule::Claims;
use gossip_core::seal::Sealer;
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::{RpcError, code};
use parking_lot::Mutex;
use serde_json::{Map, Value as Json, json};
use tokio::sync::{Notify, mpsc, watch};

use crate::audit_log::{AuditLog, Caller};
use crate::auth::Accepted;
use crate::node::{Client, Command};
use crate::now;
use crate::outbox::Outbox;
use crate::query_ref::{Askable, QueryRef};

/// What HTTP calls work with.
pub struct Front {
    /// The engine's loop.
    pub asks: mpsc::Sender<Command>,
    /// Where queries come from, and who may come.
    pub askable: Askable,
    /// Seals keys, cursors and tickets.
    pub sealer: Arc<Sealer>,
    /// What may wait for one client.
    pub queue: QueueLimits,
    /// Turns true when the instance stops.
    pub stopping: watch::Receiver<bool>,
    /// Who was refused what.
    pub record: Arc<AuditLog>,
    /// The next client's number.
    pub next_client: AtomicU64,
    /// Which part of the instance has failed, if one has.
    pub failed: watch::Receiver<Option<String>>,
}

/// The token of a request.
pub fn bearer(headers: &HeaderMap) -> Option<String> {
    let value = headers.get(header::AUTHORIZATION)?.to_str().ok()?;
    let (scheme, token) = value.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then(|| token.trim().to_string())
}

impl Front {
    /// A client that has just come.
    pub fn client(&self, address: SocketAddr, transport: &'static str, claims: Claims) -> Arc<Client> {
        Arc::new(Client {
            id: self.next_client.fetch_add(1, Relaxed),
            address,
            since: now(),
            transport,
            outbox: Outbox::new(self.queue),
            subscriptions: AtomicU64::new(0),
            claims: Mutex::new(Arc::new(claims)),
            leave: Notify::new(),
            ended: OnceLock::new(),
            written_to: Mutex::new(None),
        })
    }

    /// The bearer of a token, or an anonymous client.
    ///
    /// # Errors
    /// The token is refused, or none are taken here.
    pub async fn who(&self, token: Option<&str>) -> Result<Option<Accepted>, RpcError> {
        let refused = |e: String| RpcError::new(code::NOT_AUTHENTICATED, e);
        match (token, &self.askable.tokens) {
            (None, _) => Ok(None),
            (Some(token), Some(tokens)) => Ok(Some(tokens.accept(token).await.map_err(refused)?)),
            (Some(_), None) => Err(refused("this instance takes no tokens".into())),
        }
    }
}

/// An error as an HTTP answer: problem details (RFC 9457).
pub fn problem(e: &RpcError) -> Response {
    let status = match e.code {
        code::NOT_AUTHENTICATED => StatusCode::UNAUTHORIZED,
        code::NOT_KNOWN | code::UNKNOWN_NAME => StatusCode::NOT_FOUND,
        code::LIMIT => StatusCode::TOO_MANY_REQUESTS,
        code::UNAVAILABLE => StatusCode::SERVICE_UNAVAILABLE,
        _ => StatusCode::BAD_REQUEST,
    };
    let body = json!({"title": e.message, "status": status.as_u16(), "code": e.code, "data": e.data});
    (status, [(header::CONTENT_TYPE, "application/problem+json")], body.to_string()).into_response()
}

/// Records that something was refused, and says so.
pub fn refuse(front: &Front, address: &SocketAddr, what: &str, e: &RpcError) -> Response {
    // Whom a token speaks of is not said where the token itself may be what is wrong.
    front.record.refused(&Caller { address, claims: &Claims::default() }, what, e);
    problem(e)
}

/// The query, from the parameters of a URL.
///
/// # Errors
/// `params` is no JSON object.
pub fn asked(q: &mut HashMap<String, String>) -> Result<QueryRef, RpcError> {
    let params: Map<String, Json> = match q.remove("params") {
        None => Map::new(),
        Some(text) => serde_json::from_str(&text)
            .map_err(|_| RpcError::new(code::INVALID_PARAMS, "params: expected a JSON object"))?,
    };
    Ok(QueryRef { query: q.remove("query"), name: q.remove("name"), grant: q.remove("grant"), params })
}

/// Refuses parameters that are not known.
///
/// # Errors
/// One that is not known, and those that are.
pub fn refuse_unknown(q: &HashMap<String, String>, known: &str) -> Result<(), RpcError> {
    match q.keys().next() {
        None => Ok(()),
        Some(stray) => {
            let stray: String = stray.chars().take(60).collect();
            Err(RpcError::new(code::INVALID_PARAMS, format!("{stray} is not known here; known: {known}")))
        }
    }
}
