//! What clients say on their connections, to an instance that serves real ones.

use std::net::SocketAddr;
use std::sync::{Arc, LazyLock, Mutex};
use std::time::Duration;

use futures_util::{SinkExt, StreamExt};
use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;
use gossip_relay::inproc::InProcess;
use gossip_server::auth::Tokens;
use gossip_server::config::Auth;
use gossip_server::instance::{Instance, Options};
use gossip_source::sqlite::{SqliteSource, triggers};
use serde_json::Value as Json;
use tokio::net::TcpStream;
use tokio::runtime::Runtime;
use tokio::signal::unix::{SignalKind, signal};
use tokio_tungstenite::tungstenite::{Message, client::IntoClientRequest};
use tokio_tungstenite::{MaybeTlsStream, WebSocketStream, connect_async};

const SECRET: &[u8] = b"a secret of at least thirty-two bytes";

/// Messages in one go, each on a line of its own.
const MOST: usize = 50;

/// Goes after which a connection is given up: nobody may call for ever as fast as they like.
const GOES: usize = 30;

/// Longest wait for anything.
const PATIENCE: Duration = Duration::from_secs(60);

type Socket = WebSocketStream<MaybeTlsStream<TcpStream>>;

struct World {
    runtime: Runtime,
    address: SocketAddr,
    token: String,
    open: Mutex<Option<(Socket, usize)>>,
    _kept: (tempfile::TempDir, Instance),
}

static WORLD: LazyLock<World> = LazyLock::new(|| {
    let runtime = Runtime::new().expect("a runtime");
    let dir = tempfile::tempdir().expect("a directory");
    let db = rusqlite::Connection::open(dir.path().join("t.db")).expect("a database");
    let schema = "PRAGMA journal_mode = WAL; CREATE TABLE t (id INTEGER PRIMARY KEY, body TEXT, ok BOOLEAN);
        INSERT INTO t (body) VALUES ('one'), ('two'), (NULL);";
    db.execute_batch(schema).expect("a schema");
    let source = SqliteSource::new("s", "sqlite:t.db", vec!["t".into()], dir.path()).expect("a source");
    let mut own = source.connect().expect("a database");
    let plan = triggers::plan(&own, &source).expect("a plan");
    triggers::carry_out(&mut own, &plan.statements).expect("triggers");
    let auth = Auth { operators: Some("ops".into()), ..Auth::default() };
    let tokens = Arc::new(Tokens::new(auth, SECRET).expect("a secret"));
    let rule = |role: &str| RuleText { role: role.into(), table: TableName::plain("t"), ..RuleText::default() };
    let options = Options {
        name: "north".into(),
        listen: SocketAddr::from(([127, 0, 0, 1], 0)),
        source: Arc::new(source),
        rules: vec![rule("ops")],
        queries: [("one".to_string(), "SELECT * FROM t WHERE id = :id".to_string())].into(),
        topics: vec![],
        tokens: Some(tokens.clone()),
        secret: SECRET.to_vec(),
        relay: Arc::new(InProcess::default()),
        queue: Default::default(),
        admission: Default::default(),
        decisions: None,
        on_failure: Default::default(),
    };
    let instance = runtime.block_on(async {
        // A fuzzer's own main does not ignore it, as that of a Rust program does.
        let _ = signal(SignalKind::pipe()).expect("a signal's handler");
        Instance::start(options).await.expect("an instance")
    });
    let (roles, claims) = (["ops".to_string()], Default::default());
    let token =
        tokens.mint_for("somebody", &roles, &claims, gossip_server::now() / 1_000_000, 86_400).expect("a token");
    World { runtime, address: instance.address(), token, open: Mutex::default(), _kept: (dir, instance) }
});

/// Takes lines, each a message to the instance: as text where it is text, else as bytes. It answers what is asked after
/// them, or closes the connection and takes another.
pub fn run(data: &[u8]) {
    let world = &*WORLD;
    world.runtime.block_on(async {
        tokio::time::timeout(PATIENCE, go(world, data)).await.expect("an answer within a minute");
    });
}

async fn go(world: &World, data: &[u8]) {
    let open = world.open.lock().expect("one at a time").take();
    let (mut socket, goes) = match open.filter(|(_, goes)| *goes < GOES) {
        Some(open) => open,
        None => (connect(world).await, 0),
    };
    for line in data.split(|b| *b == b'\n').take(MOST) {
        // Whoever is permitted to may end the instance, and then there is nothing left to be tried.
        if serde_json::from_slice::<Json>(line).is_ok_and(|call| call["method"] == "drain") {
            continue;
        }
        let message = match std::str::from_utf8(line) {
            Ok(text) => Message::text(text),
            Err(_) => Message::binary(line.to_vec()),
        };
        if socket.send(message).await.is_err() {
            return;
        }
    }
    let end = r#"{"jsonrpc":"2.0","id":"the end","method":"unsubscribe","params":{"subscription":0}}"#;
    if socket.send(Message::text(end)).await.is_err() {
        return;
    }
    loop {
        match socket.next().await {
            Some(Ok(Message::Text(text))) if text.contains(r#""id":"the end""#) => break,
            Some(Ok(Message::Text(text))) => {
                drop(serde_json::from_str::<Json>(&text).expect("JSON"));
            }
            Some(Ok(Message::Close(_)) | Err(_)) | None => return,
            Some(Ok(_)) => {}
        }
    }
    *world.open.lock().expect("one at a time") = Some((socket, goes + 1));
}

async fn connect(world: &World) -> Socket {
    let url = format!("ws://{}/v1/socket", world.address);
    let mut request = url.into_client_request().expect("an address");
    let headers = request.headers_mut();
    headers.insert("sec-websocket-protocol", "gossip.v1".parse().expect("a header"));
    headers.insert("authorization", format!("Bearer {}", world.token).parse().expect("a header"));
    connect_async(request).await.expect("a connection").0
}
