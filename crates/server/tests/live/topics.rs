//! Topics over real sockets: published, heard on every instance once, kept for those who come later; other programs'
//! topics; and who is present where.

use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use gossip_client::result_set::Applied;
use gossip_client::{ClientError, Incoming, ResultSet, Session};
use gossip_core::rule::{May, RuleText};
use gossip_core::schema::TableName;
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::code;
use gossip_server::admission::Admission;
use gossip_server::config::{Config, TopicSettings};
use gossip_server::instance::{Instance, Options};
use serde_json::{Map, Value as Json, json};
use testbed::{Broker, Kind, PATIENCE};

use crate::common::{Cluster, rule};

const SCHEMA: &str = "CREATE TABLE calls (id INTEGER PRIMARY KEY, note TEXT)";

/// The topics of a configuration.
pub fn topics(text: &str) -> Vec<TopicSettings> {
    let text = format!("[source.s]\nurl = 'sqlite:t.db'\ntables = ['calls']\n{text}");
    Config::parse(Path::new("gossip.toml"), &text).unwrap().topics.into_values().collect()
}

pub const TOPICS: &str = r#"
[topic.tide]
key = ["gauge"]
columns = { gauge = "text", level = { type = "float8", path = "level.m" }, at = { type = "timestamptz", attribute = "time" } }
[topic.vhf]
keep = 3
columns = { text = "text", who = { type = "text", attribute = "sender" } }
[topic.pointer]
columns = { x = "int8", who = { type = "text", attribute = "sender" } }
"#;

fn publish(role: &str, topic: &str, rows: Option<&str>) -> RuleText {
    RuleText { may: May { read: false, publish: true }, ..rule(role, topic, rows, &[]) }
}

pub async fn cluster(text: &str) -> Cluster {
    let mut presence = publish("mate", "", Some("place LIKE 'berth%' AND subject = claim.sub"));
    presence.table = TableName::system("presence");
    let seen = RuleText { rows: Some("place <> 'berth 13'".into()), may: May::default(), ..presence.clone() };
    let rules = vec![
        rule("mate", "tide", None, &[]),
        rule("mate", "vhf", None, &[]),
        rule("mate", "pointer", None, &[]),
        publish("mate", "tide", Some("gauge = claim.gauge")),
        publish("mate", "vhf", None),
        publish("mate", "pointer", None),
        presence,
        seen,
    ];
    Cluster::with_topics(SCHEMA, &["calls"], rules, QueueLimits::default(), topics(text)).await
}

struct Listening {
    session: Session,
    live: ResultSet,
}

impl Listening {
    async fn start(c: &Cluster, i: usize, query: &str) -> Listening {
        let session = c.connect(i, &["mate"], json!({"sub": "ada", "gauge": "g1"})).await;
        Listening::with(session, query).await
    }

    async fn with(mut session: Session, query: &str) -> Listening {
        let live = ResultSet::new(session.subscribe(query).await.unwrap());
        Listening { session, live }
    }

    /// The changes of the next delta.
    async fn delta(&mut self) -> Vec<Json> {
        let read = async {
            loop {
                let (Incoming::Notification(told), text) = self.session.next().await.unwrap() else { continue };
                match self.live.apply(&told).unwrap() {
                    Applied::Changed => {
                        let message: Json = serde_json::from_str(&text).unwrap();
                        return message["params"]["changes"].as_array().unwrap().clone();
                    }
                    Applied::NotMine => {}
                    other => panic!("{other:?}: {text}"),
                }
            }
        };
        tokio::time::timeout(PATIENCE, read).await.expect("a delta")
    }

    fn rows(&self) -> Vec<Json> {
        self.live.rows.values().map(|r| json!(r)).collect()
    }
}

fn refused(outcome: Result<Json, ClientError>) -> (i64, String) {
    match outcome {
        Err(ClientError::Refused(e)) => (e.code, e.message),
        other => panic!("{other:?}"),
    }
}

async fn post(c: &Cluster, i: usize, token: &str, headers: &[(&str, &str)], body: String) -> (u16, Json) {
    let mut call = reqwest::Client::new().post(format!("http://{}/v1/events", c.url(i))).bearer_auth(token).body(body);
    for (name, value) in headers {
        call = call.header(*name, *value);
    }
    let answer = call.send().await.unwrap();
    let status = answer.status().as_u16();
    (status, serde_json::from_str(&answer.text().await.unwrap()).unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn events_are_heard_on_every_instance_once_and_kept_as_declared() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let c = cluster(TOPICS).await;
    let query = "SELECT * FROM tide WHERE level > 1";
    let (mut a, mut b) = (Listening::start(&c, 0, query).await, Listening::start(&c, 1, query).await);
    let tide = |level: f64| json!({"topic": "tide", "data": {"gauge": "g1", "level": {"m": level}}});
    let position = a.session.call("publish", tide(3.5)).await.unwrap()["position"].clone();
    assert!(position.as_str().unwrap().starts_with("topics:"), "{position}");
    for l in [&mut a, &mut b] {
        let changes = l.delta().await;
        assert_eq!((&changes[0]["op"], &changes[0]["row"]["level"]), (&json!("add"), &json!(3.5)));
    }
    // It leaves the query when it falls, and comes back.
    for (level, op) in [(0.5, "remove"), (1.5, "add"), (2.5, "replace")] {
        b.session.call("publish", tide(level)).await.unwrap();
        for l in [&mut a, &mut b] {
            assert_eq!(l.delta().await[0]["op"], op);
        }
    }
    // By HTTP, in the standard's forms; an older event and a repeated one change nothing.
    let token = c.token(&["mate"], json!({"sub": "ada", "gauge": "g1"}));
    let event = |id: &str, time: Json, level: f64| {
        json!({"specversion": "1.0", "id": id, "source": "/gauges", "type": "tide", "time": time,
            "data": {"gauge": "g1", "level": {"m": level}}})
    };
    let structured = [("content-type", "application/cloudevents+json")];
    let old = event("1", json!("2020-01-01T00:00:00Z"), 9.0).to_string();
    assert_eq!(post(&c, 0, &token, &structured, old).await.0, 200);
    let later = "2100-01-01T00:00:00Z";
    let batch = json!([event("2", json!(later), 4.0), event("2", json!(later), 5.0), event("3", json!(later), 6.0)]);
    let (status, answer) =
        post(&c, 1, &token, &[("content-type", "application/cloudevents-batch+json")], batch.to_string()).await;
    assert_eq!((status, answer["positions"].as_array().unwrap().len()), (200, 3), "{answer}");
    // The retry arrives at another instance.
    assert_eq!(post(&c, 0, &token, &structured, event("3", json!(later), 7.0).to_string()).await.0, 200);
    let binary = [
        ("ce-specversion", "1.0"),
        ("ce-id", "4"),
        ("ce-source", "/gauges"),
        ("ce-type", "tide"),
        ("ce-time", "2100-01-02T00:00:00Z"),
        ("content-type", "application/json"),
    ];
    assert_eq!(post(&c, 0, &token, &binary, r#"{"gauge":"g1","level":{"m":8.0}}"#.into()).await.0, 200);
    for l in [&mut a, &mut b] {
        let mut levels = Vec::new();
        for _ in 0..3 {
            levels.push(l.delta().await[0]["row"]["level"].clone());
        }
        assert_eq!(levels, [4.0, 6.0, 8.0]);
    }
    // Nothing without a rule, and nothing that does not fit; which topics there are cannot be learnt.
    let call = |topic: &str, data: Json| json!({"topic": topic, "data": data});
    let mut nobody = c.connect(0, &["stranger"], json!({"sub": "eve"})).await;
    let (unknown, texts) =
        (refused(nobody.call("publish", call("none", json!({}))).await), "topic none is not known or not permitted");
    assert_eq!(unknown, (code::NOT_KNOWN, texts.to_string()));
    let (hidden, text) = refused(nobody.call("publish", call("tide", json!({"gauge": "g1"}))).await);
    assert_eq!((hidden, text.replace("tide", "none").as_str()), (code::NOT_KNOWN, texts));
    assert_eq!(refused(a.session.call("publish", call("tide", json!({"gauge": "g2"}))).await).0, code::NOT_KNOWN);
    let (of, text) =
        refused(a.session.call("publish", call("tide", json!({"gauge": "g1", "level": {"m": "high"}}))).await);
    assert_eq!(
        (of, text.as_str()),
        (code::INVALID_PARAMS, "topic tide: level: expected float8, got text that is not one")
    );
    let (status, problem) = post(&c, 0, "not a token", &structured, event("5", json!(later), 1.0).to_string()).await;
    assert_eq!((status, problem["code"].as_i64()), (401, Some(code::NOT_AUTHENTICATED)));
    // Who comes later gets what is kept: the last of each key, the newest three, or nothing.
    let said = ["one", "two", "three", "four", "five"];
    for text in said {
        a.session.call("publish", call("vhf", json!({"text": text, "who": "forged"}))).await.unwrap();
        a.session.call("publish", call("pointer", json!({"x": 1}))).await.unwrap();
    }
    assert_eq!(Listening::start(&c, 1, "SELECT level FROM tide").await.rows(), [json!({"level": 8.0})]);
    let vhf = c.connect(1, &["mate"], json!({})).await;
    let mut vhf = vhf;
    let rows = vhf.subscribe("SELECT * FROM vhf").await.unwrap().rows;
    let kept: Vec<Json> = rows.iter().map(|r| json!(r.row)).collect();
    assert_eq!(
        kept,
        said[2..].iter().map(|t| json!({"text": t, "who": "ada"})).collect::<Vec<_>>(),
        "and who said it is not up to them"
    );
    // One's own can be left out; nobody keeps a pointer's way.
    let mut others =
        Listening::with(c.connect(1, &["mate"], json!({"sub": "bo"})).await, "SELECT x FROM pointer WHERE who <> 'bo'")
            .await;
    assert!(others.rows().is_empty());
    others.session.call("publish", call("pointer", json!({"x": 2}))).await.unwrap();
    a.session.call("publish", call("pointer", json!({"x": 3}))).await.unwrap();
    assert_eq!(others.delta().await[0]["row"]["x"], 3);
    c.stop().await;
}

/// An instance that starts late knows what was kept.
#[tokio::test(flavor = "multi_thread")]
async fn an_instance_that_starts_later_has_the_same() {
    let c = cluster(TOPICS).await;
    let mut a = c.connect(0, &["mate"], json!({"sub": "ada", "gauge": "g1"})).await;
    a.call("publish", json!({"topic": "tide", "data": {"gauge": "g1", "level": {"m": 2.5}}})).await.unwrap();
    for n in 0..5 {
        a.call("publish", json!({"topic": "vhf", "data": {"text": format!("{n} {}", "x".repeat(30_000))}}))
            .await
            .unwrap();
    }
    let options = Options { name: "late".into(), listen: ([127, 0, 0, 1], 0).into(), ..c.options[0].clone() };
    let late = Instance::start(options).await.unwrap();
    let token = c.token(&["mate"], json!({}));
    let begun = Instant::now();
    loop {
        let mut s = Session::connect(&late.address().to_string(), Some(&token)).await.unwrap();
        let tide = s.subscribe("SELECT level FROM tide").await.unwrap().rows;
        let vhf = s.subscribe("SELECT text FROM vhf").await.unwrap().rows;
        let began = |r: &gossip_protocol::RowEntry| r.row["text"].as_str().map(|t| t[..1].to_string());
        if tide.len() == 1 && vhf.iter().filter_map(began).eq(["2", "3", "4"].map(String::from)) {
            break;
        }
        assert!(begun.elapsed() < PATIENCE, "{tide:?} {}", vhf.len());
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    late.stop().await;
    c.stop().await;
}

/// What another program says on a broker is taken in by one instance for all, and by the next one when it is gone.
#[tokio::test(flavor = "multi_thread")]
async fn another_programs_topic_is_a_table() {
    testbed::require("mosquitto_pub", "mosquitto-clients");
    let broker = Broker::start(Kind::Mosquitto);
    let from = format!("[topic.tide]\nfrom = \"{}/harbour/tide/+\"\n", broker.url());
    let mut c = cluster(&TOPICS.replace("[topic.tide]\n", &from)).await;
    let say = |name: &str, text: &str| {
        let topic = format!("harbour/tide/{name}");
        let port = broker.port().to_string();
        let done = Command::new("mosquitto_pub").args(["-p", &port, "-q", "1", "-t", &topic, "-m", text]).status();
        assert!(done.unwrap().success());
    };
    let reader = {
        let begun = Instant::now();
        loop {
            let mut s = c.operator(0).await;
            let links = s.subscribe("SELECT * FROM gossip.links").await.unwrap().rows;
            let listens = |r: &&gossip_protocol::RowEntry| r.row["foreign"] == "tide: listening";
            if let Some(link) = links.iter().find(listens) {
                break link.row["instance"].clone();
            }
            assert!(begun.elapsed() < PATIENCE, "{links:?}");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    };
    let query = "SELECT gauge, level FROM tide";
    let (mut a, mut b) = (Listening::start(&c, 0, query).await, Listening::start(&c, 1, query).await);
    say("g7", r#"{"gauge": "g7", "level": {"m": 3.25}}"#);
    for l in [&mut a, &mut b] {
        assert_eq!(l.delta().await[0]["row"], json!({"gauge": "g7", "level": 3.25}));
    }
    // What does not fit is counted and told to operators.
    for text in ["not JSON", "{}", r#"{"gauge": "g8", "level": {"m": []}}"#, "[1]"] {
        say("g8", text);
    }
    let mut s = Listening::with(c.operator(1).await, "SELECT * FROM gossip.topics WHERE name = 'tide'").await;
    while !s.rows().iter().all(|r| r["malformed"] == 4) {
        s.delta().await;
    }
    assert!(
        s.rows().iter().any(|r| r["last_malformed"].as_str().is_some_and(|t| t.starts_with("tide: "))),
        "{:?}",
        s.rows()
    );
    // The one that listens is gone; what is said before another one does is not lost.
    let i = c.options.iter().position(|o| json!(o.name) == reader).unwrap();
    c.instances[i].take().unwrap().kill();
    say("g9", r#"{"gauge": "g9", "level": {"m": 1.0}}"#);
    let left = if i == 0 { &mut b } else { &mut a };
    assert_eq!(left.delta().await[0]["row"], json!({"gauge": "g9", "level": 1.0}));
    c.stop().await;
}

/// Somebody whose connection is open and who answers nothing any more is not there either.
#[tokio::test(flavor = "multi_thread")]
async fn whoever_has_fallen_silent_is_not_present_any_more() {
    let mut c = cluster(TOPICS).await;
    c.instances[1].take().unwrap().stop().await;
    let admission = Admission { silence: Duration::from_secs(2), ..Admission::default() };
    c.instances[1] = Some(Instance::start(Options { admission, ..c.options[1].clone() }).await.unwrap());
    let mut watching = Listening::start(&c, 0, "SELECT place, subject FROM gossip.presence").await;
    let mut reads = c.connect(1, &["mate"], json!({"sub": "ada"})).await;
    let mut silent = c.connect(1, &["mate"], json!({"sub": "bo"})).await;
    for (session, place) in [(&mut reads, "berth 1"), (&mut silent, "berth 2")] {
        session.call("join", json!({"place": place})).await.unwrap();
        assert_eq!(watching.delta().await[0]["op"], "add");
    }
    let reading = tokio::spawn(async move { while reads.next().await.is_ok() {} });
    assert_eq!(watching.delta().await[0]["op"], "remove");
    let there: Vec<_> = watching.rows().iter().map(|r| r["subject"].clone()).collect();
    assert_eq!(there, ["ada"], "who answers stays");
    reading.abort();
    c.stop().await;
}

/// Nobody is anywhere in the name of a token that has ended, or under a rule that is gone.
#[tokio::test(flavor = "multi_thread")]
async fn presence_ends_with_the_token_and_with_the_rule() {
    let c = cluster(TOPICS).await;
    let mut b = Listening::start(&c, 1, "SELECT place, subject FROM gossip.presence").await;
    let (now, roles) = (gossip_server::now() / 1_000_000, ["mate".to_string()]);
    let token = c.tokens.mint_for("ada", &roles, &Map::new(), now, 5).unwrap();
    let mut ada = Session::connect(&c.url(0), Some(&token)).await.unwrap();
    ada.call("join", json!({"place": "berth 1"})).await.unwrap();
    assert_eq!(b.delta().await[0]["row"], json!({"place": "berth 1", "subject": "ada"}));
    assert_eq!(b.delta().await[0]["op"], "remove");
    ada.call("unsubscribe", json!({"subscription": 1})).await.expect_err("the connection goes on");
    let mut bo = c.connect(0, &["mate"], json!({"sub": "bo"})).await;
    bo.call("join", json!({"place": "berth 2"})).await.unwrap();
    assert_eq!(b.delta().await[0]["row"]["subject"], "bo");
    let mut rules = c.options[0].rules.clone();
    rules.retain(|r| !(r.table.is_system() && r.may.publish));
    c.instances[0].as_ref().unwrap().set_rules(rules).await;
    assert_eq!(b.delta().await[0]["op"], "remove");
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn who_is_present_is_known_everywhere_and_goes_with_its_instance() {
    let mut c = cluster(TOPICS).await;
    let query = "SELECT place, subject, data FROM gossip.presence WHERE place <> 'berth 9'";
    let mut b = Listening::start(&c, 1, query).await;
    let mut ada = c.connect(0, &["mate"], json!({"sub": "ada"})).await;
    let mut bo = c.connect(1, &["mate"], json!({"sub": "bo"})).await;
    let join = |place: &str, data: Json| json!({"place": place, "data": data});
    for place in ["berth 1", "berth 9", "berth 13"] {
        ada.call("join", join(place, json!({"mood": "calm"}))).await.unwrap();
    }
    let changes = b.delta().await;
    assert_eq!(changes[0]["row"], json!({"place": "berth 1", "subject": "ada", "data": {"mood": "calm"}}));
    bo.call("join", join("berth 1", Json::Null)).await.unwrap();
    assert_eq!(b.delta().await[0]["row"]["subject"], "bo");
    ada.call("join", join("berth 1", json!({"mood": "busy"}))).await.unwrap();
    assert_eq!(b.delta().await[0]["row"]["data"], json!({"mood": "busy"}));
    // Rules say where one may be; nothing else is taken.
    assert_eq!(refused(ada.call("join", join("bridge", Json::Null)).await).0, code::NOT_KNOWN);
    assert_eq!(refused(ada.call("leave", json!({"place": "berth 2"})).await).0, code::UNKNOWN_NAME);
    assert_eq!(refused(ada.call("join", join("berth 3", json!("x".repeat(5_000)))).await).0, code::LIMIT);
    let mut eve = c.connect(1, &["stranger"], json!({"sub": "eve"})).await;
    assert_eq!(refused(eve.call("join", join("berth 1", Json::Null)).await).0, code::NOT_KNOWN);
    let asked = eve.subscribe(query).await;
    assert!(matches!(asked, Err(ClientError::Refused(e)) if e.code == code::NOT_KNOWN));
    // By call, and by going away.
    ada.call("leave", json!({"place": "berth 1"})).await.unwrap();
    assert_eq!(b.delta().await[0]["op"], "remove");
    ada.call("join", join("berth 2", Json::Null)).await.unwrap();
    b.delta().await;
    drop(ada);
    assert_eq!(b.delta().await[0]["op"], "remove");
    // Those of an instance that is killed go with it, and nobody else does.
    let mut cy = c.connect(0, &["mate"], json!({"sub": "cy"})).await;
    cy.call("join", join("berth 4", Json::Null)).await.unwrap();
    assert_eq!(b.delta().await[0]["row"]["subject"], "cy");
    // Long enough for everybody to have said several times who is there.
    let mut others = Listening::with(c.operator(1).await, "SELECT since, name FROM gossip.instances").await;
    while others.rows().len() < 2 {
        others.delta().await;
    }
    c.instances[0].take().unwrap().kill();
    let changes = b.delta().await;
    assert_eq!((changes.len(), &changes[0]["op"]), (1, &json!("remove")));
    let subjects: Vec<_> = b.rows().iter().map(|r| r["subject"].clone()).collect();
    assert_eq!(subjects, ["bo"]);
    while others.rows().len() > 1 {
        others.delta().await;
    }
    c.stop().await;
}
