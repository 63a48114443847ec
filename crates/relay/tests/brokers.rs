//! What a relay promises, on each real broker: order, healing, parts, outages, and nothing that is forged.
#![allow(clippy::unwrap_used)]

use std::io::Write;
use std::sync::Arc;
use std::time::Duration;

use gossip_core::position::{CommitTime, Interval, Old, Position, RowChange, Transaction};
use gossip_core::schema::{Column, ColumnSet, Table, TableName};
use gossip_core::value::{Type, Value};
use gossip_protocol::CloudEvent;
use gossip_relay::ingest::{Ingest, Sink};
use gossip_relay::tls::TlsRoots;
use gossip_relay::vouch::Keys;
use gossip_relay::{About, Event, Inbox, Received, Relay, RelayError, RetentionLimits, Settings};
use testbed::{Broker, Kind};
use tokio::sync::mpsc;

fn tables() -> Vec<Arc<Table>> {
    let column = |name: &str, ty| Column { name: name.into(), ty };
    vec![Arc::new(Table {
        name: TableName::plain("calls"),
        source: "harbour".into(),
        columns: vec![column("id", Type::Int8), column("note", Type::Text)],
        key: vec![0],
        old_values: true,
        incarnation: 0,
    })]
}

/// The stretch that ends at `n`, with one row of so many bytes; without any for a heartbeat.
fn interval(n: u64, bytes: Option<usize>) -> Arc<Interval> {
    let change = |bytes: usize| RowChange {
        table: TableName::plain("calls"),
        description: tables()[0].identity(),
        key: [Value::Int(n as i64)].into(),
        old: Old::Known(None),
        new: Some([Value::Int(n as i64), Value::text("x".repeat(bytes))].into()),
        omitted_columns: ColumnSet::default(),
    };
    let transaction = |bytes| {
        let committed = CommitTime { from: 0, to: 0 };
        Arc::new(Transaction {
            position: Position::at(n),
            committed,
            number: 0,
            inexact_after: None,
            changes: vec![change(bytes)],
        })
    };
    Arc::new(Interval {
        source: "harbour".into(),
        epoch: 1,
        from: Position::at(if bytes.is_some() { n - 1 } else { n }),
        to: Position::at(n),
        transactions: bytes.map(transaction).into_iter().collect(),
        resets: vec![],
        settled: Position::at(n),
        timeline: 9,
        mark: 0,
        reader: "north".into(),
        read_at: 0,
    })
}

async fn connect(url: &str, roots: TlsRoots, name: &str) -> Result<Arc<dyn Relay>, RelayError> {
    let keep = RetentionLimits { age: Duration::from_secs(600), bytes: 64 << 20 };
    gossip_relay::connect(&Settings { url: url.into(), prefix: "test".into(), keep, roots, keys: None }, name).await
}

async fn relay(url: &str, name: &str) -> Arc<dyn Relay> {
    let relay = connect(url, TlsRoots::system(), name).await.unwrap();
    relay.describe(&tables());
    relay
}

async fn heard(inbox: &mut Inbox) -> Received {
    tokio::time::timeout(testbed::PATIENCE, inbox.recv()).await.expect("a message").unwrap()
}

/// The next interval, whatever else is heard.
async fn next(inbox: &mut Inbox) -> Arc<Interval> {
    loop {
        if let Some(interval) = heard(inbox).await.interval() {
            return interval;
        }
    }
}

/// Publishes until it is taken: after an outage that is not at once.
async fn publish(relay: &dyn Relay, interval: &Arc<Interval>) {
    let work = async {
        while let Err(e) = relay.publish(interval.clone()).await {
            assert!(matches!(e, RelayError::Unreachable(_)), "{e}");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    };
    tokio::time::timeout(testbed::PATIENCE, work).await.expect("it is taken");
}

fn event(topic: &str, id: &str, bytes: usize) -> Arc<Event> {
    let data = serde_json::json!({"text": "x".repeat(bytes)});
    let event = CloudEvent::new(topic, "/test", id.into(), "2026-11-27T00:00:00Z".into(), data);
    Arc::new(Event { about: About::Topic(topic.into()), event })
}

/// What somebody else says under a name of the relay's, as text. Whether the broker lets them is its own affair.
async fn stranger(kind: Kind, url: &str, name: &str, text: &str) {
    match kind {
        Kind::Nats => {
            let (scheme, rest) = url.split_once("://").unwrap();
            let (who, place) = rest.rsplit_once('@').unwrap_or(("", rest));
            let options = match who.split_once(':') {
                Some((user, password)) => {
                    async_nats::ConnectOptions::with_user_and_password(user.into(), password.into())
                }
                None => async_nats::ConnectOptions::new(),
            };
            let client = options.connect(format!("{scheme}://{place}")).await.unwrap();
            client.publish(name.to_string(), text.to_string().into()).await.unwrap();
            client.flush().await.unwrap();
            // Only an answer tells that the server has it, before what others say next. A guest may not ask.
            if who.is_empty() {
                let nobody = client.request("test.nobody", "".into()).await;
                assert!(nobody.is_err());
            }
        }
        Kind::Redis => {
            let client = redis::Client::open(url).unwrap();
            let mut connection = client.get_multiplexed_async_connection().await.unwrap();
            let _ = redis::cmd("PUBLISH").arg(name).arg(text).query_async::<i64>(&mut connection).await;
        }
        // The broker's own client.
        Kind::Mosquitto => {
            testbed::require("mosquitto_pub", "mosquitto-clients");
            let place = format!("{url}/{}", name.replace('.', "/"));
            let mut program = std::process::Command::new("mosquitto_pub")
                .args(["-V", "5", "-q", "1", "-L", &place, "-s"])
                .stdin(std::process::Stdio::piped())
                .stderr(std::process::Stdio::null())
                .spawn()
                .unwrap();
            program.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
            program.wait().unwrap();
        }
        Kind::Rabbit => {
            let connection = lapin::Connection::connect(url, lapin::ConnectionProperties::default()).await.unwrap();
            let channel = connection.create_channel().await.unwrap();
            let key = name.strip_prefix("test.flow.").unwrap();
            let (options, properties) = (Default::default(), lapin::BasicProperties::default());
            let sent = channel.basic_publish("test.flow".into(), key.into(), options, text.as_bytes(), properties);
            let _ = sent.await.unwrap().await;
            // It may have closed the channel because of what was said there.
            let _ = connection.close(200, "".into()).await;
        }
    }
}

async fn everything_is_heard_in_order_and_fetched_again(kind: Kind) {
    let server = Broker::start(kind);
    let (north, south) = (relay(&server.url(), "north").await, relay(&server.url(), "south").await);
    assert_eq!(north.replay("harbour", Position::at(0)).await.unwrap(), None);
    assert_eq!(north.last("harbour").await.unwrap(), None);
    let (mut a, mut b) = (north.join().await.unwrap(), south.join().await.unwrap());
    // The fifth is larger than a message may be.
    let sizes = [10, 0, 1_000, 10, 3_500_000, 10];
    let all: Vec<_> = sizes.iter().enumerate().map(|(i, n)| interval(i as u64 + 1, Some(*n))).collect();
    for i in &all {
        north.publish(i.clone()).await.unwrap();
    }
    north.publish(interval(6, None)).await.unwrap();
    for inbox in [&mut a, &mut b] {
        for i in &all {
            assert_eq!(next(inbox).await, *i);
        }
        assert_eq!(next(inbox).await, interval(6, None));
    }
    for after in [0, 3, 4, 5] {
        let since = south.replay("harbour", Position::at(after)).await.unwrap().unwrap();
        assert_eq!(since, all[after as usize..], "after {after}");
    }
    assert_eq!(south.replay("harbour", Position::at(6)).await.unwrap(), None);
    // Whoever comes later can fetch what it lacks, from the broker or from another instance.
    let late = relay(&server.url(), "late").await;
    let mut c = late.join().await.unwrap();
    assert_eq!(late.replay("harbour", Position::at(2)).await.unwrap().unwrap(), all[2..]);
    if matches!(kind, Kind::Nats | Kind::Redis) {
        let sign = next(&mut c).await;
        assert_eq!((sign.from, sign.to, sign.transactions.len()), (Position::at(6), Position::at(6), 0));
        assert_eq!(late.last("harbour").await.unwrap().unwrap().to, Position::at(6));
    }
    // Events of topics, large ones too, and each sender's in order.
    let events = [event("tide", "1", 10), event("tide", "2", 200_000), event("wind", "3", 1)];
    for e in &events {
        south.broadcast(e.clone()).await.unwrap();
    }
    for inbox in [&mut a, &mut b, &mut c] {
        for e in &events {
            assert_eq!(heard(inbox).await, Received::Event(e.clone()));
        }
    }
    // What is not said by an instance is not believed, and does no harm: as large as a broker takes, as deep as can be.
    let large = if matches!(kind, Kind::Redis | Kind::Rabbit) { 3_000_000 } else { 900_000 };
    for name in ["test.flow.rows.harbour", "test.flow.topic.tide", "test.flow.member.north"] {
        stranger(kind, &server.url(), name, &"[".repeat(large)).await;
    }
    for text in ["{}", "not JSON", r#"{"specversion":"1.0","type":"gossip.interval.v1"}"#] {
        for name in ["test.flow.rows.harbour", "test.flow.topic.tide", "test.flow.member.north"] {
            stranger(kind, &server.url(), name, text).await;
        }
    }
    for name in ["test.flow", "test.flow.other.x", "test.flow.rows.a.b"] {
        if kind != Kind::Rabbit || name != "test.flow" {
            stranger(kind, &server.url(), name, "{}").await;
        }
    }
    // Anybody who may publish there can send an event, by any library.
    let told = r#"{"specversion":"1.0","id":"s1","source":"/gauges","type":"tide","data":{"level":3.5}}"#;
    stranger(kind, &server.url(), "test.flow.topic.tide", told).await;
    let Received::Event(e) = heard(&mut a).await else { panic!("an event") };
    assert_eq!((&e.about, e.event.source.as_str()), (&About::Topic("tide".into()), "/gauges"));
    publish(&*north, &interval(7, Some(1))).await;
    assert_eq!(next(&mut a).await, interval(7, Some(1)));
    let standing = north.standing();
    assert_eq!((standing.malformed, standing.connected, standing.lost), (12, true, 0));
    assert!(standing.last_malformed.unwrap().starts_with("member.north: not a CloudEvent"));
}

async fn what_no_instance_of_the_cluster_said_is_not_believed(kind: Kind) {
    let server = Broker::start(kind);
    let with = async |name: &str, keys: Option<Keys>| {
        let settings = Settings { url: server.url(), prefix: "test".into(), keys, ..Settings::default() };
        let relay = gossip_relay::connect(&settings, name).await.unwrap();
        relay.describe(&tables());
        relay
    };
    let (old, new): (&[u8], &[u8]) = (b"the old secret", b"the new secret");
    let north = with("north", Some(Keys::new(old, None))).await;
    // While the secret is changed both are believed.
    let south = with("south", Some(Keys::new(new, Some(old)))).await;
    let (mut a, mut b) = (north.join().await.unwrap(), south.join().await.unwrap());
    let about = |about: About, of: &Event| Arc::new(Event { about, event: of.event.clone() });
    for (n, keys) in [(1, None), (2, Some(Keys::new(b"another cluster's", None)))] {
        let forger = with("north", keys).await;
        for bytes in [Some(10), None, Some(3_500_000)] {
            forger.publish(interval(n, bytes)).await.unwrap();
        }
        forger.broadcast(about(About::Members, &event("gossip.instance.v1", "forged", 10))).await.unwrap();
        let mut said = (*event("tide", &format!("said {n}"), 10)).clone();
        let mut late = said.clone();
        late.event.time = Some("9999-12-31T23:59:59Z".into());
        forger.broadcast(Arc::new(late)).await.unwrap();
        let told = said.clone();
        said.event.more.insert("sender".into(), "ada".into());
        forger.broadcast(Arc::new(said)).await.unwrap();
        // Of all this an event is heard, and nobody is said to have sent it.
        for inbox in [&mut a, &mut b] {
            assert_eq!(heard(inbox).await, Received::Event(Arc::new(told.clone())));
        }
        // What an instance says under the very same name is taken.
        north.publish(interval(n, Some(20))).await.unwrap();
        for inbox in [&mut a, &mut b] {
            assert_eq!(next(inbox).await, interval(n, Some(20)));
        }
    }
    assert!(north.standing().last_malformed.unwrap().contains("time: later than now"));
    // What an instance itself said long ago is not taken again, whoever says it.
    let of_now = |id: &str, time: String| {
        let event = CloudEvent::new("gossip.call.v1", "/gossip/north", id.into(), time, serde_json::json!({}));
        Arc::new(Event { about: About::Members, event })
    };
    north.broadcast(of_now("old", "2026-11-27T00:00:00Z".into())).await.unwrap();
    let fresh = of_now("new", gossip_protocol::timestamp::rfc3339(jiff::Timestamp::now().as_microsecond()));
    north.broadcast(fresh.clone()).await.unwrap();
    for inbox in [&mut a, &mut b] {
        assert_eq!(heard(inbox).await, Received::Event(fresh.clone()));
    }
    let mut sent = (*event("tide", "by ada", 10)).clone();
    sent.event.more.insert("sender".into(), "ada".into());
    north.broadcast(Arc::new(sent.clone())).await.unwrap();
    assert_eq!(heard(&mut b).await, Received::Event(Arc::new(sent)));
    let late = with("late", Some(Keys::new(old, None))).await;
    let _joined = late.join().await.unwrap();
    let since = late.replay("harbour", Position::at(0)).await.unwrap();
    assert_eq!(since.unwrap(), [interval(1, Some(20)), interval(2, Some(20))]);
    let standing = south.standing();
    assert!(standing.malformed >= 10, "{standing:?}");
}

async fn an_outage_is_told_and_ends_and_lost_data_is_a_gap(kind: Kind) {
    let mut server = Broker::start(kind);
    let (north, south) = (relay(&server.url(), "north").await, relay(&server.url(), "south").await);
    let (_a, mut b) = (north.join().await.unwrap(), south.join().await.unwrap());
    publish(&*north, &interval(1, Some(5))).await;
    assert_eq!(next(&mut b).await, interval(1, Some(5)));
    server.kill();
    let refused = async {
        // What is on its way when it ends is not acknowledged either.
        while north.publish(interval(2, Some(5))).await.is_ok() {
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    };
    tokio::time::timeout(testbed::PATIENCE, refused).await.expect("it is told");
    let (reader, lagging) = (north.clone(), south.clone());
    let until = move |after: u64, n: u64| {
        let (reader, relay) = (reader.clone(), lagging.clone());
        async move {
            loop {
                // Whoever came back too late to hear it learns from the reader's heartbeat that there is more.
                let _ = reader.publish(interval(after + n, None)).await;
                match relay.replay("harbour", Position::at(after)).await {
                    Ok(Some(since)) if since.len() as u64 == n => return since,
                    _ => tokio::time::sleep(Duration::from_millis(100)).await,
                }
            }
        }
    };
    server.run();
    publish(&*north, &interval(2, Some(5))).await;
    let since = tokio::time::timeout(testbed::PATIENCE, until(0, 2)).await.expect("it can be fetched");
    assert_eq!(since, [interval(1, Some(5)), interval(2, Some(5))], "nothing that was acknowledged is lost");
    // The same broker without its data: another instance still knows.
    server.lose();
    server.run();
    publish(&*north, &interval(3, Some(5))).await;
    let since = tokio::time::timeout(testbed::PATIENCE, until(1, 2)).await.expect("it can be fetched");
    assert_eq!(since, [interval(2, Some(5)), interval(3, Some(5))]);
    // What nobody knows is not made up.
    publish(&*north, &interval(5, Some(5))).await;
    let on = async { while next(&mut b).await.to < Position::at(5) {} };
    tokio::time::timeout(testbed::PATIENCE, on).await.expect("it is heard again");
    assert_eq!(south.replay("harbour", Position::at(3)).await.unwrap(), None);
}

/// With TLS, by an authority that is named; without it nothing is said.
async fn it_is_spoken_in_private(kind: Kind) {
    let server = Broker::secured(kind);
    let why = connect(&server.url(), TlsRoots::system(), "north").await.err().expect("a stranger's word").to_string();
    assert!(why.starts_with("cannot reach the broker: "), "{why}");
    let roots = TlsRoots::file(&server.authority()).unwrap();
    let north = connect(&server.url(), roots.clone(), "north").await.unwrap();
    let south = connect(&server.url(), roots.clone(), "south").await.unwrap();
    for r in [&north, &south] {
        r.describe(&tables());
    }
    let mut a = south.join().await.unwrap();
    publish(&*north, &interval(1, Some(300_000))).await;
    assert_eq!(next(&mut a).await, interval(1, Some(300_000)));
    // Topics of other programs come from there as well.
    let name = match kind {
        Kind::Mosquitto => "test/flow/topic/tide",
        Kind::Rabbit => "test.flow/topic.tide",
        Kind::Nats | Kind::Redis => "test.flow.topic.tide",
    };
    let from = Ingest { url: format!("{}/{name}", server.url()), group: "g".into(), roots };
    let ((heard, mut messages), (told, mut state)) = (mpsc::channel(8), mpsc::channel(8));
    let listening = tokio::spawn(async move {
        gossip_relay::ingest(&from, Sink::new(heard, move |why| drop(told.try_send(why)))).await;
    });
    let stands = tokio::time::timeout(testbed::PATIENCE, state.recv()).await.expect("it listens");
    assert_eq!(stands, Some(None));
    north.broadcast(event("tide", "1", 10)).await.unwrap();
    let message = tokio::time::timeout(testbed::PATIENCE, messages.recv()).await.expect("an event").unwrap();
    assert_eq!(CloudEvent::read(&message.bytes).unwrap().id, "1");
    listening.abort();
    let nothing = TlsRoots::file(&server.authority().with_file_name("key.pem")).unwrap_err();
    assert!(nothing.ends_with("key.pem: there is no certificate in it"), "{nothing}");
}

macro_rules! on_each_broker {
    ($($name:ident: $kind:ident),*) => { $(mod $name {
        use super::*;

        #[tokio::test(flavor = "multi_thread")]
        async fn everything_is_heard_in_order_and_fetched_again() {
            super::everything_is_heard_in_order_and_fetched_again(Kind::$kind).await;
        }

        #[tokio::test(flavor = "multi_thread")]
        async fn what_no_instance_of_the_cluster_said_is_not_believed() {
            super::what_no_instance_of_the_cluster_said_is_not_believed(Kind::$kind).await;
        }

        #[tokio::test(flavor = "multi_thread")]
        async fn an_outage_is_told_and_ends_and_lost_data_is_a_gap() {
            super::an_outage_is_told_and_ends_and_lost_data_is_a_gap(Kind::$kind).await;
        }

        #[tokio::test(flavor = "multi_thread")]
        async fn with_permissions_as_documented_nobody_else_is_heard() {
            super::with_permissions_as_documented_nobody_else_is_heard(Kind::$kind).await;
        }

        #[tokio::test(flavor = "multi_thread")]
        async fn it_is_spoken_in_private() {
            super::it_is_spoken_in_private(Kind::$kind).await;
        }
    })* };
}

on_each_broker!(nats: Nats, redis_streams: Redis, mosquitto: Mosquitto, rabbit: Rabbit);

/// The broker's own words for: instances may do what `check` names, a guest may publish events of topics.
fn permissions(kind: Kind, files: &std::path::Path) -> String {
    let file = |name: &str, text: &str| {
        std::fs::write(files.join(name), text).unwrap();
        files.join(name).display().to_string()
    };
    match kind {
        Kind::Nats => r#"authorization { users = [
            { user: "gossip", password: "in the address", permissions: {
                publish: ["test.flow.rows.>", "test.flow.beat.>", "test.flow.topic.>", "test.flow.member.>", "$JS.API.>"],
                subscribe: ["test.flow.>", "_INBOX.>"] } },
            { user: "guest", password: "reads", permissions: { publish: ["test.flow.topic.>"], subscribe: ["test.flow.>"] } } ] }"#
            .into(),
        Kind::Redis => "user default off\nuser gossip on #HASH resetchannels &test.flow.* ~test.kept.* \
             +publish +psubscribe +punsubscribe +xadd +xrevrange +xtrim +xlen +memory|usage +multi +exec +ping\n\
             user guest on >reads resetchannels &test.flow.topic.* +publish"
            .replace("#HASH", &format!("#{}", sha256("in the address"))),
        Kind::Mosquitto => {
            testbed::require("mosquitto_passwd", "mosquitto");
            let passwords = file("passwords", "");
            for (user, password) in [("gossip", "in the address"), ("guest", "reads")] {
                let done = std::process::Command::new("mosquitto_passwd").args(["-b", &passwords, user, password]).status();
                assert!(done.unwrap().success());
            }
            let acl = "user gossip\ntopic read test/flow/#\ntopic write test/flow/rows/#\ntopic write test/flow/beat/#\n\
                 topic write test/flow/topic/#\ntopic write test/flow/member/#\n\nuser guest\ntopic read test/flow/#\n\
                 topic write test/flow/topic/#\n";
            format!("allow_anonymous false\npassword_file {passwords}\nacl_file {}", file("acl", acl))
        }
        Kind::Rabbit => {
            let own = r"^(test\\.flow|amq\\.gen-.*)$";
            let definitions = format!(
                r#"{{ "vhosts": [{{"name": "/"}}],
                "users": [{{"name": "gossip", "password": "in the address", "tags": ""}},
                          {{"name": "guest", "password": "reads", "tags": ""}}],
                "permissions": [
                  {{"user": "gossip", "vhost": "/", "configure": "{own}", "write": "{own}", "read": "{own}"}},
                  {{"user": "guest", "vhost": "/", "configure": "^$", "write": "^test\\.flow$", "read": "^$"}}],
                "topic_permissions": [
                  {{"user": "guest", "vhost": "/", "exchange": "test.flow", "write": "^topic\\.", "read": "^$"}}] }}"#
            );
            format!("load_definitions = {}", file("definitions.json", &definitions))
        }
    }
}

fn sha256(text: &str) -> String {
    use sha2::Digest;
    sha2::Sha256::digest(text).iter().map(|b| format!("{b:02x}")).collect()
}

/// How it stands first with listening to a topic of others: nothing, or why one cannot.
async fn listens(url: &str) -> Option<String> {
    let from = Ingest { url: url.into(), group: "g".into(), roots: TlsRoots::system() };
    let ((heard, _kept), (told, mut state)) = (mpsc::channel(8), mpsc::channel(8));
    let listening = tokio::spawn(async move {
        gossip_relay::ingest(&from, Sink::new(heard, move |why| drop(told.try_send(why)))).await;
    });
    let stands = tokio::time::timeout(testbed::PATIENCE, state.recv()).await.expect("it is told");
    listening.abort();
    stands.expect("it is told")
}

/// The permissions that `check` and the manual name are enough, and nobody else is believed.
async fn with_permissions_as_documented_nobody_else_is_heard(kind: Kind) {
    let files = tempfile::tempdir().unwrap();
    let server = Broker::configured(kind, &permissions(kind, files.path()));
    let as_user = |who: &str| server.url().replace("://", &format!("://{who}@"));
    // Rabbit has no user without a name to be refused.
    assert!(connect(&server.url(), TlsRoots::system(), "x").await.is_err(), "nobody without a name");
    let wrong = connect(&as_user("gossip:wrong"), TlsRoots::system(), "x").await.err().unwrap().to_string();
    assert!(!wrong.contains("wrong"), "{wrong}");
    let own = as_user("gossip:in%20the%20address");
    let (north, south) = (relay(&own, "north").await, relay(&own, "south").await);
    let mut a = south.join().await.unwrap();
    publish(&*north, &interval(1, Some(5))).await;
    assert_eq!(next(&mut a).await, interval(1, Some(5)));
    let guest = as_user("guest:reads");
    let forged = gossip_relay::event::encode(&interval(2, Some(6)), &Default::default());
    let forged = String::from_utf8(forged).unwrap();
    for name in ["test.flow.rows.harbour", "test.flow.beat.harbour", "test.flow.member.north"] {
        stranger(kind, &guest, name, &forged).await;
    }
    // Where one may not listen one is told so; by Mosquitto not.
    let there = if kind == Kind::Rabbit { "test.flow/topic.tide" } else { "elsewhere" };
    let refused = listens(&format!("{guest}/{there}")).await;
    assert!(refused.as_ref().map_or(kind == Kind::Mosquitto, |why| !why.contains("reads")), "{refused:?}");
    // Where one may, it needs no other permission.
    if kind == Kind::Nats {
        assert_eq!(listens(&format!("{guest}/test.flow.topic.*")).await, None);
    }
    // Events are for whom one likes; what the guest said before is not heard.
    let told = r#"{"specversion":"1.0","id":"s1","source":"/guest","type":"tide","data":{}}"#;
    stranger(kind, &guest, "test.flow.topic.tide", told).await;
    let Received::Event(e) = heard(&mut a).await else { panic!("a forged interval is believed") };
    assert_eq!((&e.about, e.event.source.as_str()), (&About::Topic("tide".into()), "/guest"));
    publish(&*north, &interval(2, Some(7))).await;
    assert_eq!(next(&mut a).await, interval(2, Some(7)), "what the guest said is not heard");
    north.broadcast(event("tide", "2", 5)).await.unwrap();
    assert_eq!(heard(&mut a).await, Received::Event(event("tide", "2", 5)));
    assert_eq!(south.standing().malformed, 0);
    assert_eq!(south.replay("harbour", Position::at(0)).await.unwrap().unwrap().len(), 2);
}
