//! Server-sent events, the tickets that they need, and queries that no client has written.

use std::sync::Arc;
use std::time::Duration;

use crate::common::{Cluster, auth, rule};
use gossip_core::send_queue::QueueLimits;
use gossip_server::admission::Admission;
use gossip_server::auth::Tokens;
use gossip_server::instance::{Instance, Options};
use serde_json::{Map, Value as Json, json};

const SCHEMA: &str = "CREATE TABLE calls (id INTEGER PRIMARY KEY, agency TEXT, status TEXT);
  INSERT INTO calls VALUES (1, 'Brightwater', 'expected'), (2, 'Northlight', 'expected')";

async fn cluster(queue: QueueLimits) -> Cluster {
    let rules = vec![
        rule("agent", "calls", Some("agency = claim.agency"), &[]),
        rule("control", "calls", None, &[]),
        rule("anonymous", "calls", Some("status = 'expected'"), &["id", "status"]),
    ];
    Cluster::start(SCHEMA, &["calls"], rules, queue).await
}

fn http() -> reqwest::Client {
    // Only the first call of a process can, and needs to.
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::new()
}

/// A stream of events, read as it comes.
struct Stream {
    response: reqwest::Response,
    unread: String,
}

#[derive(Debug)]
struct Event {
    name: String,
    id: Option<String>,
    data: Json,
}

impl Stream {
    async fn open(url: &str, query: &[(&str, &str)], headers: &[(&str, &str)]) -> Result<Stream, (u16, Json)> {
        let mut request = http().get(format!("http://{url}/v1/live?{}", encoded(query)));
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        let response = request.send().await.unwrap();
        let (status, kind) =
            (response.status().as_u16(), response.headers()["content-type"].to_str().unwrap().to_string());
        if status != 200 {
            assert_eq!(kind, "application/problem+json");
            return Err((status, serde_json::from_str(&response.text().await.unwrap()).unwrap()));
        }
        assert_eq!(kind, "text/event-stream");
        Ok(Stream { response, unread: String::new() })
    }

    /// The next event; `None` at the end of the stream.
    async fn any(&mut self) -> Option<Event> {
        let read = async {
            loop {
                if let Some((text, rest)) = self.unread.split_once("\n\n") {
                    let (text, rest) = (text.to_string(), rest.to_string());
                    self.unread = rest;
                    let field = |name: &str| text.lines().find_map(|l| l.strip_prefix(name)?.strip_prefix(": "));
                    if let (Some(name), Some(data)) = (field("event"), field("data")) {
                        let id = field("id").map(String::from);
                        return Some(Event { name: name.into(), id, data: serde_json::from_str(data).unwrap() });
                    }
                    continue;
                }
                let piece = self.response.chunk().await.ok().flatten()?;
                self.unread += std::str::from_utf8(&piece).unwrap();
            }
        };
        tokio::time::timeout(testbed::PATIENCE, read).await.expect("an event")
    }

    /// The next event that tells of the result.
    async fn next(&mut self) -> Event {
        loop {
            let event = self.any().await.expect("an event");
            if event.name != "current" {
                return event;
            }
        }
    }
}

fn encoded(query: &[(&str, &str)]) -> String {
    let plain = |c: u8| c.is_ascii_alphanumeric() || b"-_.~".contains(&c);
    let one = |text: &str| -> String {
        text.bytes().map(|c| if plain(c) { (c as char).to_string() } else { format!("%{c:02X}") }).collect()
    };
    query.iter().map(|(k, v)| format!("{k}={}", one(v))).collect::<Vec<_>>().join("&")
}

async fn ticket(url: &str, token: Option<&str>, body: Json) -> (u16, Json) {
    let request = http().post(format!("http://{url}/v1/tickets")).header("content-type", "application/json");
    let request = match token {
        Some(token) => request.header("authorization", format!("Bearer {token}")),
        None => request,
    };
    let response = request.body(body.to_string()).send().await.unwrap();
    let status = response.status().as_u16();
    (status, serde_json::from_str(&response.text().await.unwrap()).unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_ticket_opens_its_query_again_and_again_until_the_token_ends() {
    let c = cluster(QueueLimits::default()).await;
    let token = c.token(&["agent"], json!({"agency": "Brightwater"}));
    let body = json!({"query": "SELECT * FROM calls WHERE status = :s", "params": {"s": "expected"}});
    let (status, made) = ticket(&c.url(0), Some(&token), body).await;
    assert!(status == 201 && made["expires"].as_str().unwrap().ends_with('Z'), "{made}");
    let made = made["ticket"].as_str().unwrap();
    assert!(!made.contains(&token[..20]), "sealed");

    let mut events = Stream::open(&c.url(0), &[("ticket", made)], &[]).await.unwrap();
    let first = events.next().await;
    assert!(first.name == "rows" && first.data["rows"].as_array().unwrap().len() == 1, "{first:?}");
    c.db.execute_batch("INSERT INTO calls VALUES (3, 'Brightwater', 'expected'), (4, 'Northlight', 'expected')")
        .unwrap();
    let delta = events.next().await;
    assert_eq!((delta.name.as_str(), &delta.data["changes"][0]["key"]), ("delta", &json!([3])));
    assert_eq!(delta.data["changes"].as_array().unwrap().len(), 1, "the other row is another agency's");
    assert_eq!(delta.id.as_deref(), delta.data["cursor"].as_str());
    drop(events);

    // It comes back, on the other instance, and goes on where it was.
    c.db.execute_batch("DELETE FROM calls WHERE id = 1").unwrap();
    let last = delta.id.unwrap();
    let mut events = Stream::open(&c.url(1), &[("ticket", made)], &[("last-event-id", &last)]).await.unwrap();
    let mut told = events.next().await;
    if told.data["resumed"] == true {
        told = events.next().await;
        assert_eq!((told.name.as_str(), &told.data["changes"][0]), ("delta", &json!({"op": "remove", "key": [1]})));
    } else {
        // This instance has not got as far yet: then all of it comes.
        assert_eq!(told.data["rows"][0]["key"], json!([3]), "{told:?}");
    }
    drop(events);

    // Nobody else's, and for nothing else.
    let mut bad = made.to_string();
    bad.replace_range(40..41, if &made[40..41] == "A" { "B" } else { "A" });
    for (query, status, words) in [
        (vec![("ticket", bad.as_str())], 401, "not one of this cluster's"),
        (vec![("ticket", last.as_str())], 401, "not one of this cluster's"),
        (vec![("ticket", made), ("query", "SELECT * FROM calls")], 400, "query is not known here"),
        (vec![("ticket", made), ("params", "{\"s\": \"inbound\"}")], 400, "params is not known here"),
        (vec![("query", "SELECT note FROM calls")], 404, "not known or not permitted"),
        (vec![("query", "SELECT id FROM calls WHERE")], 400, "the text ends here"),
        (vec![("query", "SELECT id FROM calls"), ("every_ms", "x")], 400, "every_ms: expected a number"),
        (vec![], 400, "query is missing"),
    ] {
        let (got, e) = Stream::open(&c.url(0), &query, &[]).await.err().unwrap();
        assert!(got == status && e["title"].as_str().unwrap().contains(words), "{query:?}: {got} {e}");
    }
    let (status, e) = ticket(&c.url(0), None, json!({"query": "SELECT * FROM calls"})).await;
    assert!(status == 401, "{e}");
    for (body, status, words) in [
        (json!({"query": "SELECT * FROM calls", "token": "x"}), 400, "unknown field `token`"),
        (json!({"name": "none"}), 404, "no stored query none"),
        (json!({"query": "S".repeat(8_000)}), 429, "a ticket of"),
    ] {
        let (got, e) = ticket(&c.url(0), Some(&token), body).await;
        assert!(got == status && e["title"].as_str().unwrap().contains(words), "{got} {e}");
    }
    // Without a ticket, as somebody or nobody.
    let mut events = Stream::open(&c.url(0), &[("query", "SELECT * FROM calls")], &[]).await.unwrap();
    assert_eq!(events.next().await.data["columns"].as_array().unwrap().len(), 2);
    let bearer = format!("Bearer {token}");
    let mut events =
        Stream::open(&c.url(0), &[("query", "SELECT * FROM calls")], &[("authorization", &bearer)]).await.unwrap();
    assert_eq!(events.next().await.data["columns"].as_array().unwrap().len(), 3);
    c.stop().await;
    assert!(loop_to_end(events).await, "the stream ends with the instance");
}

async fn loop_to_end(mut events: Stream) -> bool {
    while events.any().await.is_some() {}
    true
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stream_ends_with_its_token_and_brings_a_slow_reader_up_to_date() {
    let c = cluster(QueueLimits { deltas: 4, bytes: 4_000 }).await;
    let mut facts = Map::new();
    facts.insert("agency".into(), "Brightwater".into());
    let ends_soon =
        c.tokens.mint_for("somebody", &["agent".into()], &facts, gossip_server::now() / 1_000_000, 2).unwrap();
    // What a token needs to be accepted is asked of tickets too; the leeway of clocks is not.
    let (status, made) = ticket(&c.url(0), Some(&ends_soon), json!({"query": "SELECT * FROM calls"})).await;
    assert_eq!(status, 201, "{made}");
    let made = made["ticket"].as_str().unwrap();
    let mut events = Stream::open(&c.url(0), &[("ticket", made)], &[]).await.unwrap();
    let mut told = events.next().await;
    while told.name != "closed" {
        told = events.next().await;
    }
    assert!(told.data["why"].as_str().unwrap().contains("expired"), "{told:?}");
    assert!(loop_to_end(events).await);

    // Nothing is read while much more happens than may wait, or than the sockets hold.
    let token = format!("Bearer {}", c.token(&["control"], json!({})));
    let query = [("query", "SELECT * FROM calls")];
    let mut events = Stream::open(&c.url(0), &query, &[("authorization", &token)]).await.unwrap();
    let mut watcher = c.connect(0, &["control"], json!({})).await;
    let mut live = gossip_client::ResultSet::new(watcher.subscribe(query[0].1).await.unwrap());
    let long = "x".repeat(200_000);
    for n in 0..80 {
        c.db.execute_batch(&format!("UPDATE calls SET status = '{n} {long}' WHERE id = 1")).unwrap();
        let prefix = format!("{n} ");
        let read = async {
            while !live.rows["[1]"]["status"].as_str().unwrap().starts_with(&prefix) {
                if let gossip_client::Incoming::Notification(told) = watcher.next().await.unwrap().0 {
                    live.apply(&told).unwrap();
                }
            }
        };
        tokio::time::timeout(testbed::PATIENCE, read).await.expect("it is heard elsewhere");
    }
    let mut deltas = 0;
    loop {
        let told = events.next().await;
        let text = told.data.to_string();
        deltas += usize::from(told.name == "delta");
        if text.contains("\"79 x") {
            break;
        }
    }
    assert!(deltas < 79, "some were left out for a snapshot");
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn stored_and_granted_queries_may_name_claims_and_nothing_else_gets_in() {
    let c = cluster(QueueLimits::default()).await;
    let grants = Tokens::new(auth(), crate::common::SECRET).unwrap();
    let minted = |facts: Json, seconds: i64| {
        grants.mint(facts.as_object().unwrap().clone(), gossip_server::now() / 1_000_000, seconds).unwrap()
    };
    let stored = [
        ("mine", "SELECT id FROM calls WHERE agency = claim.agency AND status = :s"),
        ("teams", "SELECT id FROM calls WHERE agency = ANY(claim.teams)"),
    ];
    let options = Options {
        name: "strict".into(),
        listen: ([127, 0, 0, 1], 0).into(),
        queries: stored.map(|(n, q)| (n.to_string(), q.to_string())).into(),
        admission: Admission { stored_only: true, ..Admission::default() },
        tokens: Some(Arc::new(Tokens::new(auth(), crate::common::SECRET).unwrap())),
        ..c.options[0].clone()
    };
    let strict = Instance::start(options).await.unwrap();
    let url = strict.address().to_string();
    let token = c.token(&["control"], json!({"agency": "Northlight"}));
    let mut s = gossip_client::Session::connect(&url, Some(&token)).await.unwrap();
    let rows = |answer: Json| answer["rows"].as_array().unwrap().len();
    let told = s.call("subscribe", json!({"name": "mine", "params": {"s": "expected"}})).await.unwrap();
    assert_eq!((rows(told.clone()), &told["rows"][0]["key"]), (1, &json!([2])));
    let grant = json!({"query": "SELECT * FROM calls WHERE agency = :a", "params": {"a": "Brightwater"}});
    let own = minted(json!({"sub": "somebody", "grant": grant}), 600);
    let told = s.call("subscribe", json!({"grant": own})).await.unwrap();
    assert_eq!((rows(told.clone()), &told["rows"][0]["key"]), (1, &json!([1])));
    let unbound = minted(json!({"grant": {"query": "SELECT id FROM calls WHERE agency = claim.agency"}}), 600);
    assert_eq!(rows(s.call("subscribe", json!({"grant": unbound.clone()})).await.unwrap()), 1);

    let late = minted(json!({"grant": grant}), -600);
    let others = minted(json!({"sub": "somebody else", "grant": grant}), 600);
    let odd = minted(json!({"grant": {"query": "SELECT id FROM calls", "rows": "all"}}), 600);
    let hidden = minted(json!({"grant": {"query": "SELECT secret FROM calls"}}), 600);
    // Somebody else's words under our signature.
    let forged = format!("{}.{}", unbound.rsplit_once('.').unwrap().0, own.rsplit_once('.').unwrap().1);
    for (call, words) in [
        (json!({"query": "SELECT * FROM calls"}), "stored queries only"),
        (json!({"name": "teams"}), "the query needs claim.teams, which is missing"),
        (json!({"name": "mine"}), "parameter :s"),
        (json!({"name": "mine", "grant": own}), "expected one of them"),
        (json!({"grant": own, "params": {"a": "Northlight"}}), "params: those of a grant are in the grant"),
        (json!({"grant": token}), "the token grants no query"),
        (json!({"grant": late}), "expired"),
        (json!({"grant": others}), "for another subject"),
        (json!({"grant": odd}), "the grant is not"),
        (json!({"grant": forged}), "signature"),
        (json!({"grant": hidden}), "not known or not permitted"),
    ] {
        let e = s.call("subscribe", call.clone()).await.unwrap_err().to_string();
        assert!(e.contains(words), "{call}: {e}");
    }
    let mut as_token = gossip_client::Session::connect(&url, Some(&own)).await.unwrap();
    let refused = as_token.call("unsubscribe", json!({})).await.unwrap_err().to_string();
    assert!(refused.contains("pass it to subscribe"), "a grant is no token: {refused}");
    // A claim in a client's own query is not understood, whatever it may be called.
    let mut free = c.connect(0, &["control"], json!({"agency": "Northlight"})).await;
    let own = json!({"query": "SELECT id FROM calls WHERE agency = claim.agency"});
    assert!(free.call("subscribe", own).await.is_err());
    // A renewed token with other claims changes what a stored query is about.
    let other = c.token(&["control"], json!({"agency": "Brightwater"}));
    s.call("authenticate", json!({"token": other})).await.unwrap();
    let read = async {
        loop {
            let text = format!("{:?}", s.next().await.unwrap().0);
            if text.contains("Snapshot") && text.contains("rights-changed") {
                return text;
            }
        }
    };
    let told = tokio::time::timeout(Duration::from_secs(60), read).await.expect("another result");
    assert!(told.contains("[Number(1)]"), "{told}");
    strict.stop().await;
    c.stop().await;
}
