//! One running instance: its listener, its loop, its reading thread, and their end.

use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;
use std::time::Duration;

use gossip_core::column_pruning::{Needed, needed};
use gossip_core::engine::Limits;
use gossip_core::plan::look_ups;
use gossip_core::query::{Expr, parse_condition, parse_trusted_query};
use gossip_core::rule::{RuleSet, RuleText};
use gossip_core::schema::{Catalog, PRESENCE, Table, TableName};
use gossip_core::seal::Sealer;
use gossip_core::send_queue::QueueLimits;
use gossip_core::subquery::subqueries_of;
use gossip_relay::Relay;
use gossip_relay::ingest::Ingest;
use gossip_source::{Condition, Source, SourceError};
use parking_lot::Mutex;
use serde_json::Map;
use tokio::net::TcpListener;
use tokio::sync::{mpsc, oneshot, watch};
use tokio::task::JoinHandle;

use crate::admission::Admission;
use crate::audit_log::AuditLog;
use crate::auth::Tokens;
use crate::authz_webhook::Decisions;
use crate::config::{StoredQuery, TopicSettings};
use crate::front::{self, Seats};
use crate::http;
use crate::node::{self, CHANNEL, Command, State};
use crate::query_ref::Askable;
use crate::reading::Reading;
use crate::requests::Front;
use crate::snapshots::Snapshots;
use crate::supervisor::{OnFailure, Supervisor};
use crate::system::SystemTables;

/// How long a stop waits for connections to end.
const DRAIN: Duration = Duration::from_secs(5);

/// What an instance is started with.
#[derive(Clone)]
pub struct Options {
    /// Its name.
    pub name: String,
    /// Where it listens; port 0 takes a free one.
    pub listen: SocketAddr,
    /// The source.
    pub source: Arc<dyn Source>,
    /// The topics.
    pub topics: Vec<TopicSettings>,
    /// The rules.
    pub rules: Vec<RuleText>,
    /// Stored queries by name.
    pub queries: BTreeMap<String, String>,
    /// Checks tokens; `None`: authentication is not possible.
    pub tokens: Option<Arc<Tokens>>,
    /// The cluster's secret, from which keys for cursors are derived.
    pub secret: Vec<u8>,
    /// The relay.
    pub relay: Arc<dyn Relay>,
    /// What may wait for one client.
    pub queue: QueueLimits,
    /// Who may come and with which queries.
    pub admission: Admission,
    /// The decision service, if there is one.
    pub decisions: Option<Arc<Decisions>>,
    /// What happens when a part of it fails.
    pub on_failure: OnFailure,
}

/// Why an instance could not start.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    /// The address cannot be listened on.
    #[error("cannot listen on {0}: {1}; choose another with instance.listen")]
    Listen(SocketAddr, std::io::Error),
    /// The source cannot be used.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// Rules do not fit the tables; one line each.
    #[error("{0}")]
    Rules(String),
    /// The relay cannot be joined.
    #[error(transparent)]
    Relay(#[from] gossip_relay::RelayError),
    /// A thread could not be started.
    #[error("cannot start the reading thread: {0}")]
    Thread(std::io::Error),
}

/// A running instance. Dropping it without [`Instance::stop`] ends it less politely.
pub struct Instance {
    name: String,
    address: SocketAddr,
    running: Arc<Running>,
    over: watch::Receiver<bool>,
}

/// What runs.
struct Running {
    asks: mpsc::Sender<Command>,
    stopping: watch::Sender<bool>,
    /// The loop, and the front.
    tasks: Mutex<Vec<JoinHandle<()>>>,
    reading: Arc<Reading>,
    over: watch::Sender<bool>,
    supervisor: Supervisor,
}

impl Running {
    /// No new connections, clients are asked to reconnect elsewhere (1012), the reader gives up its leadership.
    async fn stop(&self) {
        self.supervisor.stop();
        self.stopping.send_replace(true);
        let _ = self.asks.send(Command::Stopping).await;
        let reading = self.reading.clone();
        let _ = tokio::task::spawn_blocking(move || reading.stop()).await;
        // The front first: its connections have things to ask of the loop until they end.
        let tasks = std::mem::take(&mut *self.tasks.lock());
        for task in tasks.into_iter().rev() {
            let abort = task.abort_handle();
            if tokio::time::timeout(DRAIN, task).await.is_err() {
                abort.abort();
            }
            let _ = self.asks.send(Command::End).await;
        }
        self.over.send_replace(true);
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.supervisor.stop();
    }
}

fn catalog<'a>(
    source: &dyn Source,
    topics: impl IntoIterator<Item = &'a TopicSettings>,
) -> Result<Catalog, SourceError> {
    let mut catalog = Catalog::new(source.default_schema());
    source.describe()?.into_iter().for_each(|t| catalog.put(t));
    topics.into_iter().for_each(|t| catalog.put(t.topic.table.table().clone()));
    // The one table of Gossip's own that is not for operators alone.
    let presence = TableName::system(PRESENCE);
    SystemTables::new().tables().filter(|t| t.name == presence).for_each(|t| catalog.put(t.clone()));
    Ok(catalog)
}

/// Holds rules against the tables of a source and topics, and says all that is wrong, one line each.
///
/// # Errors
/// The database cannot be read.
pub fn check_rules<'a>(
    rules: &[RuleText],
    source: &dyn Source,
    topics: impl IntoIterator<Item = &'a TopicSettings>,
) -> Result<Vec<String>, SourceError> {
    let problems = RuleSet::new(rules.to_vec()).check(&catalog(source, topics)?);
    Ok(problems.into_iter().map(|p| format!("line {}: rule: {}", p.line, p.message)).collect())
}

/// As [`check_rules`], for stored queries. Whether anybody may ask them is up to the rules.
///
/// # Errors
/// The database cannot be read.
pub fn check_queries<'a>(
    queries: &BTreeMap<String, StoredQuery>,
    source: &dyn Source,
    topics: impl IntoIterator<Item = &'a TopicSettings>,
) -> Result<Vec<String>, SourceError> {
    let catalog = catalog(source, topics)?;
    let problem = |(name, q): (&String, &StoredQuery)| {
        let e = parse_trusted_query(&q.sql, &catalog, &Map::new()).err()?;
        Some(format!("line {}: query.{name}: {e}", q.line))
    };
    Ok(queries.iter().filter_map(problem).collect())
}

/// What rules and stored queries need of the source's tables. What is wrong with them is said elsewhere.
///
/// # Errors
/// The database cannot be read.
pub fn conditions(
    rules: &[RuleText],
    queries: &BTreeMap<String, StoredQuery>,
    source: &dyn Source,
) -> Result<Vec<Condition>, SourceError> {
    let catalog = catalog(source, [])?;
    let mut found = Vec::new();
    let mut note =
        |table: &Table, (rows, exprs): (&Expr, &[&Expr]), sorted: &[&Expr], first_by: Option<usize>, place: String| {
            let name = |i: usize| table.columns[i].name.to_string();
            let (mut columns, mut ordered) = (BTreeSet::new(), BTreeSet::new());
            for e in exprs {
                e.for_each_column(&mut |i| columns.extend([name(i)]));
                e.for_each_ordered_column(&mut |i| ordered.extend([name(i)]));
            }
            sorted.iter().for_each(|e| e.for_each_column(&mut |i| ordered.extend([name(i)])));
            if !columns.is_empty() {
                let (columns, ordered) = (columns.into_iter().collect(), ordered.into_iter().collect());
                let found_by =
                    look_ups(rows, table).unwrap_or_default().into_iter().map(|(i, how)| (name(i), how)).collect();
                let (table, first_by) = (table.name.clone(), first_by.map(name));
                found.push(Condition { table, columns, ordered, found_by, first_by, place });
            }
        };
    for rule in rules {
        let Some(table) = catalog.get(&rule.table) else { continue };
        let rows = rule.rows.as_ref().and_then(|rows| parse_condition(rows, table, &catalog).ok());
        if let Some(rows) = &rows {
            let place = format!("the rule in line {}", rule.line);
            for subquery in subqueries_of([rows]).into_keys() {
                let of = Expr::And(subquery.conditions().cloned().collect()).canonicalize();
                note(&subquery.table, (&of, &[&of]), &[], None, format!("a sub-select of {place}"));
            }
            note(table, (rows, &[rows]), &[], None, place);
        }
    }
    for (name, q) in queries {
        if let Ok(query) = parse_trusted_query(&q.sql, &catalog, &Map::new()) {
            let (decisive, sorted) = (query.decisive_exprs(), query.sorted_exprs());
            let place = format!("the query {name}");
            for subquery in subqueries_of([&query.condition]).into_keys() {
                let of = subquery.condition();
                note(&subquery.table, (of, &[of]), &[], None, format!("a sub-select of {place}"));
            }
            // Of tables that are joined the rows are found by their keys.
            let of_own = |e: &&Expr| query.is_of_own(e);
            let condition = query.condition_of_own();
            let (decisive, sorted): (Vec<&Expr>, Vec<&Expr>) =
                (decisive.into_iter().filter(of_own).collect(), sorted.into_iter().filter(of_own).collect());
            note(&query.table, (&condition, &decisive), &sorted, query.first_by(), place);
        }
    }
    Ok(found)
}

/// Opens the source and checks the rules. Returns its tables, and the columns that the rules need.
async fn open_source(
    source: &Arc<dyn Source>,
    rules: &[RuleText],
    topics: &[TopicSettings],
) -> Result<(Vec<Arc<Table>>, Option<Needed>), StartError> {
    let (source, rules, topics) = (source.clone(), rules.to_vec(), topics.to_vec());
    let open = move || {
        let (tables, problems) = (source.open()?, check_rules(&rules, &*source, &topics)?);
        Ok::<_, SourceError>((tables, problems, needed(&RuleSet::new(rules), &catalog(&*source, &topics)?)))
    };
    // A database blocks.
    let opened = tokio::task::spawn_blocking(open).await;
    let (tables, problems, needed) = opened.map_err(|e| StartError::Thread(std::io::Error::other(e)))??;
    match problems.is_empty() {
        true => Ok((tables, needed)),
        false => Err(StartError::Rules(problems.join("\n"))),
    }
}

/// The topics that take events of other programs, with where from.
fn foreign(topics: &[TopicSettings]) -> Vec<(String, Ingest)> {
    let from = |t: &TopicSettings| Some((t.topic.table.name.name.to_string(), t.from.clone()?));
    topics.iter().filter_map(from).collect()
}

impl Instance {
    /// Starts an instance. It serves when this returns.
    ///
    /// # Errors
    /// The source, the relay or the address cannot be used, or the rules do not fit the tables.
    #[expect(clippy::too_many_lines, reason = "parts are started in order, each with those before")]
    pub async fn start(options: Options) -> Result<Instance, StartError> {
        let source = options.source;
        let (tables, needed) = open_source(&source, &options.rules, &options.topics).await?;
        let listener = TcpListener::bind(options.listen).await.map_err(|e| StartError::Listen(options.listen, e))?;
        let address = listener.local_addr().map_err(|e| StartError::Listen(options.listen, e))?;
        options.relay.describe(&tables);
        // Before anything is read: columns that no rule shows must not reach a broker.
        options.relay.need(needed);
        let inbox = options.relay.join().await?;
        let supervisor = Supervisor::start(&options.name, options.on_failure).map_err(StartError::Thread)?;
        let reading = Reading::start(source.clone(), &options.name, options.relay.clone(), &supervisor)
            .map_err(StartError::Thread)?;
        let reading = Arc::new(reading);
        let sealer = Arc::new(Sealer::new(&options.secret));
        let record = Arc::new(AuditLog::default());
        let (asks, asked) = mpsc::channel(CHANNEL);
        let (stopping, stop) = watch::channel(false);
        let (drain, mut drained) = watch::channel(false);
        let (compiler, compilers) = watch::channel(None);
        if let Some(tokens) = options.tokens.clone() {
            let stopping = stop.clone();
            tokio::spawn(async move { tokens.keep_refreshed(stopping).await });
        }
        let decides = options.decisions.is_some();
        let start = node::Start {
            name: options.name.clone(),
            address,
            source: source.name().clone(),
            default_schema: source.default_schema().into(),
            tables,
            topics: options.topics.iter().map(|t| t.topic.clone()).collect(),
            foreign: foreign(&options.topics),
            rules: Arc::new(RuleSet::new(options.rules)),
            limits: Limits::default(),
            sealer: sealer.clone(),
            snapshots: Arc::new(Snapshots::new(source)),
            relay: options.relay,
            reading: reading.clone(),
            asks: asks.downgrade(),
            record: record.clone(),
            decisions: options.decisions,
            drain,
            compiler,
            supervisor: supervisor.clone(),
        };
        let front = Arc::new(Front {
            asks: asks.clone(),
            askable: Askable {
                admission: options.admission,
                queries: Arc::new(options.queries),
                tokens: options.tokens,
                compiler: (!decides).then_some(compilers),
            },
            sealer,
            queue: options.queue,
            stopping: stop.clone(),
            record: record.clone(),
            next_client: AtomicU64::new(1),
            failed: supervisor.failed(),
        });
        let router = http::router(front);
        let front_guard = supervisor.guard("the front");
        let http = async move {
            let _guard = front_guard;
            front::serve(listener, router, Arc::new(Seats::new()), stop).await;
        };
        let tasks = vec![tokio::spawn(node::run(start, asked, inbox)), tokio::spawn(http)];
        let (over, is_over) = watch::channel(false);
        let running = Arc::new(Running { asks, stopping, tasks: Mutex::new(tasks), reading, over, supervisor });
        let to_drain = Arc::downgrade(&running);
        tokio::spawn(async move {
            if drained.wait_for(|asked| *asked).await.is_ok()
                && let Some(running) = to_drain.upgrade()
            {
                running.stop().await;
            }
        });
        Ok(Instance { name: options.name, address, running, over: is_over })
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// How it stands.
    pub async fn state(&self) -> State {
        let (answer, answered) = oneshot::channel();
        let _ = self.running.asks.send(Command::State(answer)).await;
        answered.await.unwrap_or_default()
    }

    /// Puts other rules in force. Running subscriptions follow at once.
    pub async fn set_rules(&self, rules: Vec<RuleText>) {
        let _ = self.running.asks.send(Command::Rules(Arc::new(RuleSet::new(rules)))).await;
    }

    /// Stops: no new connections, clients are asked to reconnect elsewhere (1012), the reader gives up its leadership.
    pub async fn stop(self) {
        self.running.stop().await;
    }

    /// Waits until it is over: stopped, or drained because an operator had it done from anywhere.
    pub fn over(&self) -> impl Future<Output = ()> + Send + use<> {
        let mut over = self.over.clone();
        async move { drop(over.wait_for(|over| *over).await) }
    }

    /// Whether it is over.
    pub fn is_over(&self) -> bool {
        *self.over.borrow()
    }

    /// Waits until a part of it has failed, and says which and why. Never ends if none does.
    pub fn failed(&self) -> impl Future<Output = String> + Send + use<> {
        let mut failed = self.running.supervisor.failed();
        async move {
            match failed.wait_for(Option::is_some).await.map(|why| why.clone()) {
                Ok(Some(why)) => why,
                _ => std::future::pending().await,
            }
        }
    }

    /// Ends at once, as a crash would.
    pub fn kill(self) {
        self.running.supervisor.stop();
        self.running.tasks.lock().iter().for_each(JoinHandle::abort);
        let running = self.running;
        std::thread::spawn(move || running.reading.stop());
    }
}
