//! HTTP: the way to a socket, single results, and how the instance stands. [`crate::sse`] has server-sent events.

use std::collections::HashMap;
use std::convert::Infallible;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::extract::{ConnectInfo, DefaultBodyLimit, Query, Request as HttpRequest, State as Shared};
use axum::http::{HeaderMap, StatusCode, header};
use axum::middleware::{self, Next};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use gossip_core::rule::Claims;
use gossip_core::wire;
use gossip_protocol::{RpcError, code};
use serde_json::json;
use tokio::sync::oneshot;

use crate::audit_log::Caller;
use crate::connection::{self, Served};
use crate::front::Seat;
use crate::node::{Command, OneResult};
use crate::publish_http;
use crate::query_ref::owner;
use crate::requests::{Front, asked, bearer, refuse, refuse_unknown};
use crate::sse;
use crate::upgrade::upgrade;

/// Longest time for the body of a request, and for what is done with it.
const BODY: Duration = Duration::from_secs(30);

/// All addresses.
pub fn router(front: Arc<Front>) -> Router {
    let cors = front.askable.admission.cors();
    let origins = middleware::from_fn_with_state(front.clone(), known_origins);
    Router::new()
        .route("/v1/socket", get(socket))
        .route("/v1/rows", get(rows).layer(cors.clone()))
        .route("/v1/live", get(sse::live).layer(cors.clone()))
        .route("/v1/tickets", post(sse::ticket).layer::<_, Infallible>(middleware::from_fn(within)).layer(cors.clone()))
        .route(
            "/v1/events",
            post(publish_http::events)
                .layer::<_, Infallible>(DefaultBodyLimit::max(publish_http::MAX_BODY))
                .layer::<_, Infallible>(middleware::from_fn(within))
                .layer(cors),
        )
        .route_layer(origins)
        .route("/healthz", get(health))
        .route("/readyz", get(ready))
        .with_state(front)
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
    front.record.refused(&Caller { address: &address, claims: &Claims::anonymous() }, "a call", &e);
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

async fn one_result(
    front: &Front,
    address: &SocketAddr,
    headers: &HeaderMap,
    mut q: HashMap<String, String>,
) -> Result<String, RpcError> {
    let who = front.who(bearer(headers).as_deref()).await?;
    let claims = Arc::new(who.map_or_else(Claims::anonymous, |a| a.claims));
    let asked = asked(&mut q)?;
    refuse_unknown(&q, "query, name, grant, params")?;
    let owner = owner(None, &claims, *address);
    let request = front.askable.request(asked, claims, owner).await?;
    let (answer, answered) = oneshot::channel();
    let stops = |_| RpcError::new(code::UNAVAILABLE, "the instance stops");
    front.asks.send(Command::Rows(request, answer)).await.map_err(|_| stops(()))?;
    let one = answered.await.map_err(|_| stops(()))??;
    let sealer = front.sealer.clone();
    // A large result is encoded off the runtime's threads.
    tokio::task::spawn_blocking(move || {
        let OneResult { feed, rows, cursor } = one;
        let (rows, _) = wire::rows_json(&feed, &rows, usize::MAX, usize::MAX, false, &sealer);
        let (columns, shape) = (json!(wire::columns(&feed)), wire::shape(&feed).word());
        format!("{{\"columns\":{columns},\"shape\":\"{shape}\",\"rows\":{rows},\"cursor\":\"{cursor}\"}}")
    })
    .await
    .map_err(|_| stops(()))
}

/// Longest that the loop may take to say that it lives.
const HEALTHY_WITHIN: Duration = Duration::from_secs(2);

/// Whether the instance is alive: pings the loop, which everything goes through.
async fn health(Shared(front): Shared<Arc<Front>>) -> Response {
    let failed = front.failed.borrow().clone();
    let ill = |why: String| (StatusCode::SERVICE_UNAVAILABLE, why + "\n").into_response();
    if let Some(why) = failed {
        return ill(why);
    }
    let (answer, answered) = oneshot::channel();
    let asks = async {
        front.asks.send(Command::State(answer)).await.map_err(drop)?;
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
    let _ = front.asks.send(Command::State(answer)).await;
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
