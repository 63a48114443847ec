//! The scenario as a web page, `examples/harbour.html`, and what its application has to serve beside an instance: the page, the
//! client for browsers, tokens, and a fragment that is drawn here with the rights of the person who asks.

use std::collections::BTreeMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use axum::extract::{Query, Request, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use gossip_client::{ClientError, Session};
use gossip_server::auth::Tokens;
use serde::Deserialize;
use serde_json::{Map, Value, json};
use tokio::net::TcpListener;
use tokio::sync::Mutex;
use tokio::task::JoinHandle;

use crate::local::Cluster;
use crate::outcome::Failure;
use crate::personas::Persona;

const PAGE: &str = include_str!("../../../../examples/harbour.html");
const CLIENT: &str = include_str!("../../../../clients/web/gossip.js");

/// Seconds for which a page's token is good: so few that one can watch it being renewed.
const TOKEN_SECONDS: i64 = 20;

/// How long the rows of a fragment may take.
const FRAGMENT: Duration = Duration::from_secs(5);

/// What the page's application knows.
struct Application {
    cluster: Arc<Mutex<Option<Cluster>>>,
    tokens: Arc<Tokens>,
    people: BTreeMap<String, Persona>,
}

/// The page, being served.
pub struct Page {
    /// Its address.
    pub url: String,
    serving: JoinHandle<()>,
}

impl Drop for Page {
    fn drop(&mut self) {
        self.serving.abort();
    }
}

impl Page {
    /// Serves the page of these instances on this machine, at this port or a free one (0), to whoever of these people one
    /// says to be.
    ///
    /// # Errors
    /// The port is taken.
    pub async fn serve(
        cluster: Arc<Mutex<Option<Cluster>>>,
        tokens: Arc<Tokens>,
        people: BTreeMap<String, Persona>,
        port: u16,
    ) -> Result<Page, Failure> {
        let at = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
        let listener = TcpListener::bind(at).await.map_err(|e| Failure::connect(format!("--page: {at}: {e}")))?;
        let at = listener.local_addr().map_err(|e| Failure::connect(format!("--page: {e}")))?;
        let file = |ty: &'static str, text: &'static str| {
            get(move || async move { ([(header::CONTENT_TYPE, ty), (header::CACHE_CONTROL, "no-store")], text) })
        };
        let router = Router::new()
            .route("/", file("text/html; charset=utf-8", PAGE))
            .route("/gossip.js", file("text/javascript; charset=utf-8", CLIENT))
            .route("/scene", get(scene))
            .route("/token", get(token))
            .route("/berths", get(berths))
            .with_state(Arc::new(Application { cluster, tokens, people }))
            .layer(axum::middleware::from_fn(only_from_here));
        let serving = tokio::spawn(async move {
            if let Err(e) = axum::serve(listener, router).await {
                tracing::warn!("the page is no longer served: {e}");
            }
        });
        Ok(Page { url: format!("http://{at}/"), serving })
    }
}

impl Application {
    /// The instances that run, by name.
    async fn places(&self) -> Vec<(String, SocketAddr)> {
        let cluster = self.cluster.lock().await;
        let Some(cluster) = cluster.as_ref() else { return vec![] };
        let places = cluster.places().into_iter().enumerate();
        places.filter(|(i, _)| cluster.is_running(*i)).map(|(_, place)| place).collect()
    }
}

/// Refuses whoever was led here under another name: a foreign page must not get the tokens of this one.
async fn only_from_here(request: Request, next: Next) -> Response {
    let host = request.headers().get(header::HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
    match host.rsplit_once(':').map_or(host, |(name, _)| name) {
        "127.0.0.1" | "localhost" => next.run(request).await,
        _ => (StatusCode::FORBIDDEN, "this page is served on this machine only: open it at 127.0.0.1").into_response(),
    }
}

/// Where the instances are and who there is.
async fn scene(State(own): State<Arc<Application>>) -> Json<Value> {
    let instances: Map<String, Value> =
        own.places().await.into_iter().map(|(name, at)| (name, json!(format!("ws://{at}/v1/socket")))).collect();
    let people = own.people.iter().map(|(name, p)| (name.clone(), json!({"roles": p.roles, "claims": p.claims})));
    Json(json!({"instances": instances, "people": people.collect::<Map<_, _>>()}))
}

#[derive(Deserialize)]
struct Asked {
    who: String,
}

/// A token for whoever it is asked for: a real application knows from its own session who that is. Without roles there is none.
async fn token(State(own): State<Arc<Application>>, Query(Asked { who }): Query<Asked>) -> Response {
    let Some(persona) = own.people.get(&who) else {
        return (StatusCode::NOT_FOUND, "there is no such person").into_response();
    };
    if persona.roles.is_empty() {
        return String::new().into_response();
    }
    let now = gossip_server::now() / 1_000_000;
    match own.tokens.mint_for(&who, &persona.roles, &persona.claims, now, TOKEN_SECONDS) {
        Ok(token) => token.into_response(),
        Err(e) => (StatusCode::INTERNAL_SERVER_ERROR, e).into_response(),
    }
}

const BERTHS: &str = "SELECT id, name, quay, state FROM berths";

/// The berths as they are, as a piece of SVG for the chart. What may be drawn is asked of an instance with the caller's own
/// token, so that the same rules hold for a fragment as for a live query.
async fn berths(State(own): State<Arc<Application>>, headers: HeaderMap) -> Response {
    let token = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()?.strip_prefix("Bearer "));
    let mut last = String::from("no instance is running");
    for (_, at) in own.places().await {
        let read = async {
            let mut session = Session::connect(&at.to_string(), token).await?;
            let rows = session.subscribe(BERTHS).await?.rows;
            session.close().await;
            Ok::<_, ClientError>(rows.into_iter().map(|entry| entry.row).collect::<Vec<_>>())
        };
        match tokio::time::timeout(FRAGMENT, read).await {
            Ok(Ok(rows)) => return ([(header::CONTENT_TYPE, "image/svg+xml")], drawn(&rows)).into_response(),
            Ok(Err(e @ ClientError::Refused(_))) => return (StatusCode::FORBIDDEN, e.to_string()).into_response(),
            Ok(Err(e)) => last = e.to_string(),
            Err(_) => last = format!("{at} has not answered within {} s", FRAGMENT.as_secs()),
        }
    }
    (StatusCode::SERVICE_UNAVAILABLE, last).into_response()
}

/// Where each quay is on the chart, and whether its berths lie above it.
const QUAYS: [(&str, f64, f64); 4] =
    [("Kiln Quay", 46.0, 80.0), ("Old Basin", 212.0, 56.0), ("South Mole", 376.0, 80.0), ("Reedbank", 536.0, 114.0)];

/// Width and height of a berth.
const BERTH: (f64, f64) = (68.0, 24.0);

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// The berths along their quays: free ones are empty, held ones have a dashed edge, in occupied ones lies a hull.
fn drawn(rows: &[Map<String, Value>]) -> String {
    let text = |row: &Map<String, Value>, column: &str| {
        row.get(column).and_then(Value::as_str).map(escaped).unwrap_or_default()
    };
    let mut sorted: Vec<&Map<String, Value>> = rows.iter().collect();
    sorted.sort_by_key(|row| row.get("id").and_then(Value::as_i64));
    let mut svg = String::new();
    for (quay, x, y) in QUAYS {
        svg += &format!("<text class=\"quay\" x=\"{x}\" y=\"{}\">{}</text>", y - 10.0, escaped(quay));
        for (i, row) in sorted.iter().filter(|row| row.get("quay").is_some_and(|of| of == quay)).enumerate() {
            let (name, state) = (text(row, "name"), text(row, "state"));
            let (left, (w, h)) = (x + i as f64 * (BERTH.0 + 6.0), BERTH);
            svg += &format!(
                "<g class=\"berth {state}\"><title>{name}: {state}</title><rect x=\"{left}\" y=\"{y}\" width=\"{w}\" height=\"{h}\" rx=\"2\"/>"
            );
            if state == "occupied" {
                let (l, r, m) = (left + 5.0, left + w - 5.0, y + h / 2.0);
                svg += &format!(
                    "<path d=\"M{l} {} L{} {} Q{r} {} {r} {m} Q{r} {} {} {} L{l} {} Z\"/>",
                    m - 5.0,
                    r - 14.0,
                    m - 5.0,
                    m - 5.0,
                    m + 5.0,
                    r - 14.0,
                    m + 5.0,
                    m + 5.0
                );
            }
            svg += &format!("<text x=\"{}\" y=\"{}\">{name}</text></g>", left + w / 2.0, y + h + 11.0);
        }
    }
    svg
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_row_says_cannot_become_markup() {
        let row = json!({"id": 1, "name": "<script>x</script>", "quay": "Reedbank", "state": "held\" onload=\"x"});
        let svg = drawn(&[row.as_object().cloned().unwrap_or_default()]);
        assert!(!svg.contains("<script>") && !svg.contains("held\" onload"), "{svg}");
    }
}
