//! What is revoked is not sent any more: rights that end in every way there is, for clients that read, that have stopped
//! reading, and that are told only every so often. Looked at in the raw frames.

use std::time::Duration;

use gossip_client::result_set::Applied;
use gossip_client::{Incoming, ResultSet, Session};
use gossip_core::rule::RuleText;
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::Notification;
use serde_json::{Value as Json, json};

use crate::common::{Cluster, rule};

const SCHEMA: &str =
    "CREATE TABLE calls (id INTEGER PRIMARY KEY, agency TEXT, status TEXT, note TEXT, until TIMESTAMPTZ);
  CREATE TABLE assignments (id INTEGER PRIMARY KEY, call INTEGER, pilot TEXT);
  CREATE TABLE crews (id INTEGER PRIMARY KEY, member TEXT, boss TEXT);
  CREATE TABLE passes (id INTEGER PRIMARY KEY, call INTEGER, holder TEXT, until TIMESTAMPTZ);
  CREATE TABLE trips (id INTEGER PRIMARY KEY, call INTEGER, word TEXT);
  INSERT INTO trips VALUES (5, 5, '');
  INSERT INTO calls VALUES
    (5, 'Dunmore', 'expected', 'first', datetime('now', '+1 day')), (6, 'Elsewhere', 'expected', 'private', NULL);
  INSERT INTO passes VALUES (1, 5, 'ada', datetime('now', '+1 day'));
  INSERT INTO assignments VALUES (1, 5, 'ada'), (2, 6, 'eve');
  INSERT INTO crews VALUES (1, 'ada', 'bo')";

fn rules() -> Vec<RuleText> {
    let assigned = "id IN (SELECT call FROM assignments WHERE pilot = claim.me)";
    let of_crew = "EXISTS (SELECT 1 FROM assignments a WHERE a.call = calls.id \
                   AND a.pilot IN (SELECT member FROM crews WHERE boss = claim.me))";
    let masked = RuleText {
        masks: [("note".to_string(), "left(note, 1) || '…'".to_string())].into(),
        ..rule("masked", "calls", None, &["id", "agency"])
    };
    let everybody = ["control", "agent", "pilot", "boss", "guest", "narrow"];
    let trips = everybody.map(|role| rule(role, "trips", None, &[]));
    let of_calls = vec![
        rule("control", "calls", None, &[]),
        rule("agent", "calls", Some("agency = claim.agency"), &[]),
        rule("pilot", "calls", Some(assigned), &[]),
        rule("boss", "calls", Some(of_crew), &[]),
        rule("visitor", "calls", Some("until > now()"), &[]),
        rule("guest", "calls", Some("id IN (SELECT call FROM passes WHERE holder = claim.me AND until > now())"), &[]),
        rule("narrow", "calls", Some("agency = claim.agency"), &["id", "status"]),
        masked,
    ];
    trips.into_iter().chain(of_calls).collect()
}

async fn cluster() -> Cluster {
    let queue = QueueLimits { deltas: 1_000, bytes: 64 << 20 };
    Cluster::start(SCHEMA, &["calls", "assignments", "crews", "passes", "trips"], rules(), queue).await
}

/// How a right ends.
#[derive(Clone, Copy, Debug, PartialEq)]
enum End {
    /// The row that gave it goes.
    Membership,
    /// A row behind that row changes.
    MembershipOfCrew,
    /// The row changes hands.
    Owner,
    /// The rule is another one.
    Rule,
    /// The token is renewed with fewer roles. Who does not read cannot have renewed it.
    Claims,
    /// The token ends.
    Expiry,
    /// The row's time passes.
    Time,
    /// The time of the row that gave it passes.
    Pass,
}

impl End {
    fn person(self) -> (&'static str, Json) {
        match self {
            End::Membership => ("pilot", json!({"me": "ada"})),
            End::MembershipOfCrew => ("boss", json!({"me": "bo"})),
            End::Owner => ("agent", json!({"agency": "Dunmore"})),
            End::Rule | End::Claims | End::Expiry => ("control", json!({})),
            End::Time => ("visitor", json!({})),
            End::Pass => ("guest", json!({"me": "ada"})),
        }
    }
}

/// How what is revoked stands in a result.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Shown {
    Row,
    Window,
    /// As part of a group.
    Group,
    /// With a row of another table beside it.
    Joined,
    /// Beside a row of another table, which goes with it.
    Partner,
    /// The same in a window.
    PartnerInWindow,
    /// The same in a group.
    PartnerInGroup,
    /// Beside a row of another table, which stays without it.
    Beside,
}

impl Shown {
    fn query(self) -> &'static str {
        match self {
            Shown::Row => "SELECT id, note FROM calls WHERE id = 5",
            Shown::Window => "SELECT id, note FROM calls WHERE id = 5 ORDER BY note DESC LIMIT 1",
            Shown::Group => "SELECT id, max(note) AS note FROM calls WHERE id = 5 GROUP BY id",
            Shown::Joined => "SELECT c.id, c.note, t.word FROM calls c JOIN trips t ON t.id = c.id",
            Shown::Partner => "SELECT t.id, c.note, t.word FROM trips t JOIN calls c ON c.id = t.call",
            Shown::PartnerInWindow => {
                "SELECT t.id, c.note FROM trips t JOIN calls c ON c.id = t.call ORDER BY c.note DESC LIMIT 1"
            }
            Shown::PartnerInGroup => {
                "SELECT t.id, max(c.note) AS note FROM trips t JOIN calls c ON c.id = t.call GROUP BY t.id"
            }
            Shown::Beside => "SELECT t.id, c.note FROM trips t LEFT JOIN calls c ON c.id = t.call",
        }
    }

    /// Whether the row of the other table may change with what ends the right, and is not to be told either.
    fn goes_with_trip(self) -> bool {
        matches!(self, Shown::Joined | Shown::Partner)
    }
}

struct Listener {
    name: &'static str,
    session: Session,
    live: ResultSet,
    ended: bool,
}

impl Listener {
    async fn new(
        c: &Cluster,
        name: &'static str,
        (end, shown): (End, Shown),
        every_ms: u64,
        exp: Option<i64>,
    ) -> Listener {
        let (role, mut claims) = end.person();
        if let Some(exp) = exp {
            claims["exp"] = exp.into();
        }
        let mut session = c.connect(0, &[role], claims).await;
        let params = json!({"query": shown.query(), "every_ms": every_ms, "was": true});
        let answer = session.call("subscribe", params).await.unwrap();
        let live = ResultSet::new(serde_json::from_value(answer).unwrap());
        assert_eq!(live.rows["[5]"]["note"], "first", "{name}, {end:?}");
        Listener { name, session, live, ended: false }
    }

    /// Reads until nothing is left of the result, and a call has been answered after that; says what was read.
    async fn read_to_the_end(&mut self, every_frame: impl Fn(&str)) {
        let read = async {
            while !self.ended && self.live.rows.values().any(|row| row.get("note").is_some_and(|note| !note.is_null()))
            {
                let (incoming, text) = self.session.next().await.unwrap();
                every_frame(&text);
                let Incoming::Notification(told) = incoming else { continue };
                self.ended |= matches!(self.live.apply(&told).unwrap(), Applied::Closed(_));
            }
            self.session.send_named("explain", json!({})).await.unwrap();
            loop {
                let (incoming, text) = self.session.next().await.unwrap();
                every_frame(&text);
                if let Incoming::Answer(..) = incoming {
                    return;
                }
            }
        };
        // Sooner than what is paced would be told by itself.
        tokio::time::timeout(Duration::from_secs(30), read).await.unwrap_or_else(|_| panic!("{}: no end", self.name));
    }
}

/// Reads until a row has a note.
async fn hear(session: &mut Session, live: &mut ResultSet, key: &str, note: &str) {
    let read = async {
        while live.rows[key]["note"] != note {
            if let Incoming::Notification(told) = session.next().await.unwrap().0 {
                live.apply(&told).unwrap();
            }
        }
    };
    tokio::time::timeout(testbed::PATIENCE, read).await.unwrap_or_else(|_| panic!("{note} was not told"));
}

async fn a_right_ends(end: End, shown: Shown) {
    let c = cluster().await;
    let mut observer = c.connect(0, &["control"], json!({})).await;
    let mut seen = ResultSet::new(observer.subscribe("SELECT * FROM calls").await.unwrap());
    let seconds = || gossip_server::now() / 1_000_000;
    // Who does not read cannot renew a token either: this one ends by itself, at the latest when those of others do.
    let ends = seconds() + 15;
    let mut reads = Listener::new(&c, "reads", (end, shown), 0, None).await;
    let mut stuck = Listener::new(&c, "stuck", (end, shown), 0, (end == End::Expiry).then_some(ends)).await;
    let mut paced = Listener::new(&c, "paced", (end, shown), 60_000, None).await;

    // More than the sockets' buffers hold, and behind it what is told before the right ends and must not leave after.
    let big = "x".repeat(200_000);
    for i in 0..120 {
        let note = format!("{big}{i}");
        c.db.execute("UPDATE calls SET note = ?1 WHERE id = 5", [&note]).unwrap();
        // Each is a delta of its own: what is written between two looks of the reader would be one.
        hear(&mut observer, &mut seen, "[5]", &note).await;
    }
    c.db.execute_batch("UPDATE calls SET note = 'BEFORE' WHERE id = 5").unwrap();
    hear(&mut observer, &mut seen, "[5]", "BEFORE").await;
    hear(&mut reads.session, &mut reads.live, "[5]", "BEFORE").await;
    match end {
        End::Membership if shown.goes_with_trip() => {
            let both = "BEGIN; UPDATE trips SET word = 'AFTER'; DELETE FROM assignments WHERE id = 1; COMMIT";
            c.db.execute_batch(both).unwrap();
        }
        End::Owner if shown.goes_with_trip() => {
            let both = "BEGIN; UPDATE trips SET word = 'AFTER', call = 5; \
                        UPDATE calls SET agency = 'Brightwater', note = 'AFTER' WHERE id = 5; COMMIT";
            c.db.execute_batch(both).unwrap();
        }
        End::Membership => c.db.execute_batch("DELETE FROM assignments WHERE id = 1").unwrap(),
        End::MembershipOfCrew => c.db.execute_batch("UPDATE crews SET boss = 'cy' WHERE id = 1").unwrap(),
        End::Time => c.db.execute_batch("UPDATE calls SET until = datetime('now', '+2 seconds') WHERE id = 5").unwrap(),
        End::Pass => c.db.execute_batch("UPDATE passes SET until = datetime('now', '+2 seconds')").unwrap(),
        End::Owner => c.db.execute_batch("UPDATE calls SET agency = 'Brightwater' WHERE id = 5").unwrap(),
        End::Rule => {
            let rules = vec![rule("control", "calls", Some("id > 5"), &[]), rule("control", "trips", None, &[])];
            c.instances[0].as_ref().unwrap().set_rules(rules).await;
        }
        End::Claims => {
            let token = c.token(&["narrow"], json!({"agency": "Brightwater"}));
            for l in [&mut reads, &mut paced] {
                l.session.send_named("authenticate", json!({"token": token})).await.unwrap();
            }
        }
        End::Expiry => {
            // One that ends soon, in the place of one that lasts.
            let token = c.token(&["control"], json!({"exp": ends.max(seconds() + 2)}));
            for l in [&mut reads, &mut paced] {
                l.session.send_named("authenticate", json!({"token": token})).await.unwrap();
            }
        }
    }
    let nothing = |_: &str| ();
    reads.read_to_the_end(nothing).await;
    if end == End::Expiry {
        assert!(reads.ended, "closed, not only emptied");
    }
    c.db.execute_batch("UPDATE calls SET note = 'AFTER' WHERE id = 5; UPDATE calls SET note = 'done' WHERE id = 6")
        .unwrap();
    if end != End::Expiry && end != End::Rule {
        hear(&mut observer, &mut seen, "[6]", "done").await;
    }
    reads.read_to_the_end(|text| assert!(!text.contains("AFTER"), "{end:?}: {text}")).await;
    let never = |text: &str| {
        let text: String = text.chars().filter(|c| *c != 'x').collect();
        assert!(!text.contains("BEFORE") && !text.contains("AFTER"), "{end:?}: {text}");
    };
    paced.read_to_the_end(never).await;
    if end != End::Claims {
        stuck.read_to_the_end(never).await;
    }
    c.stop().await;
}

macro_rules! ends {
    ($($name:ident: $end:expr, $shown:expr;)*) => {
        $(#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
        async fn $name() {
            a_right_ends($end, $shown).await;
        })*
    };
}

ends! {
    a_deleted_membership_takes_its_rows_back: End::Membership, Shown::Row;
    a_membership_two_tables_away_takes_its_rows_back: End::MembershipOfCrew, Shown::Row;
    a_row_that_changes_hands_is_taken_back: End::Owner, Shown::Row;
    an_edited_rule_takes_its_rows_back: End::Rule, Shown::Row;
    a_renewed_token_takes_back_what_its_roles_do_not_grant: End::Claims, Shown::Row;
    an_expired_token_takes_everything_back: End::Expiry, Shown::Row;
    a_row_that_changes_hands_leaves_its_window: End::Owner, Shown::Window;
    a_row_that_changes_hands_leaves_its_group: End::Owner, Shown::Group;
    a_deleted_membership_empties_a_window: End::Membership, Shown::Window;
    a_deleted_membership_empties_a_group: End::Membership, Shown::Group;
    an_edited_rule_takes_a_group_back: End::Rule, Shown::Group;
    a_row_whose_time_passes_is_taken_back: End::Time, Shown::Row;
    a_row_whose_time_passes_leaves_its_window: End::Time, Shown::Window;
    a_row_whose_time_passes_leaves_its_group: End::Time, Shown::Group;
    a_pass_that_runs_out_takes_its_rows_back: End::Pass, Shown::Row;
    a_pass_that_runs_out_empties_a_group: End::Pass, Shown::Group;
    a_deleted_membership_takes_its_rows_from_a_join: End::Membership, Shown::Joined;
    a_row_that_changes_hands_leaves_a_join: End::Owner, Shown::Joined;
    a_deleted_membership_takes_partners_back: End::Membership, Shown::Partner;
    a_partner_that_changes_hands_is_taken_back: End::Owner, Shown::Partner;
    a_partner_that_changes_hands_leaves_a_row_alone: End::Owner, Shown::Beside;
    a_membership_two_tables_away_leaves_a_row_alone: End::MembershipOfCrew, Shown::Beside;
    a_deleted_membership_takes_partners_from_a_window: End::Membership, Shown::PartnerInWindow;
    a_partner_that_changes_hands_leaves_a_group: End::Owner, Shown::PartnerInGroup;
    an_edited_rule_takes_partners_back: End::Rule, Shown::Partner;
    an_edited_rule_leaves_a_row_alone: End::Rule, Shown::Beside;
    a_renewed_token_takes_partners_back: End::Claims, Shown::Partner;
    an_expired_token_takes_joined_rows_back: End::Expiry, Shown::Beside;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_membership_brings_its_rows_and_a_token_is_renewed_without_a_break() {
    let c = cluster().await;
    let token = |seconds: i64| {
        let exp = gossip_server::now() / 1_000_000 + seconds;
        c.token(&["pilot"], json!({"me": "eve", "exp": exp}))
    };
    let mut s = Session::connect(&c.url(1), Some(&token(8))).await.unwrap();
    let mut live = ResultSet::new(s.subscribe("SELECT * FROM calls").await.unwrap());
    assert_eq!(live.rows.keys().collect::<Vec<_>>(), ["[6]"]);
    s.call("authenticate", json!({"token": token(60)})).await.unwrap();
    let mut wait = async |live: &mut ResultSet, rows: &[&str], end: &str| loop {
        if live.rows.keys().map(String::as_str).eq(rows.iter().copied()) {
            return;
        }
        let (incoming, text) = tokio::time::timeout(testbed::PATIENCE, s.next()).await.expect(end).unwrap();
        assert!(!text.contains("private") || rows.contains(&"[6]"), "{text}");
        let Incoming::Notification(told) = incoming else { continue };
        assert!(!matches!(told, Notification::Expired { .. } | Notification::Snapshot { .. }), "a break: {text}");
        live.apply(&told).unwrap();
    };
    // A row that comes in and one that goes, in one transaction.
    c.db.execute_batch(
        "BEGIN; INSERT INTO assignments VALUES (7, 5, 'eve'); DELETE FROM assignments WHERE id = 2; COMMIT",
    )
    .unwrap();
    wait(&mut live, &["[5]"], "the new row").await;
    assert_eq!(live.rows["[5]"]["note"], "first");
    // Beyond the end of the first token.
    tokio::time::sleep(Duration::from_secs(9)).await;
    c.db.execute_batch("UPDATE assignments SET call = 6 WHERE id = 7").unwrap();
    wait(&mut live, &["[6]"], "the other row").await;
    c.stop().await;
}
