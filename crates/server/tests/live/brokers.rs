//! Instances that know of each other only through a broker, which fails.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use crate::common::{Cluster, rule};
use crate::topics::topics;
use gossip_client::result_set::Applied;
use gossip_client::{Incoming, ResultSet, Session};
use gossip_core::rule::{May, RuleText};
use gossip_core::send_queue::QueueLimits;
use gossip_relay::{Settings, connect};
use gossip_server::instance::{Instance, Options};
use parking_lot::Mutex;
use serde_json::{Map, Value as Json, json};
use testbed::{Broker, Kind};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

const SCHEMA: &str = "CREATE TABLE calls (id INTEGER PRIMARY KEY, agency TEXT, status TEXT, note TEXT);
  INSERT INTO calls VALUES (1, 'Brightwater', 'expected', NULL)";

struct Watching {
    session: Session,
    live: ResultSet,
}

impl Watching {
    async fn start(c: &Cluster, instance: &Instance) -> Watching {
        let token = c.token(&["control"], json!({}));
        let mut session = Session::connect(&instance.address().to_string(), Some(&token)).await.unwrap();
        let live = ResultSet::new(session.subscribe("SELECT * FROM calls").await.unwrap());
        Watching { session, live }
    }

    /// Reads until the result is as the database has it. The connection must hold.
    async fn agrees(&mut self, c: &Cluster, what: &str) {
        let truth = || {
            let mut q = c.db.prepare("SELECT id, status FROM calls ORDER BY id").unwrap();
            let rows = q.query_map([], |r| Ok((format!("[{}]", r.get::<_, i64>(0)?), r.get::<_, String>(1)?))).unwrap();
            rows.map(Result::unwrap).collect::<Vec<_>>()
        };
        let truth = truth();
        let read = async {
            loop {
                let row = |(key, row): (&String, &Map<String, serde_json::Value>)| {
                    (key.clone(), row["status"].as_str().unwrap_or("").to_string())
                };
                let mut now: Vec<_> = self.live.rows.iter().map(row).collect();
                now.sort_by_key(|(key, _)| key.trim_matches(['[', ']']).parse::<i64>().unwrap());
                if now == truth {
                    return;
                }
                if let Incoming::Notification(told) = self.session.next().await.unwrap().0 {
                    assert!(!matches!(self.live.apply(&told).unwrap(), Applied::Closed(_)), "{told:?}");
                }
            }
        };
        tokio::time::timeout(testbed::PATIENCE, read).await.unwrap_or_else(|_| panic!("{what}: {:?}", self.live.rows));
    }
}

/// Published at each instance in each way, and by another program on the broker: everybody hears each once, and each
/// publisher's in order.
async fn events_are_heard_everywhere_once(c: &Cluster, instances: &[Option<Instance>], broker: &Broker) {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let token = c.token(&["control"], json!({"sub": "imre"}));
    let mut listening = Vec::new();
    for instance in instances.iter().flatten() {
        let mut s = Session::connect(&instance.address().to_string(), Some(&token)).await.unwrap();
        s.subscribe("SELECT * FROM vhf").await.unwrap();
        listening.push(s);
    }
    let mut publishing = Vec::new();
    for (i, instance) in instances.iter().flatten().enumerate() {
        let (address, token) = (instance.address().to_string(), token.clone());
        publishing.push(tokio::spawn(async move {
            let mut s = Session::connect(&address, Some(&token)).await.unwrap();
            for n in 0..20 {
                let text = format!("{i}:{n}");
                if n % 2 == 0 {
                    s.call("publish", json!({"topic": "vhf", "data": {"text": text}})).await.unwrap();
                    continue;
                }
                let event =
                    json!({"specversion": "1.0", "id": text, "source": "/test", "type": "vhf", "data": {"text": text}});
                let post = reqwest::Client::new().post(format!("http://{address}/v1/events")).bearer_auth(&token);
                let post = post.header("content-type", "application/cloudevents+json").body(event.to_string());
                assert_eq!(post.send().await.unwrap().status(), 200);
            }
        }));
    }
    for p in publishing {
        p.await.unwrap();
    }
    for n in 0..3 {
        let event = json!({"specversion": "1.0", "id": n.to_string(), "source": "/other", "type": "vhf",
            "time": "2026-11-27T00:00:00Z", "data": {"text": format!("broker:{n}")}});
        broker.say("harbour", "topic.vhf", &event.to_string());
    }
    for s in &mut listening {
        let mut heard: BTreeMap<String, Vec<u32>> = BTreeMap::new();
        let read = async {
            while heard.values().map(Vec::len).sum::<usize>() < 63 {
                let (Incoming::Notification(_), text) = s.next().await.unwrap() else { continue };
                let message: Json = serde_json::from_str(&text).unwrap();
                for change in message["params"]["changes"].as_array().into_iter().flatten() {
                    let (who, n) = change["row"]["text"].as_str().unwrap().split_once(':').unwrap();
                    heard.entry(who.into()).or_default().push(n.parse().unwrap());
                }
            }
        };
        tokio::time::timeout(testbed::PATIENCE, read).await.expect("all events");
        for (who, heard) in heard {
            assert!(heard.iter().copied().eq(0..heard.len() as u32), "{who}: {heard:?}");
        }
    }
    // Each instance knows of the others.
    for instance in instances.iter().flatten() {
        let token = c.token(&["ops"], json!({}));
        let mut s = Session::connect(&instance.address().to_string(), Some(&token)).await.unwrap();
        let mut live = ResultSet::new(s.subscribe("SELECT name FROM gossip.instances").await.unwrap());
        let read = async {
            while live.rows.len() < 3 {
                if let Incoming::Notification(told) = s.next().await.unwrap().0 {
                    live.apply(&told).unwrap();
                }
            }
        };
        tokio::time::timeout(testbed::PATIENCE, read).await.expect("all instances");
    }
}

async fn instances_stay_right_through_its_outages_and_theirs(kind: Kind) {
    let mut broker = Broker::start(kind);
    let talk = RuleText { may: May { read: true, publish: true }, ..rule("control", "vhf", None, &[]) };
    let rules = vec![rule("control", "calls", None, &[]), talk];
    let vhf = topics("[topic.vhf]\nkeep = 100\ncolumns = { text = 'text' }");
    let mut c = Cluster::with_topics(SCHEMA, &["calls"], rules, QueueLimits::default(), vhf).await;
    for instance in c.instances.drain(..).flatten() {
        instance.stop().await;
    }
    let mut instances = Vec::new();
    for name in ["east", "west", "far"] {
        // Each has a connection of its own, as on hosts of their own.
        let relay = connect(&Settings { url: broker.url(), prefix: "harbour".into(), ..Settings::default() }, name)
            .await
            .unwrap();
        let listen = ([127, 0, 0, 1], 0).into();
        let options = Options { name: name.into(), listen, relay, ..c.options[0].clone() };
        instances.push(Some(Instance::start(options).await.unwrap()));
    }
    let mut watching = Vec::new();
    for instance in instances.iter().flatten() {
        watching.push(Watching::start(&c, instance).await);
    }
    let write = |c: &Cluster, n: i64| {
        let sql = format!(
            "INSERT INTO calls VALUES ({n}, 'x', 'new', NULL); UPDATE calls SET status = 'at {n}' WHERE id = 1;
             DELETE FROM calls WHERE id = {n} - 3 AND id > 1"
        );
        c.db.execute_batch(&sql).unwrap();
    };
    for n in 2..30 {
        write(&c, n);
    }
    for w in &mut watching {
        w.agrees(&c, "over a broker").await;
    }
    events_are_heard_everywhere_once(&c, &instances, &broker).await;
    // Nothing gets through for a while; what is written then comes afterwards.
    broker.kill();
    for n in 30..40 {
        write(&c, n);
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    broker.run();
    write(&c, 40);
    for w in &mut watching {
        w.agrees(&c, "after an outage").await;
    }
    // It comes back without anything that it kept.
    broker.lose();
    for n in 41..50 {
        write(&c, n);
    }
    broker.run();
    write(&c, 50);
    for w in &mut watching {
        w.agrees(&c, "after its data was lost").await;
    }
    // The reader is gone; another one takes over, and those who listen elsewhere notice nothing.
    let reads = async {
        loop {
            for (i, instance) in instances.iter().enumerate() {
                if let Some(instance) = instance
                    && instance.state().await.reading == "reading"
                {
                    return i;
                }
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    };
    let reader = tokio::time::timeout(testbed::PATIENCE, reads).await.expect("a reader");
    instances[reader].take().unwrap().kill();
    watching.remove(reader);
    for n in 51..60 {
        write(&c, n);
    }
    for w in &mut watching {
        w.agrees(&c, "after a take-over").await;
    }
    for instance in instances.into_iter().flatten() {
        instance.stop().await;
    }
    c.stop().await;
}

/// Everything that is said on a NATS server, as it goes by.
async fn overheard(broker: &Broker) -> Arc<Mutex<String>> {
    let mut socket = tokio::net::TcpStream::connect(("127.0.0.1", broker.port())).await.unwrap();
    socket.write_all(b"CONNECT {\"verbose\":false}\r\nSUB harbour.> 1\r\nPING\r\n").await.unwrap();
    let heard = Arc::new(Mutex::new(String::new()));
    let (to, (ready, is_ready)) = (heard.clone(), tokio::sync::oneshot::channel());
    tokio::spawn(async move {
        let (mut some, mut ready) = (vec![0; 65_536], Some(ready));
        while let Ok(n @ 1..) = socket.read(&mut some).await {
            let text = String::from_utf8_lossy(&some[..n]).into_owned();
            if text.contains("PONG") {
                let _ = ready.take().map(|r| r.send(()));
            }
            if text.contains("PING\r\n") {
                let _ = socket.write_all(b"PONG\r\n").await;
            }
            to.lock().push_str(&text);
        }
    });
    is_ready.await.unwrap();
    heard
}

/// Columns that no rule shows to anybody are not put on a broker. Once a rule does, they are, and an instance that knows
/// of the rule before the reader does reads the table anew rather than believe that they are empty.
#[tokio::test(flavor = "multi_thread")]
async fn what_no_rule_shows_is_not_on_the_broker() {
    let broker = Broker::start(Kind::Nats);
    let shown = rule("control", "calls", None, &["id", "agency", "status"]);
    let mut c = Cluster::start(SCHEMA, &["calls"], vec![shown.clone()], QueueLimits::default()).await;
    for instance in c.instances.drain(..).flatten() {
        instance.stop().await;
    }
    let mut instances = Vec::new();
    for name in ["east", "west"] {
        let settings = Settings { url: broker.url(), prefix: "harbour".into(), ..Settings::default() };
        let options = Options {
            name: name.into(),
            listen: ([127, 0, 0, 1], 0).into(),
            relay: connect(&settings, name).await.unwrap(),
            ..c.options[0].clone()
        };
        instances.push(Instance::start(options).await.unwrap());
        // The first one reads.
        while name == "east" && instances[0].state().await.reading != "reading" {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }
    let heard = overheard(&broker).await;
    let mut watching = Vec::new();
    for instance in &instances {
        watching.push(Watching::start(&c, instance).await);
    }
    let write = |n: i64| {
        let sql = format!(
            "INSERT INTO calls VALUES ({n}, 'x', 'call-{n}', 'note-{n}');
            UPDATE calls SET note = 'note-1-{n}', status = 'at {n}' WHERE id = 1"
        );
        c.db.execute_batch(&sql).unwrap();
    };
    let shows = async |w: &mut Watching, n: i64, what: &str| {
        let read = async {
            while w.live.rows.len() < n as usize
                || w.live
                    .rows
                    .iter()
                    .any(|(key, row)| key != "[1]" && row["note"] != json!(format!("note-{}", row["id"])))
                || w.live.rows["[1]"]["note"] != json!(format!("note-1-{n}"))
            {
                if let Incoming::Notification(told) = w.session.next().await.unwrap().0 {
                    w.live.apply(&told).unwrap();
                }
            }
        };
        tokio::time::timeout(testbed::PATIENCE, read).await.unwrap_or_else(|_| panic!("{what}: {:?}", w.live.rows));
    };
    (2..6).for_each(write);
    for w in &mut watching {
        w.agrees(&c, "without the note").await;
        assert!(w.live.rows.values().all(|row| !row.contains_key("note")));
    }
    // Who listens there hears it when it does, perhaps after the instances.
    let is_heard = async |text: &str| {
        let read = async {
            while !heard.lock().contains(text) {
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
        };
        tokio::time::timeout(testbed::PATIENCE, read).await.unwrap_or_else(|_| panic!("{text} is not heard"));
    };
    is_heard("call-5").await;
    assert!(!heard.lock().contains("note-"), "{}", heard.lock());
    // The one that does not read knows of the new rule first.
    let all = rule("control", "calls", None, &[]);
    instances[1].set_rules(vec![all.clone()]).await;
    instances[1].state().await;
    (6..9).for_each(write);
    shows(&mut watching[1], 8, "known here only").await;
    watching[0].agrees(&c, "not known here").await;
    is_heard("call-8").await;
    assert!(!heard.lock().contains("note-"), "the reader shows it to nobody yet");
    instances[0].set_rules(vec![all]).await;
    // It answers when they are in force; what is read before that goes out without the notes.
    instances[0].state().await;
    (9..12).for_each(write);
    for w in &mut watching {
        shows(w, 11, "known to all").await;
    }
    is_heard("note-11").await;
    // A cursor of that time does not lead through one in which the notes were not told.
    let cursor = watching[0].live.cursor.clone();
    for instance in &instances {
        instance.set_rules(vec![shown.clone()]).await;
        instance.state().await;
    }
    (12..15).for_each(write);
    for w in &mut watching {
        w.agrees(&c, "without the note again").await;
    }
    is_heard("call-14").await;
    assert!(!heard.lock().contains("note-14"));
    for instance in &instances {
        instance.set_rules(vec![rule("control", "calls", None, &[])]).await;
        instance.state().await;
    }
    let token = c.token(&["control"], json!({}));
    let mut session = Session::connect(&instances[0].address().to_string(), Some(&token)).await.unwrap();
    let answer = session.call("subscribe", json!({"query": "SELECT * FROM calls", "cursor": cursor})).await.unwrap();
    assert!(answer["resumed"].is_null() && answer["rows"].as_array().unwrap().len() == 14, "{answer}");
    shows(&mut Watching { session, live: ResultSet::new(serde_json::from_value(answer).unwrap()) }, 14, "resumed")
        .await;
    for instance in instances {
        instance.stop().await;
    }
    c.stop().await;
}

macro_rules! on_each_broker {
    ($($name:ident: $kind:ident),*) => { $(
        #[tokio::test(flavor = "multi_thread")]
        async fn $name() {
            instances_stay_right_through_its_outages_and_theirs(Kind::$kind).await;
        }
    )* };
}

on_each_broker!(over_nats: Nats, over_redis: Redis, over_mqtt: Mosquitto, over_amqp: Rabbit);
