//! What operators are told of topics and presence, and of those who may not publish.

use std::collections::BTreeMap;

use gossip_client::{ClientError, Incoming, Session};
use gossip_protocol::call::Subscribe;
use gossip_protocol::system::{EventRow, SystemRow, VerdictRow};
use gossip_protocol::{ChangeEntry, Notification, code};
use serde_json::{Value as Json, json};
use testbed::PATIENCE;

use crate::common::Cluster;
use crate::topics::{TOPICS, cluster};

/// Reads rows that are added to a stream until there are enough.
async fn rows<R: SystemRow>(session: &mut Session, enough: impl Fn(&[R]) -> bool) -> Vec<R> {
    let mut rows = Vec::new();
    let read = async {
        while !enough(&rows) {
            let (Incoming::Notification(Notification::Delta { changes, .. }), _) = session.next().await.unwrap() else {
                continue;
            };
            rows.extend(changes.into_iter().filter_map(|c| match c {
                ChangeEntry::Add { row, .. } => Some(R::read(&row).unwrap()),
                _ => None,
            }));
        }
    };
    tokio::time::timeout(PATIENCE, read).await.expect("rows of the stream");
    rows
}

/// Subscribes, and publishes until one of the events is told of: an instance looks once a second whether somebody listens.
async fn listen(c: &Cluster, i: usize, publisher: &mut Session) -> Session {
    let mut operator = c.operator(i).await;
    operator.subscribe("SELECT * FROM gossip.events").await.unwrap();
    let heard = async {
        loop {
            let event = json!({"topic": "pointer", "data": {"x": 0}});
            publisher.call("publish", event).await.unwrap();
            let next = tokio::time::timeout(
                std::time::Duration::from_millis(200),
                rows::<EventRow>(&mut operator, |r| !r.is_empty()),
            );
            if next.await.is_ok() {
                return;
            }
        }
    };
    tokio::time::timeout(PATIENCE, heard).await.expect("an event is told of");
    operator
}

#[tokio::test(flavor = "multi_thread")]
async fn an_event_has_the_same_identity_at_every_instance_and_a_verdict_there() {
    let c = cluster(TOPICS).await;
    let mut ada = c.connect(0, &["mate"], json!({"sub": "ada", "gauge": "g1"})).await;
    // The second instance counts otherwise: it has had an event that the first had not taken yet.
    let mut told = Vec::new();
    for i in 0..2 {
        told.push(listen(&c, i, &mut ada).await);
    }
    let mut watched = c.connect(1, &["mate"], json!({"sub": "bo"})).await;
    let observed = Subscribe { observed: Some("bo".into()), ..Subscribe::from("SELECT * FROM vhf") };
    watched.subscribe(observed).await.unwrap();
    let mut verdicts = c.operator(1).await;
    verdicts.subscribe("SELECT * FROM gossip.verdicts").await.unwrap();

    ada.call("publish", json!({"topic": "vhf", "data": {"text": "inbound"}})).await.unwrap();
    ada.call("join", json!({"place": "berth 7", "data": {"boat": "Juniper"}})).await.unwrap();
    let is = |row: &EventRow, table: &str| row.changes.0.iter().any(|c| c.table == table);
    let mut identities: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    let mut place = String::new();
    for (i, session) in told.iter_mut().enumerate() {
        let both =
            |rows: &[EventRow]| rows.iter().any(|r| is(r, "vhf")) && rows.iter().any(|r| is(r, "gossip.presence"));
        for row in rows::<EventRow>(session, both).await {
            assert_eq!(row.instance, c.options[i].name);
            if is(&row, "vhf") {
                assert_eq!((row.kind.as_str(), row.rows), ("topic", 1));
                assert_eq!(row.changes.0[0].new.as_ref().unwrap()["text"], "inbound");
                identities.entry("vhf").or_default().push(row.identity);
                place = row.position;
            } else if is(&row, "gossip.presence") {
                assert_eq!(row.kind, "presence");
                identities.entry("presence").or_default().push(row.identity);
            }
        }
    }
    for (what, found) in &identities {
        assert!(found.len() == 2 && found[0] == found[1] && !found[0].is_empty(), "{what}: {found:?}");
    }
    assert_ne!(identities["vhf"][0], identities["presence"][0]);
    // The verdict stands at the position that this instance has told.
    let of_event = |v: &VerdictRow| v.verdict == "matched" && v.position == place;
    rows::<VerdictRow>(&mut verdicts, |rows| rows.iter().any(of_event)).await;
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn verdicts_that_are_observed_bring_about_no_verdicts() {
    let c = cluster(TOPICS).await;
    let _operator = c.operator(0).await;
    let mut watched = c.operator(0).await;
    let observed = Subscribe { observed: Some("loop".into()), ..Subscribe::from("SELECT * FROM gossip.verdicts") };
    watched.subscribe(observed).await.unwrap();
    let presence = Subscribe { observed: Some("people".into()), ..Subscribe::from("SELECT * FROM gossip.presence") };
    let mut people = c.connect(0, &["mate"], json!({"sub": "bo"})).await;
    people.subscribe(presence).await.unwrap();
    let mut ada = c.connect(0, &["mate"], json!({"sub": "ada"})).await;
    ada.call("join", json!({"place": "berth 7"})).await.unwrap();
    ada.call("leave", json!({"place": "berth 7"})).await.unwrap();
    // Those of presence come, one for each change; a verdict about a verdict would come before the second.
    let found =
        rows::<VerdictRow>(&mut watched, |rows| rows.iter().filter(|v| v.verdict == "matched").count() >= 2).await;
    assert!(found.iter().all(|v| v.label == "people"), "{found:?}");
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn why_somebody_may_not_publish_agrees_with_what_becomes_of_it() {
    let c = cluster(TOPICS).await;
    let mut operator = c.operator(0).await;
    let level = |gauge: &str| json!({"gauge": gauge, "level": {"m": 1.5}});
    for (roles, claims, to, data, why) in [
        (&["mate"][..], json!({"sub": "ada", "gauge": "g1"}), "tide", level("g1"), None),
        (&["mate"], json!({"sub": "ada", "gauge": "g1"}), "tide", level("g2"), Some("'g2' = 'g1'")),
        (&["mate"], json!({"sub": "ada"}), "tide", level("g1"), Some("claim.gauge")),
        (&["stranger"], json!({"sub": "eve"}), "tide", level("g1"), Some("no rule lets stranger publish to tide")),
        (&["mate"], json!({"sub": "ada"}), "none", json!({}), Some("there is no topic none")),
        (
            &["mate"],
            json!({"sub": "ada", "gauge": "g1"}),
            "tide",
            json!({"gauge": "g1", "level": {"m": "high"}}),
            Some("expected float8"),
        ),
        (&["mate"], json!({"sub": "ada"}), "gossip.presence", json!({"place": "berth 7"}), None),
        (&["mate"], json!({"sub": "ada"}), "gossip.presence", json!({"place": "quay"}), Some("'quay' LIKE 'berth%'")),
    ] {
        let question = json!({"publish_to": to, "data": data, "claims": claims, "roles": roles});
        let answer = operator.call("explain", question).await.unwrap();
        let mut client = c.connect(0, roles, claims).await;
        let outcome = match to {
            "gossip.presence" => client.call("join", data.clone()).await,
            _ => client.call("publish", json!({"topic": to, "data": data})).await,
        };
        let done = match &outcome {
            Ok(_) => true,
            Err(ClientError::Refused(e)) => {
                assert!(matches!(e.code, code::NOT_KNOWN | code::INVALID_PARAMS), "{e}");
                false
            }
            Err(e) => panic!("{e}"),
        };
        assert_eq!(answer["may"], Json::Bool(done), "{to} {data}: {answer} {outcome:?}");
        assert_eq!(why.is_none(), done, "{to} {data}");
        let steps = answer["steps"].to_string();
        assert!(steps.contains(why.unwrap_or_default()), "{steps}");
    }
    // Nobody but operators asks that.
    let mut mate = c.connect(0, &["mate"], json!({"sub": "ada"})).await;
    mate.call("explain", json!({"publish_to": "tide", "data": {}})).await.unwrap_err();
    c.stop().await;
}
