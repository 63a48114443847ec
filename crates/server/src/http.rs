//! HTTP: the way to a socket, single results, and how the instance stands. [`crate::live`] has server-sent events.

use std::collections::HashMap;
use std::convert::Infallible;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::time::Duration;

use axum::Router;
use axum::extract::{ConnectInfo, DefaultBodyLimit, Query, Request as HttpRequest, State as Shared};
use axum::http::{HeaderMap, StatusCode, header};
use axum::middleware::{self, Next};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use gossip_core::rule::Claims;
use gossip_core::seal::Sealer;
use gossip_core::send_queue::QueueLimits;
use gossip_core::wire::{self, RpcError, code};
use parking_lot::Mutex;
use serde_json::{Map, Value as Json, json};
use tokio::sync::{mpsc, oneshot, watch};

use crate::asked::{Askable, Asked, owner};
use crate::auth::Accepted;
use crate::connection::{self, Served};
use crate::front::Seat;
use crate::live;
use crate::node::{Ask, Client, OneResult};
use crate::now;
use crate::outbox::Outbox;
use crate::posted;
use crate::record::{Record, Who};
use crate::upgrade::upgrade;

/// Longest time for the body of a request, and for what is done with it.
const BODY: Duration = Duration::from_secs(30);

/// What HTTP calls work with.
pub struct Front {
    /// The engine's loop.
    pub asks: mpsc::Sender<Ask>,
    /// Where queries come from, and who may come.
    pub askable: Askable,
    /// Seals keys, cursors and tickets.
    pub sealer: Arc<Sealer>,
    /// What may wait for one client.
    pub queue: QueueLimits,
    /// Turns true when the instance stops.
    pub stopping: watch::Receiver<bool>,
    /// Who was refused what.
    pub record: Arc<Record>,
    /// The next client's number.
    pub next_client: AtomicU64,
    /// Which part of the instance has failed, if one has.
    pub failed: watch::Receiver<Option<String>>,
}

/// All addresses.
pub fn router(front: Arc<Front>) -> Router {
    let cors = front.askable.admission.cors();
    let origins = middleware::from_fn_with_state(front.clone(), known_origins);
    Router::new()
        .route("/v1/socket", get(socket))
        .route("/v1/rows", get(rows).layer(cors.clone()))
        .route("/v1/live", get(live::live).layer(cors.clone()))
        .route(
            "/v1/tickets",
            post(live::ticket).layer::<_, Infallible>(middleware::from_fn(within)).layer(cors.clone()),
        )
        .route(
            "/v1/events",
            post(posted::events)
                .layer::<_, Infallible>(DefaultBodyLimit::max(posted::MAX_BODY))
                .layer::<_, Infallible>(middleware::from_fn(within))
                .layer(cors),
        )
        .route_layer(origins)
        .route("/healthz", get(health))
        .route("/readyz", get(ready))
        .with_state(front)
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
        })
    }

    /// Who sends a token, or nobody known.
    pub async fn who(&self, token: Option<&str>) -> Result<Option<Accepted>, RpcError> {
        let refused = |e: String| RpcError::new(code::NOT_AUTHENTICATED, e);
        match (token, &self.askable.tokens) {
            (None, _) => Ok(None),
            (Some(token), Some(tokens)) => Ok(Some(tokens.accept(token).await.map_err(refused)?)),
            (Some(_), None) => Err(refused("this instance takes no tokens".into())),
        }
    }
}

/// Gives a request up that takes too long, as one does whose body drips.
async fn within(request: HttpRequest, next: Next) -> Response {
    match tokio::time::timeout(BODY, next.run(request)).await {
        Ok(response) => response,
        Err(_) => (StatusCode::REQUEST_TIMEOUT, "the request took too long\n").into_response(),
    }
}

/// Refuses browsers from origins that are not listed.
async fn known_origins(
    Shared(front): Shared<Arc<Front>>,
    ConnectInfo(address): ConnectInfo<SocketAddr>,
    request: HttpRequest,
    next: Next,
) -> Response {
    if front.askable.admission.lets_in(request.headers()) {
        return next.run(request).await;
    }
    let e = RpcError::new(code::NOT_KNOWN, "this origin is not among instance.origins");
    front.record.refused(&Who { address: &address, claims: &Claims::anonymous() }, "a call", &e);
    (StatusCode::FORBIDDEN, e.message + "\n").into_response()
}

async fn socket(
    Shared(front): Shared<Arc<Front>>,
    ConnectInfo(address): ConnectInfo<SocketAddr>,
    request: HttpRequest,
) -> Response {
    let seat = request.extensions().get::<Arc<Seat>>().cloned();
    let token = bearer(request.headers());
    let client = front.client(address, "websocket", Claims::anonymous());
    let served = Served {
        client: client.clone(),
        asks: front.asks.clone(),
        askable: front.askable.clone(),
        record: front.record.clone(),
        sealer: front.sealer.clone(),
        stopping: front.stopping.clone(),
    };
    upgrade(request, client, move |calls| async move {
        let _seat = seat;
        connection::serve(calls, served, token).await;
    })
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

async fn rows(
    Shared(front): Shared<Arc<Front>>,
    ConnectInfo(address): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Query(query): Query<HashMap<String, String>>,
) -> Response {
    match one_result(&front, &address, &headers, query).await {
        Ok(text) => ([(header::CONTENT_TYPE, "application/json")], text).into_response(),
        Err(e) => refuse(&front, &address, "a call for rows", &e),
    }
}

/// Records that something was refused, and says so.
pub fn refuse(front: &Front, address: &SocketAddr, what: &str, e: &RpcError) -> Response {
    // Whom a token speaks of is not said where the token itself may be what is wrong.
    front.record.refused(&Who { address, claims: &Claims::default() }, what, e);
    problem(e)
}

async fn one_result(
    front: &Front,
    address: &SocketAddr,
    headers: &HeaderMap,
    mut q: HashMap<String, String>,
) -> Result<String, RpcError> {
    let who = front.who(bearer(headers).as_deref()).await?;
    let claims = Arc::new(who.map_or_else(Claims::anonymous, |a| a.claims));
    let asked = asked(&mut q)?;
    nothing_else(&q, "query, name, grant, params")?;
    let owner = owner(None, &claims, *address);
    let request = front.askable.request(asked, claims, owner).await?;
    let (answer, answered) = oneshot::channel();
    let stops = |_| RpcError::new(code::UNAVAILABLE, "the instance stops");
    front.asks.send(Ask::Rows(request, answer)).await.map_err(|_| stops(()))?;
    let one = answered.await.map_err(|_| stops(()))??;
    let sealer = front.sealer.clone();
    // A large result is put into words where nobody else waits.
    tokio::task::spawn_blocking(move || {
        let OneResult { feed, rows, cursor } = one;
        let (rows, _) = wire::rows_json(&feed, &rows, usize::MAX, usize::MAX, &sealer);
        let columns = json!(wire::columns(&feed));
        format!("{{\"columns\":{columns},\"rows\":{rows},\"cursor\":\"{cursor}\"}}")
    })
    .await
    .map_err(|_| stops(()))
}

/// What is asked, from the parameters of an address.
pub fn asked(q: &mut HashMap<String, String>) -> Result<Asked, RpcError> {
    let params: Map<String, Json> = match q.remove("params") {
        None => Map::new(),
        Some(text) => serde_json::from_str(&text)
            .map_err(|_| RpcError::new(code::INVALID_PARAMS, "params: expected a JSON object"))?,
    };
    Ok(Asked { query: q.remove("query"), name: q.remove("name"), grant: q.remove("grant"), params })
}

/// Refuses parameters that are not known.
pub fn nothing_else(q: &HashMap<String, String>, known: &str) -> Result<(), RpcError> {
    match q.keys().next() {
        None => Ok(()),
        Some(stray) => {
            let stray: String = stray.chars().take(60).collect();
            Err(RpcError::new(code::INVALID_PARAMS, format!("{stray} is not known here; known: {known}")))
        }
    }
}

/// Longest that the loop may take to say that it lives.
const HEALTHY_WITHIN: Duration = Duration::from_secs(2);

/// Whether the instance lives: asks the loop, which is what everything goes through.
async fn health(Shared(front): Shared<Arc<Front>>) -> Response {
    let failed = front.failed.borrow().clone();
    let ill = |why: String| (StatusCode::SERVICE_UNAVAILABLE, why + "\n").into_response();
    if let Some(why) = failed {
        return ill(why);
    }
    let (answer, answered) = oneshot::channel();
    let asks = async {
        front.asks.send(Ask::State(answer)).await.map_err(drop)?;
        answered.await.map_err(drop)
    };
    match tokio::time::timeout(HEALTHY_WITHIN, asks).await {
        Ok(Ok(_)) => "ok\n".into_response(),
        Ok(Err(())) => ill("the loop has ended".into()),
        Err(_) => ill(format!("the loop has not answered within {} s", HEALTHY_WITHIN.as_secs())),
    }
}

/// Whether it is ready, for everybody; the rest for operators.
async fn ready(Shared(front): Shared<Arc<Front>>, headers: HeaderMap) -> Response {
    let who = front.who(bearer(&headers).as_deref()).await;
    let operator = matches!(who, Ok(Some(accepted)) if accepted.claims.operator);
    let (answer, answered) = oneshot::channel();
    let _ = front.asks.send(Ask::State(answer)).await;
    let state = answered.await.unwrap_or_default();
    let body = match operator {
        true => json!({
            "ready": state.ready, "position": state.position, "behind_ms": state.behind_ms, "reading": state.reading,
        }),
        false => json!({"ready": state.ready, "behind_ms": state.behind_ms}),
    };
    let status = if state.ready { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE };
    (status, [(header::CONTENT_TYPE, "application/json")], format!("{body}\n")).into_response()
}
