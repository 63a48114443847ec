//! Rights that follow the data, with PostgreSQL as the oracle: every policy is written twice, as rules and as row
//! security with views, and at every quiet point each client's result is what PostgreSQL shows to that person. No row
//! ever stands in a result that PostgreSQL did not show to that person after some commit since it began to listen.
//!
//! `GOSSIP_RIGHTS_SEEDS=n` sets how many random policies are tried, `GOSSIP_RIGHTS_SEED=n` replays one, with those that
//! the same clients were under before it, or begins with it where both are given.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Instant;

use gossip_client::result_set::Applied;
use gossip_client::{Incoming, ResultSet, Session};
use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;
use gossip_core::send_queue::QueueLimits;
use gossip_relay::inproc::InProcess;
use gossip_server::auth::Tokens;
use gossip_server::instance::{Instance, Options};
use parking_lot::Mutex;
use postgres::{Client, NoTls};
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde_json::{Map, Value as Json, json};
use testbed::{PATIENCE, Postgres};
use tokio::task::AbortHandle;

use crate::common::{SECRET, auth, prepared, run};

const SCHEMA: &str = "
    CREATE TABLE calls (id int PRIMARY KEY, agency text, status text, draught int, note text);
    CREATE TABLE assignments (id int PRIMARY KEY, call int, pilot text);
    CREATE TABLE crews (id int PRIMARY KEY, member text, boss text);
    GRANT SELECT ON calls, assignments, crews TO PUBLIC;
    ALTER TABLE calls ENABLE ROW LEVEL SECURITY";
const TABLES: [&str; 3] = ["calls", "assignments", "crews"];
const NAMES: [&str; 4] = ["ada", "bo", "cy", "di"];
const STATES: [&str; 3] = ["expected", "inbound", "berthed"];
const PERSONS: usize = 10;
const RULES: usize = 4;
/// Policies that one crowd of clients comes under, one after the other.
const IN_A_ROW: u64 = 4;
/// Transactions of each writer under one policy.
const WRITES: usize = 6;
const WRITERS: u64 = 4;
const QUERIES: [(&str, &str); 5] = [
    ("*", "true"),
    ("*", "draught > 3"),
    ("id, status", "status <> 'berthed' OR draught IS NULL"),
    ("*", "note LIKE 'a%' OR agency = 'ada'"),
    ("id, note, draught", "NOT (agency IN ('bo', 'cy') AND note IS NOT NULL)"),
];

/// Claims in a condition, in the words of rules (`true`) and of PostgreSQL.
fn worded(condition: &str, as_rule: bool) -> String {
    let [me, list, n] = match as_rule {
        true => ["claim.me", "claim.team.names", "claim.n"],
        false => [
            "current_setting('claim.me')",
            "string_to_array(current_setting('claim.names'), ',')",
            "current_setting('claim.n')::int",
        ],
    };
    condition.replace("{me}", me).replace("{list}", list).replace("{n}", n)
}

fn condition(rng: &mut StdRng, depth: u32) -> String {
    if depth > 0 && rng.random_bool(0.5) {
        let (a, b) = (condition(rng, depth - 1), condition(rng, depth - 1));
        return match rng.random_range(0..5) {
            0 => format!("NOT ({a})"),
            1 | 2 => format!("({a} AND {b})"),
            _ => format!("({a} OR {b})"),
        };
    }
    let atoms = [
        "agency = ANY({list})",
        "agency = {me}",
        "status = 'inbound'",
        "draught < {n}",
        "note IS NULL",
        "id IN (SELECT call FROM assignments WHERE pilot = {me})",
        "id IN (SELECT call FROM assignments WHERE pilot = ANY({list}))",
        "EXISTS (SELECT 1 FROM assignments a WHERE a.call = calls.id AND a.pilot = {me})",
        "EXISTS (SELECT 1 FROM assignments a WHERE a.call = calls.id \
         AND a.pilot IN (SELECT member FROM crews WHERE boss = {me}))",
        "agency IN (SELECT boss FROM crews WHERE member = {me})",
        "EXISTS (SELECT 1 FROM crews c WHERE c.boss = calls.agency AND c.member = calls.note)",
    ];
    atoms[rng.random_range(0..atoms.len())].to_string()
}

/// What one role may see.
struct Grant {
    rows: String,
    columns: BTreeSet<&'static str>,
    masks: BTreeMap<&'static str, &'static str>,
}

fn policy(rng: &mut StdRng) -> Vec<Grant> {
    let mut masked = false;
    let grant = |i| {
        let mut columns: BTreeSet<&str> = ["id", "status", "draught"].into();
        let mut masks = BTreeMap::new();
        columns.extend(["agency", "note"].iter().filter(|_| rng.random_bool(0.5)));
        // Which of several masks is shown is not defined: there is one.
        if i > 0 && !masked && rng.random_bool(0.5) {
            masked = true;
            masks.insert("note", "left(note, 1) || '…' || right(note, 2)");
            masks.insert("agency", "'somebody'");
            columns.extend(["agency", "note"]);
        }
        if i == 0 {
            // Everybody may name all columns, so that no query is refused.
            columns.extend(["agency", "note"]);
        }
        Grant { rows: condition(rng, 2), columns, masks }
    };
    (0..RULES).map(grant).collect()
}

fn rules(policy: &[Grant]) -> Vec<RuleText> {
    let rule = |(i, g): (usize, &Grant)| RuleText {
        role: format!("r{i}"),
        table: TableName::plain("calls"),
        rows: Some(worded(&g.rows, true)),
        columns: Some(g.columns.iter().map(|c| c.to_string()).collect()),
        masks: g.masks.iter().map(|(c, m)| (c.to_string(), m.to_string())).collect(),
        line: i + 1,
        ..RuleText::default()
    };
    policy.iter().enumerate().map(rule).collect()
}

/// Who somebody is.
#[derive(Clone, Debug)]
struct Person {
    roles: Vec<usize>,
    me: &'static str,
    names: Vec<&'static str>,
    n: i64,
}

impl Person {
    fn random(rng: &mut StdRng) -> Person {
        let mut roles = vec![0];
        roles.extend((1..RULES).filter(|_| rng.random_bool(0.5)));
        let names = NAMES.into_iter().filter(|_| rng.random_bool(0.4)).collect();
        Person { roles, me: NAMES[rng.random_range(0..4)], names, n: rng.random_range(0..8) }
    }

    fn token(&self, tokens: &Tokens) -> String {
        let roles: Vec<String> = self.roles.iter().map(|r| format!("r{r}")).collect();
        let claims = json!({"me": self.me, "team": {"names": self.names}, "n": self.n});
        let claims = claims.as_object().cloned().unwrap();
        tokens.mint_for("somebody", &roles, &claims, gossip_server::now() / 1_000_000, 3_600).unwrap()
    }
}

/// A connection that may be dropped anywhere.
struct Db(Option<Client>);

impl Drop for Db {
    fn drop(&mut self) {
        let client = self.0.take();
        std::thread::spawn(move || drop(client));
    }
}

/// PostgreSQL's side: who may see what, by row security and views.
struct Oracle {
    db: Db,
    persons: Vec<Person>,
    /// All rows, with the columns that are seen, that each person was shown after any commit.
    shown: Vec<BTreeSet<String>>,
}

impl Oracle {
    fn set(&mut self, policy: &[Grant]) {
        let mut sql = String::from("DEALLOCATE ALL;");
        for (i, g) in policy.iter().enumerate() {
            let rows = worded(&g.rows, false);
            let _ = write!(
                sql,
                "DROP POLICY IF EXISTS r{i} ON calls; CREATE POLICY r{i} ON calls FOR SELECT TO r{i} USING ({rows});"
            );
        }
        for (p, person) in self.persons.iter().enumerate() {
            let any = |which: &dyn Fn(&Grant) -> bool| {
                let holds =
                    person.roles.iter().map(|r| &policy[*r]).filter(|g| which(g)).map(|g| worded(&g.rows, false));
                let holds: Vec<String> = holds.map(|h| format!("({h})")).collect();
                if holds.is_empty() { "false".into() } else { holds.join(" OR ") }
            };
            let column = |c: &str| {
                let open = any(&|g| g.columns.contains(c) && !g.masks.contains_key(c));
                let masked = any(&|g| g.masks.contains_key(c));
                let mask = policy.iter().find_map(|g| g.masks.get(c).copied()).unwrap_or("NULL");
                format!("CASE WHEN {open} THEN {c} WHEN {masked} THEN {mask} END AS {c}")
            };
            let columns = format!("id, status, draught, {}, {}", column("agency"), column("note"));
            let _ = write!(
                sql,
                "DROP VIEW IF EXISTS v{p}; CREATE VIEW v{p} WITH (security_invoker = true) AS SELECT {columns} FROM calls;
                 GRANT SELECT ON v{p} TO p{p};
                 PREPARE shown{p} AS SELECT to_jsonb(q)::text FROM (SELECT * FROM v{p}) q;"
            );
        }
        self.db.0.as_mut().unwrap().batch_execute(&sql).unwrap_or_else(|e| panic!("{e:?}: {sql}"));
        self.look();
    }

    /// What persons are shown by queries, asked at once.
    fn ask(&mut self, all: &[(usize, String)]) -> Vec<BTreeSet<String>> {
        let mut sql = String::new();
        for (p, query) in all {
            let Person { me, names, n, .. } = &self.persons[*p];
            let names = names.join(",");
            let claims = [("role", format!("p{p}")), ("claim.me", me.to_string()), ("claim.names", names)];
            let set = |(name, value): (&str, String)| format!("set_config('{name}', '{value}', false)");
            let claims: Vec<String> = claims.into_iter().chain([("claim.n", n.to_string())]).map(set).collect();
            let _ = write!(sql, "SELECT {}; {query};", claims.join(", "));
        }
        sql.push_str("RESET ROLE");
        let told = self.db.0.as_mut().unwrap().simple_query(&sql).unwrap_or_else(|e| panic!("{e:?}: {sql}"));
        let mut found = vec![BTreeSet::new(); all.len()];
        let mut statement = 0;
        for message in told {
            match message {
                postgres::SimpleQueryMessage::Row(r) if statement % 2 == 1 => {
                    let row = plain(serde_json::from_str(r.get(0).unwrap()).unwrap());
                    found[statement / 2].insert(row);
                }
                postgres::SimpleQueryMessage::CommandComplete(_) => statement += 1,
                _ => {}
            }
        }
        assert_eq!(statement, all.len() * 2 + 1);
        found
    }

    /// Notes what everybody is shown now.
    fn look(&mut self) {
        let all: Vec<_> = (0..self.persons.len()).map(|p| (p, format!("EXECUTE shown{p}"))).collect();
        for (p, now) in self.ask(&all).into_iter().enumerate() {
            self.shown[p].extend(now);
        }
    }
}

/// A row as text, without what is hidden or NULL.
fn plain(mut row: Map<String, Json>) -> String {
    row.retain(|_, v| !v.is_null());
    let sorted: BTreeMap<String, Json> = row.into_iter().collect();
    json!(sorted).to_string()
}

/// Random transactions; nobody else commits while it is looked at what everybody is shown.
fn write(db: &mut Client, seed: u64, oracle: &Mutex<Oracle>) {
    let mut rng = StdRng::seed_from_u64(seed);
    for _ in 0..WRITES {
        let mut sql = String::from("BEGIN;");
        for _ in 0..rng.random_range(1..4) {
            let mut name = || match rng.random_range(0..6) {
                0 => "NULL".to_string(),
                i => format!("'{}'", NAMES[(i as usize) % 4]),
            };
            let (a, b, c) = (name(), name(), name());
            let (id, n) = (rng.random_range(0..14), rng.random_range(0..8));
            let state = STATES[rng.random_range(0..3)];
            let _ = match rng.random_range(0..14) {
                0..4 => write!(
                    sql,
                    "INSERT INTO calls VALUES ({id}, {a}, '{state}', {n}, {b}) ON CONFLICT (id) DO UPDATE \
                     SET agency = excluded.agency, draught = excluded.draught, note = {c};"
                ),
                4 | 5 => write!(sql, "UPDATE calls SET status = '{state}', draught = {n} WHERE id = {id};"),
                6 => write!(sql, "DELETE FROM calls WHERE id = {id};"),
                7 => write!(
                    sql,
                    "UPDATE calls SET id = id + 20 WHERE id = {id} AND NOT EXISTS (SELECT FROM calls WHERE id = {id} + 20);"
                ),
                8..11 => write!(
                    sql,
                    "INSERT INTO assignments VALUES ({n}, {id}, {a}) ON CONFLICT (id) DO UPDATE \
                     SET call = nullif({id}, 0), pilot = {b};"
                ),
                11 => write!(sql, "DELETE FROM assignments WHERE id = {n};"),
                12 => write!(
                    sql,
                    "INSERT INTO crews VALUES ({n}, {a}, {b}) ON CONFLICT (id) DO UPDATE SET member = {c}, boss = {a};"
                ),
                _ => write!(sql, "DELETE FROM crews WHERE id = {n};"),
            };
        }
        // Two may wait for each other's rows; the one that PostgreSQL ends has done nothing.
        if db.batch_execute(&sql).is_err() {
            db.batch_execute("ROLLBACK").unwrap();
            continue;
        }
        let mut oracle = oracle.lock();
        if db.batch_execute(if rng.random_bool(0.9) { "COMMIT" } else { "ROLLBACK" }).is_ok() {
            oracle.look();
        }
    }
}

/// What one client has heard.
struct Heard {
    live: ResultSet,
    /// Every row that stood in its result.
    rows: BTreeSet<String>,
}

async fn listen(mut session: Session, heard: Arc<Mutex<Heard>>) {
    loop {
        let Ok((Incoming::Notification(told), text)) = session.next().await else { return };
        let mut heard = heard.lock();
        let Heard { live, rows } = &mut *heard;
        match live.apply(&told).unwrap_or_else(|e| panic!("{e}: {text}")) {
            Applied::NotMine => continue,
            Applied::Closed(why) => panic!("closed: {why}"),
            Applied::Whole(_) | Applied::Changed => {}
        }
        if !live.unfinished {
            rows.extend(live.rows.values().cloned().map(plain));
        }
    }
}

struct Bench {
    server: Arc<Postgres>,
    instance: Instance,
    tokens: Arc<Tokens>,
}

impl Bench {
    async fn start(old_values: bool) -> Bench {
        let server = Arc::new(Postgres::start());
        let url = server.url();
        run(&url, SCHEMA).await;
        let roles =
            (0..RULES).map(|r| format!("CREATE ROLE r{r};")).chain((0..PERSONS).map(|p| format!("CREATE ROLE p{p};")));
        run(&url, roles.collect::<String>()).await;
        let source = prepared(&url, &TABLES, old_values).await;
        let tokens = Arc::new(Tokens::new(auth(), SECRET).unwrap());
        let options = Options {
            name: "one".into(),
            listen: SocketAddr::from(([127, 0, 0, 1], 0)),
            source,
            rules: vec![],
            queries: BTreeMap::new(),
            tokens: Some(tokens.clone()),
            secret: SECRET.to_vec(),
            relay: Arc::new(InProcess::default()),
            queue: QueueLimits { deltas: 8, bytes: 1 << 20 },
            admission: Default::default(),
            topics: vec![],
            decisions: None,
            on_failure: Default::default(),
        };
        Bench { server, instance: Instance::start(options).await.unwrap(), tokens }
    }

    async fn connect(&self, person: &Person, query: usize) -> (Arc<Mutex<Heard>>, AbortHandle) {
        let url = self.instance.address().to_string();
        let mut session = Session::connect(&url, Some(&person.token(&self.tokens))).await.unwrap();
        let (columns, condition) = QUERIES[query];
        let condition = if condition == "true" { String::new() } else { format!(" WHERE {condition}") };
        let params = json!({"query": format!("SELECT {columns} FROM calls{condition}")});
        let answer = session.call("subscribe", params).await.unwrap();
        let live = ResultSet::new(serde_json::from_value(answer).unwrap());
        let rows = live.rows.values().cloned().map(plain).collect();
        let heard = Arc::new(Mutex::new(Heard { live, rows }));
        let listening = tokio::spawn(listen(session, heard.clone()));
        (heard, listening.abort_handle())
    }

    /// A crowd of clients under some policies, one after the other; `until` is the last seed that matters.
    async fn crowd(&self, crowd: u64, until: u64) {
        let mut rng = StdRng::seed_from_u64(crowd);
        let persons: Vec<Person> = (0..PERSONS).map(|_| Person::random(&mut rng)).collect();
        let (url, of) = (self.server.url(), persons.clone());
        let open = move || {
            let mut db = Client::connect(&url, NoTls).unwrap();
            db.batch_execute("SET jit = off; TRUNCATE calls, assignments, crews").unwrap();
            let mut memberships = String::new();
            for (p, person) in of.iter().enumerate() {
                for r in 0..RULES {
                    let _ = match person.roles.contains(&r) {
                        true => write!(memberships, "GRANT r{r} TO p{p};"),
                        false => write!(memberships, "REVOKE r{r} FROM p{p};"),
                    };
                }
            }
            // What is not so yet is told by a warning; that is no mistake.
            db.batch_execute(&format!("SET client_min_messages = error; {memberships}")).unwrap();
            let writers: Vec<_> = (0..WRITERS).map(|_| Db(Some(Client::connect(&url, NoTls).unwrap()))).collect();
            (Oracle { db: Db(Some(db)), shown: vec![BTreeSet::new(); of.len()], persons: of }, writers)
        };
        let (oracle, mut writers) = tokio::task::spawn_blocking(open).await.unwrap();
        let oracle = Arc::new(Mutex::new(oracle));
        let (mut heard, mut listening) = (Vec::new(), Vec::new());
        for seed in (crowd * IN_A_ROW..(crowd + 1) * IN_A_ROW).take_while(|s| *s <= until) {
            let policy = policy(&mut rng);
            // Nobody writes while policies change: PostgreSQL would wait for them to end.
            let (of, also) = (oracle.clone(), copy(&policy));
            tokio::task::spawn_blocking(move || of.lock().set(&also)).await.unwrap();
            self.instance.set_rules(rules(&policy)).await;
            // Asked in order: once it answers, the rules are in force.
            self.instance.state().await;
            let start = |(w, mut db): (usize, Db)| {
                let oracle = oracle.clone();
                tokio::task::spawn_blocking(move || {
                    write(db.0.as_mut().unwrap(), seed * WRITERS + w as u64, &oracle);
                    db
                })
            };
            let writing: Vec<_> = writers.drain(..).enumerate().map(start).collect();
            if heard.is_empty() {
                // They come while it is written.
                for (person, query) in persons.iter().flat_map(|p| (0..QUERIES.len()).map(move |q| (p, q))) {
                    let (one, ends) = self.connect(person, query).await;
                    heard.push(one);
                    listening.push(ends);
                }
            }
            for w in writing {
                writers.push(w.await.unwrap());
            }
            self.compare(seed, &oracle, &heard, &policy).await;
        }
        listening.iter().for_each(AbortHandle::abort);
    }

    /// Waits until every result is what PostgreSQL says.
    async fn compare(&self, seed: u64, oracle: &Arc<Mutex<Oracle>>, heard: &[Arc<Mutex<Heard>>], policy: &[Grant]) {
        let of = oracle.clone();
        let ask = move || {
            let mut oracle = of.lock();
            oracle.look();
            let one = |p| {
                QUERIES.map(|(columns, condition)| {
                    let of = format!("(SELECT {columns} FROM v{p} WHERE {condition}) q");
                    (p, format!("SELECT to_jsonb(q)::text FROM {of}"))
                })
            };
            let all: Vec<_> = (0..PERSONS).flat_map(one).collect();
            oracle.ask(&all)
        };
        let truth = tokio::task::spawn_blocking(ask).await.unwrap();
        let begun = Instant::now();
        for (i, truth) in truth.iter().enumerate() {
            let (p, q) = (i / QUERIES.len(), i % QUERIES.len());
            loop {
                let now: BTreeSet<String> = heard[i].lock().live.rows.values().cloned().map(plain).collect();
                if now == *truth {
                    break;
                }
                let about = || {
                    let person = &oracle.lock().persons[p];
                    let rows: Vec<_> =
                        person.roles.iter().map(|r| (r, &policy[*r].rows, &policy[*r].columns)).collect();
                    format!("seed {seed}: {person:?} asks {:?}; {rows:#?}", QUERIES[q])
                };
                assert!(begun.elapsed() < PATIENCE, "{}\nhears {now:#?}\nPostgreSQL says {truth:#?}", about());
                tokio::time::sleep(std::time::Duration::from_millis(5)).await;
            }
        }
        let oracle = oracle.lock();
        // Rows of all columns can be held against what was shown.
        for (i, heard) in heard.iter().enumerate().filter(|(i, _)| QUERIES[i % QUERIES.len()].0 == "*") {
            let p = i / QUERIES.len();
            let never: Vec<_> = heard.lock().rows.difference(&oracle.shown[p]).cloned().collect();
            assert!(never.is_empty(), "seed {seed}: {:?} was never shown {never:#?}", oracle.persons[p]);
        }
    }
}

fn copy(policy: &[Grant]) -> Vec<Grant> {
    let one = |g: &Grant| Grant { rows: g.rows.clone(), columns: g.columns.clone(), masks: g.masks.clone() };
    policy.iter().map(one).collect()
}

async fn try_policies(old_values: bool) {
    let number = |name| std::env::var(name).ok().and_then(|s| s.parse::<u64>().ok());
    let first = number("GOSSIP_RIGHTS_SEED");
    let seeds = number("GOSSIP_RIGHTS_SEEDS").unwrap_or(if first.is_some() { 1 } else { 160 });
    let first = first.unwrap_or(0);
    let until = first + seeds.max(1) - 1;
    let bench = Bench::start(old_values).await;
    for crowd in first / IN_A_ROW..=until / IN_A_ROW {
        bench.crowd(crowd, until).await;
        if crowd % 25 == 24 {
            let held = format!("policies up to {} held, old values: {old_values}\n", (crowd + 1) * IN_A_ROW);
            let _ = std::io::Write::write_all(&mut std::io::stderr(), held.as_bytes());
        }
    }
    bench.instance.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn everybody_is_shown_what_postgresql_would_show_them() {
    try_policies(true).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn everybody_is_shown_what_postgresql_would_show_them_without_old_values() {
    try_policies(false).await;
}

/// What a rule asks another table is known anew when that table is emptied at once or altered.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_table_that_a_rule_asks_is_truncated_and_altered() {
    let bench = Bench::start(true).await;
    let rule = RuleText {
        role: "pilot".into(),
        table: TableName::plain("calls"),
        rows: Some("id IN (SELECT call FROM assignments WHERE pilot = claim.sub)".into()),
        ..RuleText::default()
    };
    bench.instance.set_rules(vec![rule]).await;
    let url = bench.server.url();
    let sql = async |sql: &'static str| {
        let url = url.clone();
        let work = move || Client::connect(&url, NoTls).unwrap().batch_execute(sql).unwrap();
        tokio::task::spawn_blocking(work).await.unwrap();
    };
    sql("INSERT INTO calls (id, note) VALUES (1, 'one'), (2, 'two'), (3, 'three');
         INSERT INTO assignments VALUES (1, 1, 'ada'), (2, 2, 'bo')")
    .await;
    let now = gossip_server::now() / 1_000_000;
    let token = bench.tokens.mint_for("ada", &["pilot".to_string()], &Map::new(), now, 600).unwrap();
    let mut s = Session::connect(&bench.instance.address().to_string(), Some(&token)).await.unwrap();
    let mut live = ResultSet::new(s.subscribe("SELECT id, note FROM calls").await.unwrap());
    let mut shows = async |keys: &[&str]| {
        while !live.rows.keys().map(String::as_str).eq(keys.iter().copied()) {
            let (incoming, text) = tokio::time::timeout(PATIENCE, s.next()).await.expect("its rows").unwrap();
            assert!(!text.contains("two"), "{text}");
            if let Incoming::Notification(told) = incoming
                && let Applied::Closed(why) = live.apply(&told).unwrap()
            {
                return Some(why);
            }
        }
        None
    };
    assert_eq!(shows(&["[1]"]).await, None);
    sql("TRUNCATE assignments").await;
    assert_eq!(shows(&[]).await, None);
    sql("BEGIN; INSERT INTO assignments VALUES (3, 3, 'ada'); TRUNCATE assignments;
         INSERT INTO assignments VALUES (4, 1, 'ada'), (5, 2, 'bo'); COMMIT")
    .await;
    assert_eq!(shows(&["[1]"]).await, None);
    sql("ALTER TABLE assignments ADD COLUMN since date; INSERT INTO assignments VALUES (6, 3, 'ada', now())").await;
    assert_eq!(shows(&["[1]", "[3]"]).await, None);
    sql("ALTER TABLE assignments ALTER COLUMN pilot TYPE varchar(40); DELETE FROM assignments WHERE id = 4").await;
    assert_eq!(shows(&["[3]"]).await, None);
    // A rule that does not fit any more grants nothing.
    sql("ALTER TABLE assignments RENAME COLUMN pilot TO name; UPDATE assignments SET call = 2 WHERE name = 'ada'")
        .await;
    let why = shows(&["none"]).await.expect("it is closed");
    assert!(why.contains("not known or not permitted"), "{why}");
    bench.instance.stop().await;
}
