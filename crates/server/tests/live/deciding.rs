//! Rights that an application elsewhere decides: asked, remembered, asked again; without an answer there are none.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use crate::common::{Cluster, rule};
use gossip_client::{ClientError, Incoming, ResultSet, Session};
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::Notification;
use gossip_server::authz_webhook::{Decisions, Settings};
use gossip_server::instance::{Instance, Options};
use serde_json::json;
use testbed::{Behaviour, Decider};

const SCHEMA: &str = "CREATE TABLE calls (id INTEGER PRIMARY KEY, team INTEGER, status TEXT);
  CREATE TABLE plain (id INTEGER PRIMARY KEY);
  INSERT INTO calls VALUES (1, 1, 'expected'), (2, 2, 'expected'), (3, 3, 'expected')";

struct Set {
    cluster: Cluster,
    decider: Decider,
    instance: Option<Instance>,
}

impl Set {
    async fn start(cache: Duration) -> Set {
        let rules =
            vec![rule("agent", "calls", Some("team = ANY(claim.teams)"), &[]), rule("agent", "plain", None, &[])];
        let cluster = Cluster::start(SCHEMA, &["calls", "plain"], rules, QueueLimits::default()).await;
        let decider = Decider::start();
        let settings = Settings {
            url: decider.url(),
            key_env: None,
            tables: BTreeSet::from(["calls".to_string()]),
            timeout: Duration::from_secs(1),
            cache,
        };
        let decisions = Some(Arc::new(Decisions::new(settings, "a key".into()).unwrap()));
        let listen = ([127, 0, 0, 1], 0).into();
        let options = Options { name: "third".into(), listen, decisions, ..cluster.options[0].clone() };
        let instance = Some(Instance::start(options).await.unwrap());
        Set { cluster, decider, instance }
    }

    async fn connect(&self, roles: &[&str]) -> Session {
        let address = self.instance.as_ref().unwrap().address().to_string();
        Session::connect(&address, Some(&self.cluster.token(roles, json!({})))).await.unwrap()
    }

    /// Waits until what operators are told of it fulfils a condition.
    async fn state(&self, done: impl Fn(&str) -> bool) {
        let mut ops = self.connect(&["ops"]).await;
        let query = "SELECT decisions FROM gossip.instances WHERE name = 'third'";
        let mut live = ResultSet::new(ops.subscribe(query).await.unwrap());
        let mut row = String::new();
        let read = async {
            loop {
                row = live.rows.values().next().and_then(|r| r["decisions"].as_str()).unwrap_or("").to_string();
                if done(&row) {
                    return;
                }
                if let Incoming::Notification(told) = ops.next().await.unwrap().0 {
                    live.apply(&told).unwrap();
                }
            }
        };
        let reached = tokio::time::timeout(testbed::PATIENCE, read).await;
        assert!(reached.is_ok(), "last it was {row:?}");
    }

    async fn stop(self) {
        self.instance.unwrap().stop().await;
        self.cluster.stop().await;
    }
}

async fn calls(session: &mut Session) -> Result<ResultSet, String> {
    match session.subscribe("SELECT * FROM calls").await {
        Ok(answer) => Ok(ResultSet::new(answer)),
        Err(ClientError::Refused(e)) => Err(e.message),
        Err(e) => panic!("{e}"),
    }
}

async fn until(
    session: &mut Session,
    live: &mut ResultSet,
    done: impl Fn(&Notification, &ResultSet) -> bool,
) -> Notification {
    let read = async {
        loop {
            if let Incoming::Notification(told) = session.next().await.unwrap().0 {
                if !matches!(told, Notification::Closed { .. }) {
                    live.apply(&told).unwrap();
                }
                if done(&told, live) {
                    return told;
                }
            }
        }
    };
    tokio::time::timeout(testbed::PATIENCE, read).await.expect("what was waited for")
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_decided_elsewhere_is_asked_with_a_key_remembered_and_asked_again() {
    let set = Set::start(Duration::from_secs(600)).await;
    set.decider.about("somebody", r#"{"claims": {"teams": [1, 2]}}"#);
    let mut s = set.connect(&["agent"]).await;
    let live = calls(&mut s).await.unwrap();
    assert_eq!(live.rows.keys().collect::<Vec<_>>(), ["[1]", "[2]"]);
    let (head, body) = set.decider.asked().remove(0);
    assert!(head.to_ascii_lowercase().contains("x-api-key: a key\r\n"), "{head}");
    let body: serde_json::Value = serde_json::from_str(&body).unwrap();
    assert_eq!(
        (&body["subject"], &body["table"], &body["roles"]),
        (&json!("somebody"), &json!("calls"), &json!(["agent"]))
    );
    assert!(body["params"].is_object() && body["claims"]["exp"].is_number(), "{body}");
    // Another token of the same person, and tables that are not decided there, ask nobody.
    let asked = set.decider.asked().len();
    let mut again = set.connect(&["agent"]).await;
    calls(&mut again).await.unwrap();
    again.subscribe("SELECT * FROM plain").await.unwrap();
    // What is decided about one table adds to the claims: it is not to decide about another.
    for query in ["plain WHERE id IN (SELECT id FROM calls)", "calls WHERE EXISTS (SELECT 1 FROM plain)"] {
        let refused = again.subscribe(&format!("SELECT * FROM {query}")).await.unwrap_err().to_string();
        assert!(refused.contains("the decision service decides who may read calls"), "{refused}");
    }
    assert_eq!(set.decider.asked().len(), asked, "remembered");
    // Nor does anybody who has no rule there: whether the table is there cannot be told from the time it takes.
    let mut stranger = set.connect(&["nobody"]).await;
    let refused = calls(&mut stranger).await.unwrap_err();
    assert!(refused.contains("not known or not permitted"), "{refused}");
    assert_eq!(set.decider.asked().len(), asked);
    set.stop().await;

    // Another decision is followed within the time that the last one holds.
    let set = Set::start(Duration::from_secs(8)).await;
    set.decider.about("somebody", r#"{"claims": {"teams": [1, 2]}}"#);
    let mut s = set.connect(&["agent"]).await;
    let mut live = calls(&mut s).await.unwrap();
    set.decider.about("somebody", r#"{"claims": {"teams": [3]}}"#);
    until(&mut s, &mut live, |_, l| l.rows.keys().eq(["[3]"])).await;
    set.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn slow_dead_and_lying_answers_close_and_it_recovers() {
    let set = Set::start(Duration::from_secs(1)).await;
    set.decider.about("somebody", r#"{"claims": {"teams": [1]}}"#);
    let says = |text: &str| Behaviour::Says(200, text.into());
    let token_has = r#"{"claims": {"teams": [1], "sub": "somebody else"}}"#;
    let (deep, long) = ("[".repeat(200), " ".repeat(70_000));
    for (behaviour, words) in [
        (Behaviour::Silent, "no answer within 1000 ms"),
        (Behaviour::Dead, "error sending request"),
        (Behaviour::Says(500, r#"{"claims": {"teams": [1]}}"#.into()), "it answered 500"),
        (Behaviour::Says(302, String::new()), "it answered 302"),
        (says(""), "not as it should be"),
        (says("{\"claims\": [1]}"), "no object claims"),
        (says(r#"{"claims": {"teams": [1]}, "rows": "1 = 1"}"#), "more than claims"),
        (says(token_has), "a claim that the token has"),
        (says(r#"{"claims": {"teams": [2], "teams": [1]}}"#), "a name occurs twice"),
        (says(&deep), "not as it should be"),
        (says(&long), "more than 65536 bytes"),
    ] {
        // Somebody listens, and nothing is decided anew while its time is not over.
        set.decider.behave(Behaviour::Answers);
        let mut s = set.connect(&["agent"]).await;
        let joined = async {
            // It is left alone for a moment after many failures.
            loop {
                match calls(&mut s).await {
                    Ok(live) => return live,
                    Err(e) => assert!(e.contains("not available now") && e.contains("try again"), "{e}"),
                }
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
        };
        let mut live = tokio::time::timeout(testbed::PATIENCE, joined).await.expect("it recovers");
        assert_eq!(live.rows.len(), 1);
        set.state(|s| s == "answering").await;
        set.decider.behave(behaviour.clone());
        let told = until(&mut s, &mut live, |told, _| matches!(told, Notification::Closed { .. })).await;
        let Notification::Closed { why, .. } = told else { panic!("{told:?}") };
        assert!(why.contains("the decision service did not answer"), "{why}");
        // And nobody new comes in.
        let refused = calls(&mut s).await.unwrap_err();
        assert!(refused.contains("did not answer") && !refused.contains("127.0.0.1"), "{behaviour:?}: {refused}");
        // An answer that was only late may have been the first failure.
        set.state(|s| s.starts_with("failing since 2") && s.contains(words)).await;
    }
    // While it rests it is not asked.
    let asked = set.decider.asked().len();
    let mut s = set.connect(&["agent"]).await;
    let mut left_alone = false;
    for _ in 0..20 {
        let before = set.decider.asked().len();
        let refused = calls(&mut s).await.unwrap_err();
        assert!(refused.contains("did not answer"), "{refused}");
        // A rest may just have been over.
        left_alone |= set.decider.asked().len() == before;
    }
    assert!(left_alone && set.decider.asked().len() < asked + 20);
    set.stop().await;
}

/// An answer of 400 to 499 is a no to whoever asked, however often, and nobody else notices.
#[tokio::test(flavor = "multi_thread")]
async fn a_no_to_one_is_not_a_failure_for_others() {
    let set = Set::start(Duration::from_secs(1)).await;
    set.decider.about("somebody", r#"{"claims": {"teams": [1]}}"#);
    let mut listener = set.connect(&["agent"]).await;
    let mut live = calls(&mut listener).await.unwrap();
    for status in [400, 403, 404, 429] {
        set.decider.behave(Behaviour::Says(status, "no".into()));
        for _ in 0..8 {
            let mut hostile = set.connect(&["agent"]).await;
            let params = json!({"query": "SELECT * FROM calls WHERE id > :n", "params": {"n": rand::random::<i32>()}});
            let refused = hostile.call("subscribe", params).await.unwrap_err().to_string();
            assert!(refused.contains("not permitted"), "{refused}");
        }
        // What was decided for others goes on, and new ones are asked about.
        set.decider.behave(Behaviour::Answers);
        let mut other = set.connect(&["agent"]).await;
        assert_eq!(calls(&mut other).await.unwrap().rows.len(), 1, "after {status}");
        set.state(|s| s == "answering").await;
    }
    // The no to somebody who is there takes effect when it is asked again.
    set.decider.behave(Behaviour::Says(403, String::new()));
    let told = until(&mut listener, &mut live, |told, _| matches!(told, Notification::Closed { .. })).await;
    let Notification::Closed { why, .. } = told else { panic!("{told:?}") };
    assert!(why.contains("not permitted"), "{why}");
    set.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn operators_are_told_what_was_decided() {
    let set = Set::start(Duration::from_secs(600)).await;
    let mut operator = set.connect(&["ops"]).await;
    let mut why = async |claims: serde_json::Value| {
        let question = json!({"query": "SELECT * FROM calls", "roles": ["agent"], "claims": claims});
        let answer = operator.call("explain", question).await.unwrap();
        let step = answer["steps"][0].clone();
        assert_eq!(step["step"], "decision", "{answer}");
        (answer["refused"].is_null(), step["verdict"].as_str().unwrap().to_string(), step.to_string())
    };
    set.decider.about("kind", r#"{"claims": {"teams": [1]}}"#);
    set.decider.behave(Behaviour::Answers);
    let (granted, verdict, step) = why(json!({"sub": "kind"})).await;
    assert!(granted && verdict == "yes" && step.contains("it adds teams"), "{step}");
    set.decider.behave(Behaviour::Says(403, "{}".into()));
    let (granted, verdict, step) = why(json!({"sub": "nobody"})).await;
    assert!(!granted && verdict == "no" && step.contains("refuses it"), "{step}");
    set.decider.behave(Behaviour::Dead);
    let (granted, verdict, step) = why(json!({"sub": "somebody else"})).await;
    assert!(!granted && verdict == "no" && step.contains("did not answer"), "{step}");
    set.stop().await;
}
