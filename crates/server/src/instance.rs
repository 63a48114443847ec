//! One running instance: its listener, its loop, its reading thread, and their end.

use std::collections::{BTreeMap, HashMap};
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering::Relaxed};
use std::time::Duration;

use axum::Router;
use axum::extract::{ConnectInfo, Query, Request as HttpRequest, State as Shared};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::serve::ListenerExt;
use gossip_core::engine::{Limits, Request};
use gossip_core::query::parse_query;
use gossip_core::rule::{ANONYMOUS, Claims, Permitted, RuleSet, RuleText};
use gossip_core::schema::Catalog;
use gossip_core::seal::Sealer;
use gossip_core::send_queue::QueueLimits;
use gossip_core::wire::{RpcError, code};
use gossip_relay::Relay;
use gossip_source::SourceError;
use gossip_source::sqlite::schema::{Found, describe};
use gossip_source::sqlite::{SqliteSource, triggers};
use parking_lot::Mutex;
use serde_json::{Map, Value as Json, json};
use tokio::net::TcpListener;
use tokio::sync::{mpsc, oneshot, watch};
use tokio::task::JoinHandle;

use crate::auth::Tokens;
use crate::config::StoredQuery;
use crate::connection::{self, Served};
use crate::node::{self, Ask, CHANNEL, Client, State};
use crate::now;
use crate::reading::{Reading, Snapshots};
use crate::upgrade::upgrade;

/// Connections of one instance.
pub const MAX_CONNECTIONS: usize = 20_000;

/// How long a stop waits for connections to end.
const DRAIN: Duration = Duration::from_secs(5);

/// What an instance is started with.
#[derive(Clone)]
pub struct Options {
    /// Its name.
    pub name: String,
    /// Where it listens; port 0 takes a free one.
    pub listen: SocketAddr,
    /// The source.
    pub source: SqliteSource,
    /// The rules.
    pub rules: Vec<RuleText>,
    /// Stored queries by name.
    pub queries: BTreeMap<String, String>,
    /// Checks tokens; `None`: nobody can authenticate.
    pub tokens: Option<Arc<Tokens>>,
    /// The cluster's secret, from which keys for cursors are derived.
    pub secret: Vec<u8>,
    /// The relay.
    pub relay: Arc<dyn Relay>,
    /// What may wait for one client.
    pub queue: QueueLimits,
}

/// Why an instance could not start.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    /// The address cannot be listened on.
    #[error("cannot listen on {0}: {1}; choose another with instance.listen")]
    Listen(SocketAddr, std::io::Error),
    /// The source cannot be used.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// Rules do not fit the tables; one line each.
    #[error("{0}")]
    Rules(String),
    /// The relay cannot be joined.
    #[error(transparent)]
    Relay(#[from] gossip_relay::RelayError),
    /// A thread could not be started.
    #[error("cannot start the reading thread: {0}")]
    Thread(std::io::Error),
}

/// A running instance. Dropping it without [`Instance::stop`] ends it less politely.
pub struct Instance {
    name: String,
    address: SocketAddr,
    asks: mpsc::Sender<Ask>,
    stopping: watch::Sender<bool>,
    tasks: Vec<JoinHandle<()>>,
    reading: Arc<Mutex<Reading>>,
}

struct Front {
    asks: mpsc::Sender<Ask>,
    tokens: Option<Arc<Tokens>>,
    queries: Arc<BTreeMap<String, String>>,
    sealer: Arc<Sealer>,
    queue: QueueLimits,
    stopping: watch::Receiver<bool>,
    next_client: AtomicU64,
    connections: Arc<AtomicUsize>,
}

fn catalog(source: &SqliteSource) -> Result<Catalog, SourceError> {
    let db = source.connect()?;
    let mut catalog = Catalog::default();
    for wanted in &source.tables {
        if let Found::Table(t) = describe(&db, wanted)? {
            catalog.put(t.table(&source.name));
        }
    }
    Ok(catalog)
}

/// Holds rules against the tables of a source and says all that is wrong, one line each.
pub fn check_rules(rules: &[RuleText], source: &SqliteSource) -> Result<Vec<String>, SourceError> {
    let problems = RuleSet::new(rules.to_vec()).check(&catalog(source)?);
    Ok(problems.into_iter().map(|p| format!("line {}: rule: {}", p.line, p.message)).collect())
}

/// As [`check_rules`], for stored queries. Whether anybody may ask them is up to the rules.
pub fn check_queries(
    queries: &BTreeMap<String, StoredQuery>,
    source: &SqliteSource,
) -> Result<Vec<String>, SourceError> {
    let catalog = catalog(source)?;
    // Somebody who may see everything, so that only the query itself can be wrong.
    let all = catalog.iter().map(|t| RuleText {
        role: ANONYMOUS.into(),
        table: t.name.clone(),
        rows: None,
        columns: None,
        line: 0,
    });
    let (rules, claims) = (RuleSet::new(all.collect()), Claims::anonymous());
    let permitted = Permitted { catalog: &catalog, rules: &rules, claims: &claims };
    let problem = |(name, q): (&String, &StoredQuery)| {
        let e = parse_query(&q.sql, &permitted, &Map::new()).err()?;
        Some(format!("line {}: query.{name}: {e}", q.line))
    };
    Ok(queries.iter().filter_map(problem).collect())
}

impl Instance {
    /// Starts an instance. It serves when this returns.
    pub async fn start(options: Options) -> Result<Instance, StartError> {
        let source = options.source;
        let tables = {
            let db = source.connect_to_write()?;
            if !triggers::is_prepared(&db)? {
                let text = format!("database {} is not prepared; run gossip prepare first", source.path.display());
                return Err(SourceError::NotReady(text).into());
            }
            let mut tables = Vec::new();
            for wanted in &source.tables {
                match describe(&db, wanted)? {
                    Found::Table(t) => tables.push(t.table(&source.name)),
                    _ => {
                        return Err(SourceError::NotReady(format!(
                            "table {wanted} cannot be streamed; gossip check says why"
                        ))
                        .into());
                    }
                }
            }
            tables
        };
        let problems = check_rules(&options.rules, &source)?;
        if !problems.is_empty() {
            return Err(StartError::Rules(problems.join("\n")));
        }
        let listener = TcpListener::bind(options.listen).await.map_err(|e| StartError::Listen(options.listen, e))?;
        let address = listener.local_addr().map_err(|e| StartError::Listen(options.listen, e))?;
        let inbox = options.relay.join().await?;
        let reading =
            Reading::start(source.clone(), &options.name, options.relay.clone()).map_err(StartError::Thread)?;
        let reading = Arc::new(Mutex::new(reading));
        let sealer = Arc::new(Sealer::new(&options.secret));
        let (asks, asked) = mpsc::channel(CHANNEL);
        let (stopping, stop) = watch::channel(false);
        let start = node::Start {
            name: options.name.clone(),
            address,
            source: source.name.clone(),
            tables,
            rules: Arc::new(RuleSet::new(options.rules)),
            limits: Limits::default(),
            sealer: sealer.clone(),
            snapshots: Arc::new(Snapshots::new(source)),
            relay: options.relay,
            reading: reading.clone(),
            asks: asks.downgrade(),
        };
        let front = Arc::new(Front {
            asks: asks.clone(),
            tokens: options.tokens,
            queries: Arc::new(options.queries),
            sealer,
            queue: options.queue,
            stopping: stop.clone(),
            next_client: AtomicU64::new(1),
            connections: Arc::default(),
        });
        let router = Router::new()
            .route("/v1/socket", get(socket))
            .route("/v1/rows", get(rows))
            .route("/healthz", get(|| async { "ok\n" }))
            .route("/readyz", get(ready))
            .with_state(front)
            .into_make_service_with_connect_info::<SocketAddr>();
        let listener = listener.tap_io(|tcp| {
            // A delta must not wait for another one to fill a segment.
            let _ = tcp.set_nodelay(true);
        });
        let mut stopped = stop;
        let http = async move {
            let until = async move { drop(stopped.wait_for(|s| *s).await) };
            if let Err(e) = axum::serve(listener, router).with_graceful_shutdown(until).await {
                tracing::error!("listener: {e}");
            }
        };
        let tasks = vec![tokio::spawn(node::run(start, asked, inbox)), tokio::spawn(http)];
        Ok(Instance { name: options.name, address, asks, stopping, tasks, reading })
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// How it stands.
    pub async fn state(&self) -> State {
        let (answer, answered) = oneshot::channel();
        let _ = self.asks.send(Ask::State(answer)).await;
        answered.await.unwrap_or_default()
    }

    /// Puts other rules in force. Running subscriptions follow at once.
    pub async fn set_rules(&self, rules: Vec<RuleText>) {
        let _ = self.asks.send(Ask::Rules(Arc::new(RuleSet::new(rules)))).await;
    }

    /// Stops: no new connections, clients are told to come again elsewhere (1012), the reader's office is given up.
    pub async fn stop(mut self) {
        self.stopping.send_replace(true);
        let reading = self.reading.clone();
        let _ = tokio::task::spawn_blocking(move || reading.lock().stop()).await;
        drop(self.asks);
        for task in self.tasks.drain(..).rev() {
            let abort = task.abort_handle();
            if tokio::time::timeout(DRAIN, task).await.is_err() {
                abort.abort();
            }
        }
    }

    /// Ends at once, as a crash would.
    pub fn kill(self) {
        self.tasks.iter().for_each(JoinHandle::abort);
        drop(self.stopping);
        let reading = self.reading;
        std::thread::spawn(move || reading.lock().stop());
    }
}

fn bearer(headers: &HeaderMap) -> Option<String> {
    let value = headers.get(header::AUTHORIZATION)?.to_str().ok()?;
    let (scheme, token) = value.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then(|| token.trim().to_string())
}

struct Seat(Arc<AtomicUsize>);

impl Drop for Seat {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Relaxed);
    }
}

async fn socket(
    Shared(front): Shared<Arc<Front>>,
    ConnectInfo(address): ConnectInfo<SocketAddr>,
    request: HttpRequest,
) -> Response {
    let seat = Seat(front.connections.clone());
    if front.connections.fetch_add(1, Relaxed) >= MAX_CONNECTIONS {
        let text = format!("this instance has {MAX_CONNECTIONS} connections, the most it takes; try another\n");
        return (StatusCode::SERVICE_UNAVAILABLE, [(header::RETRY_AFTER, "5")], text).into_response();
    }
    let token = bearer(request.headers());
    let client = Arc::new(Client {
        id: front.next_client.fetch_add(1, Relaxed),
        address,
        since: now(),
        outbox: crate::outbox::Outbox::new(front.queue),
        subscriptions: AtomicU64::new(0),
        claims: Mutex::new(Arc::new(Claims::anonymous())),
    });
    let served = Served {
        client: client.clone(),
        asks: front.asks.clone(),
        tokens: front.tokens.clone(),
        queries: front.queries.clone(),
        sealer: front.sealer.clone(),
        stopping: front.stopping.clone(),
    };
    upgrade(request, client, move |calls| async move {
        let _seat = seat;
        connection::serve(calls, served, token).await;
    })
}

/// An error as an HTTP answer: problem details (RFC 9457).
fn problem(e: &RpcError) -> Response {
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
    headers: HeaderMap,
    Query(query): Query<HashMap<String, String>>,
) -> Response {
    match one_result(&front, &headers, query).await {
        Ok(text) => ([(header::CONTENT_TYPE, "application/json")], text).into_response(),
        Err(e) => problem(&e),
    }
}

async fn one_result(front: &Front, headers: &HeaderMap, mut q: HashMap<String, String>) -> Result<String, RpcError> {
    let claims = match (bearer(headers), &front.tokens) {
        (None, _) => Claims::anonymous(),
        (Some(token), Some(tokens)) => {
            tokens.check(&token).map_err(|e| RpcError::new(code::NOT_AUTHENTICATED, e))?.claims
        }
        (Some(_), None) => {
            return Err(RpcError::new(code::NOT_AUTHENTICATED, "this instance takes no tokens"));
        }
    };
    let query = q.remove("query").ok_or_else(|| RpcError::new(code::INVALID_PARAMS, "query is missing"))?;
    let params: Map<String, Json> = match q.remove("params") {
        None => Map::new(),
        Some(text) => serde_json::from_str(&text)
            .map_err(|_| RpcError::new(code::INVALID_PARAMS, "params: expected a JSON object"))?,
    };
    if let Some(stray) = q.keys().next() {
        return Err(RpcError::new(code::INVALID_PARAMS, format!("{stray} is not known here; known: query, params")));
    }
    let request = Request { query, params, claims: Arc::new(claims), ..Request::default() };
    let (answer, answered) = oneshot::channel();
    let stops = |_| RpcError::new(code::UNAVAILABLE, "the instance stops");
    front.asks.send(Ask::Rows(request, answer)).await.map_err(|_| stops(()))?;
    answered.await.map_err(|_| stops(()))?
}

async fn ready(Shared(front): Shared<Arc<Front>>) -> Response {
    let (answer, answered) = oneshot::channel();
    let _ = front.asks.send(Ask::State(answer)).await;
    let state = answered.await.unwrap_or_default();
    let body = json!({
        "ready": state.ready, "position": state.position, "behind_ms": state.behind_ms, "reading": state.reading,
    });
    let status = if state.ready { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE };
    (status, [(header::CONTENT_TYPE, "application/json")], format!("{body}\n")).into_response()
}
