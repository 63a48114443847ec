//! What operators see of clients and do to them: who comes and goes and why, what goes over a connection, holding one back,
//! ending one.

use gossip_client::{ClientError, Incoming, ResultSet, Session};
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::system::{ClientRow, ConnectionRow, FrameRow, SystemRow};
use serde_json::{Value as Json, json};

use crate::common::{Cluster, rule};

const SCHEMA: &str = "CREATE TABLE calls (id INTEGER PRIMARY KEY, agency TEXT, note TEXT);
  INSERT INTO calls VALUES (1, 'fen', 'first'), (2, 'moor', 'other')";

async fn cluster() -> Cluster {
    let rules = vec![rule("agent", "calls", Some("agency = claim.agency"), &[])];
    Cluster::start(SCHEMA, &["calls"], rules, QueueLimits::default()).await
}

/// An operator's view of one system table.
struct Look {
    session: Session,
    live: ResultSet,
}

impl Look {
    async fn at(c: &Cluster, i: usize, query: &str) -> Look {
        let mut session = c.operator(i).await;
        let answer = session.subscribe(query).await.unwrap();
        Look { session, live: ResultSet::new(answer) }
    }

    /// The rows that there are now.
    fn rows<R: SystemRow>(&self) -> Vec<R> {
        self.live.rows.values().chain(self.live.stream.iter()).map(|row| R::read(row).unwrap()).collect()
    }

    /// Waits until its rows are so.
    async fn until<R: SystemRow + std::fmt::Debug>(&mut self, what: &str, done: impl Fn(&[R]) -> bool) -> Vec<R> {
        loop {
            let rows = self.rows::<R>();
            if done(&rows) {
                return rows;
            }
            let next = tokio::time::timeout(testbed::PATIENCE, self.session.next()).await;
            let (incoming, _) = next.unwrap_or_else(|_| panic!("{what}: {rows:?}")).unwrap();
            if let Incoming::Notification(told) = incoming {
                self.live.apply(&told).unwrap();
            }
        }
    }
}

/// The next notification's text with this in it; everything before it.
async fn hear(session: &mut Session, what: &str) -> Vec<String> {
    let mut heard = Vec::new();
    loop {
        let next = tokio::time::timeout(testbed::PATIENCE, session.next()).await;
        let (_, text) = next.unwrap_or_else(|_| panic!("{what}: {heard:?}")).unwrap();
        let found = text.contains(what);
        heard.push(text);
        if found {
            return heard;
        }
    }
}

/// The number that its instance knows a client by.
async fn number(clients: &mut Look, query: &str) -> u64 {
    let of =
        |rows: &[ClientRow]| rows.iter().find(|c| c.subscriptions.0.iter().any(|s| s.query == query)).map(|c| c.id);
    of(&clients.until::<ClientRow>("the client", |rows| of(rows).is_some()).await).unwrap()
}

const OWN: &str = "SELECT id, note FROM calls";

#[tokio::test(flavor = "multi_thread")]
async fn operators_see_who_comes_and_goes_and_what_is_said() {
    let c = cluster().await;
    let mut comings = Look::at(&c, 0, "SELECT * FROM gossip.connections").await;
    let mut clients = Look::at(&c, 0, "SELECT * FROM gossip.clients").await;
    let mut fen = c.connect(0, &["agent"], json!({"agency": "fen"})).await;
    fen.subscribe(OWN).await.unwrap();
    let fens = number(&mut clients, OWN).await;
    let mut moor = c.connect(0, &["agent"], json!({"agency": "moor"})).await;
    moor.subscribe("SELECT note FROM calls").await.unwrap();

    let query = format!("SELECT * FROM gossip.frames WHERE client = {fens}");
    let mut frames = Look::at(&c, 0, &query).await;
    // Nobody is looked at by everybody's frames, and no operator by its own.
    let everybody = Look::at(&c, 0, "SELECT * FROM gossip.frames").await;
    // The tap opens when the instance looks next.
    let mut n = 0;
    while frames.rows::<FrameRow>().is_empty() {
        n += 1;
        c.db.execute_batch(&format!("UPDATE calls SET note = 'n{n}'")).unwrap();
        hear(&mut fen, &format!("n{n}\"")).await;
        hear(&mut moor, &format!("n{n}\"")).await;
        while let Ok(Ok((incoming, _))) =
            tokio::time::timeout(std::time::Duration::from_millis(50), frames.session.next()).await
        {
            if let Incoming::Notification(told) = incoming {
                frames.live.apply(&told).unwrap();
            }
        }
        assert!(n < 1_000, "the tap never opens");
    }
    c.db.execute_batch("UPDATE calls SET note = 'seen by an operator' WHERE id = 1").unwrap();
    let token = c.token(&["agent"], json!({"agency": "fen"}));
    fen.call("authenticate", json!({"token": token})).await.unwrap();
    let both = |rows: &[FrameRow]| {
        rows.iter().any(|f| f.direction == "sent" && f.text.contains("seen by an operator"))
            && rows.iter().any(|f| f.direction == "received" && f.text.contains("authenticate"))
    };
    let seen = frames.until::<FrameRow>("both directions", both).await;
    assert!(seen.iter().all(|f| f.client == fens && f.instance == "north"), "{seen:?}");
    assert!(!seen.iter().any(|f| f.text.contains(&token)), "a token was shown");
    // Others are not tapped: what was looked at as everybody's is this client's alone.
    assert!(everybody.rows::<FrameRow>().iter().all(|f| f.client == fens));

    fen.close().await;
    let gone = |rows: &[ConnectionRow]| rows.iter().any(|r| r.client == fens && r.what == "disconnected");
    let rows = comings.until::<ConnectionRow>("it to have gone", gone).await;
    let own: Vec<&ConnectionRow> = rows.iter().filter(|r| r.client == fens).collect();
    let what: Vec<&str> = own.iter().map(|r| r.what.as_str()).collect();
    // With the token of its connection, and with another one.
    assert_eq!(what, ["connected", "authenticated", "authenticated", "disconnected"]);
    assert_eq!(own[1].subject.as_deref(), Some("somebody"));
    assert_eq!((own[3].roles.as_str(), own[3].why.as_deref()), ("agent", Some("the client has closed it, or is gone")));
    assert!(own[3].sent > 1, "{own:?}");
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_client_is_held_and_released_and_nobody_else_waits() {
    let c = cluster().await;
    let mut clients = Look::at(&c, 0, "SELECT * FROM gossip.clients").await;
    let mut fen = c.connect(0, &["agent"], json!({"agency": "fen"})).await;
    let mut live = ResultSet::new(fen.subscribe(OWN).await.unwrap());
    let mut other = c.connect(0, &["agent"], json!({"agency": "fen"})).await;
    other.subscribe("SELECT note FROM calls").await.unwrap();
    let own = number(&mut clients, OWN).await;
    let written = |rows: &[ClientRow]| rows.iter().find(|r| r.id == own).and_then(|r| r.written_to.clone());
    let before = written(&clients.until("a mark", |rows| written(rows).is_some()).await);

    // Through the other instance: operators' calls go where they belong.
    let mut far = c.operator(1).await;
    let hold = |ms: u64| json!({"client": own, "instance": "north", "ms": ms});
    far.call("hold", hold(60_000)).await.unwrap();
    for i in 0..50 {
        c.db.execute_batch(&format!("UPDATE calls SET note = 'held {i}' WHERE id = 1")).unwrap();
    }
    hear(&mut other, "held 49").await;
    let waits = |rows: &[ClientRow]| rows.iter().any(|r| r.id == own && r.waiting > 0 && r.held_ms > 0);
    let rows = clients.until("it to wait", waits).await;
    assert_eq!(written(&rows), before, "what waits was not written");
    assert!(rows.iter().filter(|r| r.id != own).all(|r| r.held_ms == 0), "{rows:?}");
    far.call("hold", hold(0)).await.unwrap();
    while live.rows["[1]"]["note"] != "held 49" {
        let next = tokio::time::timeout(testbed::PATIENCE, fen.next()).await.expect("what was held");
        if let (Incoming::Notification(told), _) = next.unwrap() {
            live.apply(&told).unwrap();
        }
    }
    clients.until("the mark to move", |rows| written(rows) > before).await;
    // It ends by itself, too.
    far.call("hold", hold(300)).await.unwrap();
    c.db.execute_batch("UPDATE calls SET note = 'later' WHERE id = 1").unwrap();
    hear(&mut fen, "later").await;
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_connection_is_ended_and_told_to_come_back() {
    let c = cluster().await;
    let mut comings = Look::at(&c, 0, "SELECT * FROM gossip.connections").await;
    let mut clients = Look::at(&c, 0, "SELECT * FROM gossip.clients").await;
    let mut fen = c.connect(0, &["agent"], json!({"agency": "fen"})).await;
    fen.subscribe(OWN).await.unwrap();
    let own = number(&mut clients, OWN).await;
    let mut operator = c.operator(0).await;
    // Also one that is held hears why.
    operator.call("hold", json!({"client": own, "ms": 60_000})).await.unwrap();
    operator.call("disconnect", json!({"client": own})).await.unwrap();
    let ended = loop {
        match tokio::time::timeout(testbed::PATIENCE, fen.next()).await.expect("the end") {
            Ok(_) => {}
            Err(ClientError::Ended(why)) => break why,
            Err(e) => panic!("{e}"),
        }
    };
    assert!(ended.contains("1012") && ended.contains("an operator has ended this connection"), "{ended}");
    let gone = |rows: &[ConnectionRow]| rows.iter().any(|r| r.client == own && r.what == "disconnected");
    let rows = comings.until::<ConnectionRow>("it to have gone", gone).await;
    let why = rows.iter().rfind(|r| r.client == own).and_then(|r| r.why.clone());
    assert!(why.is_some_and(|why| why.starts_with("an operator has ended")), "{rows:?}");

    let refused = async |operator: &mut Session, call: &str, params: Json| {
        operator.call(call, params).await.unwrap_err().to_string()
    };
    let e = refused(&mut operator, "disconnect", json!({"client": own})).await;
    assert!(e.contains("no client") && e.contains("is connected here"), "{e}");
    // Who is the only one that could release it is not held.
    let rows = clients.rows::<ClientRow>();
    let operators = rows.iter().find(|r| r.roles == "ops").map(|r| r.id).unwrap();
    let e = refused(&mut operator, "hold", json!({"client": operators, "ms": 1_000})).await;
    assert!(e.contains("an operator's own connection"), "{e}");
    let mut agent = c.connect(0, &["agent"], json!({"agency": "fen"})).await;
    for call in ["disconnect", "hold"] {
        let e = refused(&mut agent, call, json!({"client": operators, "ms": 0})).await;
        assert!(e.contains("not known or not permitted"), "{e}");
    }
    c.stop().await;
}
