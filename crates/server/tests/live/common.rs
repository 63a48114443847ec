//! An instance or two on a database of their own, for tests.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use gossip_client::Session;
use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;
use gossip_core::send_queue::QueueLimits;
use gossip_relay::Relay;
use gossip_relay::faulty::{Faults, Faulty};
use gossip_relay::inproc::InProcess;
use gossip_server::auth::Tokens;
use gossip_server::config::{Auth, TopicSettings};
use gossip_server::instance::{Instance, Options};
use gossip_source::sqlite::{SqliteSource, triggers};
use gossip_source::{Settings, Source};
use postgres::{Client, NoTls};
use rusqlite::Connection;
use serde_json::{Map, Value as Json, json};

pub const SECRET: &[u8] = b"a secret of at least thirty-two bytes";

pub struct Cluster {
    dir: tempfile::TempDir,
    pub db: Connection,
    pub tokens: Arc<Tokens>,
    pub instances: Vec<Option<Instance>>,
    pub options: Vec<Options>,
    pub faults: Vec<Arc<Faults>>,
}

pub fn rule(role: &str, table: &str, rows: Option<&str>, columns: &[&str]) -> RuleText {
    let columns = (!columns.is_empty()).then(|| columns.iter().map(|c| c.to_string()).collect());
    RuleText {
        role: role.into(),
        table: TableName::plain(table),
        rows: rows.map(String::from),
        columns,
        line: 1,
        ..RuleText::default()
    }
}

/// Runs statements on a PostgreSQL database, all in one transaction.
pub async fn run(url: &str, sql: impl Into<String>) {
    let (url, sql) = (url.to_string(), sql.into());
    let run = move || Client::connect(&url, NoTls).unwrap().batch_execute(&sql).unwrap();
    tokio::task::spawn_blocking(run).await.unwrap();
}

/// The source `s` on a PostgreSQL database, prepared for these tables of it.
pub async fn prepared(url: &str, tables: &[impl AsRef<str>], old_values: bool) -> Arc<dyn Source> {
    let tables: Vec<String> = tables.iter().map(|t| t.as_ref().to_string()).collect();
    let options = if old_values { [("old_values".to_string(), json!(tables))].into() } else { BTreeMap::new() };
    let settings = Settings { name: "s".into(), url: url.into(), tables, options };
    let source = gossip_source::from_settings(&settings, Path::new("/")).unwrap();
    let of = source.clone();
    tokio::task::spawn_blocking(move || of.carry_out(&of.plan().unwrap().statements).unwrap()).await.unwrap();
    source
}

/// An instance by itself on this source, for whoever comes.
pub async fn start(source: Arc<dyn Source>, rules: Vec<RuleText>) -> Instance {
    Instance::start(Options {
        name: "one".into(),
        listen: SocketAddr::from(([127, 0, 0, 1], 0)),
        source,
        rules,
        queries: Default::default(),
        tokens: None,
        secret: vec![7; 32],
        relay: Arc::new(InProcess::default()),
        queue: QueueLimits { deltas: 100_000, bytes: 256 << 20 },
        admission: Default::default(),
        topics: vec![],
        decisions: None,
        on_failure: Default::default(),
    })
    .await
    .unwrap()
}

pub fn auth() -> Auth {
    Auth {
        audience: Some("harbour".into()),
        operators: Some("ops".into()),
        grace: std::time::Duration::ZERO,
        ..Auth::default()
    }
}

impl Cluster {
    pub async fn start(schema: &str, tables: &[&str], rules: Vec<RuleText>, queue: QueueLimits) -> Cluster {
        Cluster::with_topics(schema, tables, rules, queue, vec![]).await
    }

    pub async fn with_topics(
        schema: &str,
        tables: &[&str],
        rules: Vec<RuleText>,
        queue: QueueLimits,
        topics: Vec<TopicSettings>,
    ) -> Cluster {
        let dir = tempfile::tempdir().unwrap();
        let db = Connection::open(dir.path().join("t.db")).unwrap();
        db.execute_batch(&format!("PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL; {schema}")).unwrap();
        db.busy_timeout(std::time::Duration::from_secs(20)).unwrap();
        let tables = tables.iter().map(|t| t.to_string()).collect();
        let source = SqliteSource::new("s", "sqlite:t.db", tables, dir.path()).unwrap();
        let mut own = source.connect().unwrap();
        let plan = triggers::plan(&own, &source).unwrap();
        triggers::carry_out(&mut own, &plan.statements).unwrap();
        let tokens = Arc::new(Tokens::new(auth(), SECRET).unwrap());
        let hub: Arc<dyn Relay> = Arc::new(InProcess::default());
        let mut cluster = Cluster { dir, db, tokens, instances: vec![], options: vec![], faults: vec![] };
        for name in ["north", "south"] {
            let faulty = Faulty::new(hub.clone());
            cluster.faults.push(faulty.faults().clone());
            let options = Options {
                name: name.into(),
                // One that it finds again after it was ended.
                listen: SocketAddr::from(([127, 0, 0, 1], testbed::free_port())),
                source: Arc::new(source.clone()),
                rules: rules.clone(),
                queries: [("of_agency".to_string(), "SELECT * FROM calls WHERE agency = :a".to_string())].into(),
                tokens: Some(cluster.tokens.clone()),
                secret: SECRET.to_vec(),
                relay: Arc::new(faulty),
                queue,
                admission: Default::default(),
                topics: topics.clone(),
                decisions: None,
                on_failure: Default::default(),
            };
            let instance = Instance::start(options.clone()).await.unwrap();
            cluster.options.push(options);
            cluster.instances.push(Some(instance));
        }
        cluster
    }

    pub fn path(&self) -> PathBuf {
        self.dir.path().join("t.db")
    }

    pub fn url(&self, i: usize) -> String {
        self.options[i].listen.to_string()
    }

    pub fn token(&self, roles: &[&str], claims: Json) -> String {
        self.door().token(roles, claims)
    }

    pub async fn connect(&self, i: usize, roles: &[&str], claims: Json) -> Session {
        self.door().connect(i, roles, claims).await
    }

    pub fn door(&self) -> Door {
        Door { urls: [self.url(0), self.url(1)], tokens: self.tokens.clone() }
    }

    pub async fn operator(&self, i: usize) -> Session {
        let mut operator = self.connect(i, &["ops"], json!({})).await;
        // Who is beside an operator may be observed: the instance knows of a connection once it has answered on it.
        operator.call("unsubscribe", json!({"subscription": 0})).await.unwrap_err();
        operator
    }

    pub async fn stop(mut self) {
        for i in self.instances.drain(..).flatten() {
            i.stop().await;
        }
    }
}

/// The way in, for tasks of their own.
#[derive(Clone)]
pub struct Door {
    urls: [String; 2],
    tokens: Arc<Tokens>,
}

impl Door {
    pub fn token(&self, roles: &[&str], claims: Json) -> String {
        let roles: Vec<String> = roles.iter().map(|r| r.to_string()).collect();
        let claims: Map<String, Json> = claims.as_object().cloned().unwrap_or_default();
        self.tokens.mint_for("somebody", &roles, &claims, gossip_server::now() / 1_000_000, 3_600).unwrap()
    }

    pub async fn connect(&self, i: usize, roles: &[&str], claims: Json) -> Session {
        let token = self.token(roles, claims);
        Session::connect_within(testbed::PATIENCE, &self.urls[i], Some(&token)).await.unwrap()
    }
}
