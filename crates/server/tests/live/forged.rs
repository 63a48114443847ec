//! Nobody speaks as somebody else, and nobody stays in with a key that is not trusted any more.

use std::sync::Arc;

use gossip_client::{Incoming, Session};
use gossip_core::rule::{May, RuleText};
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::Notification;
use gossip_server::auth::Tokens;
use gossip_server::config::Auth;
use gossip_server::instance::{Instance, Options};
use jsonwebtoken::{Algorithm, EncodingKey, Header, encode};
use serde_json::{Value as Json, json};
use testbed::PATIENCE;

use crate::common::{Cluster, auth, rule};
use crate::topics::topics;

const SCHEMA: &str = "CREATE TABLE calls (id INTEGER PRIMARY KEY, note TEXT)";

const TOPICS: &str = r#"
[topic.tide]
key = ["gauge"]
columns = { gauge = "text", level = "int8" }
[topic.vhf]
keep = "10 minutes"
columns = { text = "text", who = { type = "text", attribute = "sender" } }
"#;

async fn cluster() -> Cluster {
    let publish = |topic| RuleText { may: May { read: false, publish: true }, ..rule("mate", topic, None, &[]) };
    let read = |topic| rule("mate", topic, None, &[]);
    let rules = vec![publish("tide"), publish("vhf"), read("tide"), read("vhf"), read("calls")];
    Cluster::with_topics(SCHEMA, &["calls"], rules, QueueLimits::default(), topics(TOPICS)).await
}

/// Posts an event as somebody; the status and the answer.
async fn post(c: &Cluster, i: usize, subject: &str, event: Json) -> (u16, Json) {
    let token = c.token(&["mate"], json!({"sub": subject}));
    let call = reqwest::Client::new()
        .post(format!("http://{}/v1/events", c.url(i)))
        .bearer_auth(token)
        .header("content-type", "application/cloudevents+json")
        .body(event.to_string());
    let answer = call.send().await.unwrap();
    let status = answer.status().as_u16();
    (status, serde_json::from_str(&answer.text().await.unwrap()).unwrap())
}

fn event(topic: &str, source: &str, id: &str, time: &str, data: Json) -> Json {
    json!({"specversion": "1.0", "type": topic, "source": source, "id": id, "time": time, "data": data})
}

async fn rows(c: &Cluster, query: &str) -> Vec<Json> {
    let mut s = c.connect(0, &["mate"], json!({})).await;
    let rows = s.subscribe(query).await.unwrap().rows;
    rows.iter().map(|r| json!(r.row)).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_suppresses_or_outlasts_anothers_event() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let c = cluster().await;
    let said = |text: &str, time: &str| event("vhf", "/radio", "7", time, json!({"text": text}));
    // Eve knows which name the next event will have, and is first.
    for (i, subject, text) in [(0, "eve", "silence"), (1, "ada", "mayday"), (0, "ada", "again")] {
        assert_eq!(post(&c, i, subject, said(text, "2026-01-01T00:00:00Z")).await.0, 200);
    }
    let now = || gossip_protocol::timestamp::rfc3339(gossip_server::now());
    assert_eq!(rows(&c, "SELECT * FROM vhf").await, [] as [Json; 0], "what is older than ten minutes is not kept");
    for (subject, text) in [("eve", "silence"), ("ada", "mayday"), ("ada", "again")] {
        let named = event("vhf", "/radio", "8", &now(), json!({"text": text}));
        assert_eq!(post(&c, 0, subject, named).await.0, 200);
    }
    // Nor does the year 9999 push out what was said before, or stay the last.
    let far = "9999-12-31T23:59:59Z";
    assert_eq!(post(&c, 1, "eve", event("vhf", "/radio", "9", far, json!({"text": "for ever"}))).await.0, 200);
    let mut who: Vec<String> = rows(&c, "SELECT * FROM vhf").await.iter().map(|r| r["text"].to_string()).collect();
    who.sort();
    assert_eq!(who, ["\"for ever\"", "\"mayday\"", "\"silence\""]);
    let level = |n: i64| json!({"gauge": "g1", "level": n});
    assert_eq!(post(&c, 0, "eve", event("tide", "/gauges", "1", far, level(1))).await.0, 200);
    let (status, answer) = post(&c, 1, "ada", event("tide", "/gauges", "1", far, level(2))).await;
    assert_eq!((status, &answer["older"]), (200, &Json::Null), "{answer}");
    assert_eq!(rows(&c, "SELECT level FROM tide").await, [json!({"level": 2})]);
    // What changes nothing because it is older is told so.
    let (status, answer) = post(&c, 0, "ada", event("tide", "/gauges", "2", "2020-01-01T00:00:00Z", level(3))).await;
    assert_eq!((status, &answer["older"]), (200, &json!([0])), "{answer}");
    assert_eq!(rows(&c, "SELECT level FROM tide").await, [json!({"level": 2})]);
    // Names that Gossip gives are nobody else's.
    for source in ["/gossip/clients/ada", "/gossip/north", "/gossip/"] {
        let (status, problem) = post(&c, 0, "eve", event("vhf", source, "10", &now(), json!({"text": "x"}))).await;
        assert_eq!(status, 400, "{problem}");
        assert!(problem.to_string().contains("is reserved"), "{problem}");
    }
    let own = event("vhf", "/gossip/clients/eve", "10", &now(), json!({"text": "x"}));
    assert_eq!(post(&c, 0, "eve", own).await.0, 200);
    c.stop().await;
}

fn signed(algorithm: Algorithm) -> String {
    let (key, kid) = match algorithm {
        Algorithm::ES256 => (EncodingKey::from_ec_pem(include_bytes!("../tokens/es256.pem")).unwrap(), "ES256"),
        _ => (EncodingKey::from_ec_pem(include_bytes!("../tokens/es384.pem")).unwrap(), "ES384"),
    };
    let exp = gossip_server::now() / 1_000_000 + 3_600;
    let claims = json!({"sub": "ada", "aud": "harbour", "exp": exp, "roles": ["mate"]});
    encode(&Header { kid: Some(kid.into()), ..Header::new(algorithm) }, &claims, &key).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_that_left_the_set_lets_nobody_in_and_keeps_nobody_in() {
    let mut c = cluster().await;
    let set: Json = serde_json::from_str(include_str!("../tokens/keys.json")).unwrap();
    let file = c.path().with_file_name("keys.json");
    let write = |without: &str| {
        let mut set = set.clone();
        set["keys"].as_array_mut().unwrap().retain(|key| key["kid"] != without);
        // As a careful operator would: never half a file.
        std::fs::write(file.with_extension("new"), set.to_string()).unwrap();
        std::fs::rename(file.with_extension("new"), &file).unwrap();
    };
    write("");
    c.instances.remove(0).unwrap().stop().await;
    let settings = Auth { jwks: Some("keys.json".into()), ..auth() };
    let tokens = Arc::new(Tokens::from_env(settings, file.parent().unwrap()).unwrap());
    let options = Options { tokens: Some(tokens), ..c.options[0].clone() };
    let instance = Instance::start(options).await.unwrap();
    let address = instance.address().to_string();
    let (leaves, stays) = (signed(Algorithm::ES256), signed(Algorithm::ES384));
    let mut out = Session::connect(&address, Some(&leaves)).await.unwrap();
    let mut within = Session::connect(&address, Some(&stays)).await.unwrap();
    for session in [&mut out, &mut within] {
        session.subscribe("SELECT * FROM calls").await.unwrap();
    }
    write("ES256");
    let closed =
        async { while !matches!(out.next().await.unwrap().0, Incoming::Notification(Notification::Closed { .. })) {} };
    tokio::time::timeout(PATIENCE, closed).await.expect("what it opened is closed");
    let stranger = out.subscribe("SELECT * FROM calls").await.unwrap_err().to_string();
    assert!(stranger.contains("not known or not permitted"), "{stranger}");
    // Whoever comes with it is told so, and let go.
    let refused = match Session::connect(&address, Some(&leaves)).await {
        Ok(mut session) => session.subscribe("SELECT * FROM calls").await.is_err(),
        Err(_) => true,
    };
    assert!(refused, "nobody comes in with it");
    within.subscribe("SELECT id FROM calls").await.expect("others stay");
    instance.stop().await;
    c.stop().await;
}
