//! The demo without a screen: the same scenario, and a summary that compares what clients received with the audit.

use std::sync::Arc;
use std::time::Duration;

use gossip_client::result_set::Applied;
use gossip_client::{Incoming, ResultSet, Session};
use gossip_protocol::call::Subscribe;
use gossip_protocol::{ChangeEntry, Notification};
use gossip_server::now;
use hdrhistogram::Histogram;
use parking_lot::Mutex;
use serde_json::{Value as Json, json};
use tokio::sync::watch;
use tokio::task::JoinHandle;

use crate::demo::audit;
use crate::demo::audit::{Arrived, Came, History, Shape, canonical};
use crate::demo::harbour::{Harbour, Simulation};
use crate::demo::scene::{INSTANCES, Scene, remove};
use crate::local::source;
use crate::outcome::Failure;
use crate::personas::Persona;
use crate::workbench::operator_token;

/// Longest wait for the last deltas at the end.
const PATIENCE: Duration = Duration::from_secs(10);

/// Longer delays are counted as this: ten minutes, in microseconds.
const MAX_DELAY: u64 = 600_000_000;

/// Deltas that a watcher drops on purpose, to test the audit.
#[derive(Clone, Copy, Debug)]
pub enum Lose {
    /// Only this one, counted from 0.
    One(u64),
    /// This one and all later ones.
    From(u64),
}

/// Options of a run.
#[derive(Clone, Copy, Debug)]
pub struct Options {
    /// Duration, in seconds.
    pub seconds: u64,
    /// Transactions per second.
    pub pace: f64,
    /// The simulation's seed.
    pub seed: u64,
    /// A watcher, by its index, that drops deltas on purpose.
    pub lose: Option<(usize, Lose)>,
}

/// What one watcher received.
#[derive(Clone, Debug)]
pub struct WatcherReport {
    /// The persona.
    pub persona: String,
    /// The instance.
    pub instance: String,
    /// Deltas that arrived.
    pub heard: u64,
    /// Transactions that rules withheld.
    pub withheld: u64,
    /// Transactions outside the query.
    pub outside: u64,
}

/// The summary of a run.
#[derive(Clone, Debug)]
pub struct Summary {
    /// Row changes.
    pub changes: u64,
    /// Transactions.
    pub transactions: u64,
    /// Instances.
    pub instances: usize,
    /// What each watcher received.
    pub watchers: Vec<WatcherReport>,
    /// Deltas replaced by a snapshot: unsent when a right was revoked, or too many for a slow reader.
    pub with_a_whole: u64,
    /// Deltas that should have arrived but did not.
    pub missed_deltas: u64,
    /// Extra and missing rows in the watchers' final results.
    pub wrong_rows: u64,
    /// From the writer's commit to the watcher's socket, in microseconds.
    pub latency: Histogram<u64>,
    /// Duration, in seconds.
    pub seconds: u64,
    /// The simulation's seed.
    pub seed: u64,
}

impl Summary {
    fn ms(&self, quantile: f64) -> f64 {
        self.latency.value_at_quantile(quantile) as f64 / 1_000.0
    }

    /// As one JSON object.
    pub fn to_json(&self) -> Json {
        let watcher = |w: &WatcherReport| json!({"persona": w.persona, "instance": w.instance, "heard": w.heard, "withheld": w.withheld, "outside": w.outside});
        json!({
            "seconds": self.seconds,
            "seed": self.seed,
            "instances": self.instances,
            "transactions": self.transactions,
            "changes": self.changes,
            "watchers": self.watchers.iter().map(watcher).collect::<Vec<_>>(),
            "with_a_whole": self.with_a_whole,
            "missed_deltas": self.missed_deltas,
            "wrong_rows": self.wrong_rows,
            "latency_ms": {"p50": self.ms(0.5), "p99": self.ms(0.99), "max": self.latency.max() as f64 / 1_000.0},
        })
    }

    /// For people.
    pub fn to_text(&self) -> String {
        let mut text = format!(
            "{} transactions, {} row changes, {} instances, {} s\n",
            self.transactions, self.changes, self.instances, self.seconds
        );
        for w in &self.watchers {
            text += &format!(
                "{:<10} on {:<6} heard {:>5}   withheld {:>5}   outside {:>5}\n",
                w.persona, w.instance, w.heard, w.withheld, w.outside
            );
        }
        if self.with_a_whole > 0 {
            text += &format!("deltas for which a whole result came {}\n", self.with_a_whole);
        }
        text += &format!("missed deltas {}, wrong rows {}\n", self.missed_deltas, self.wrong_rows);
        text + &format!(
            "commit to socket: p50 {:.2} ms, p99 {:.2} ms, max {:.2} ms",
            self.ms(0.5),
            self.ms(0.99),
            self.latency.max() as f64 / 1_000.0
        )
    }
}

/// What a watcher's task has received.
#[derive(Default)]
struct WatcherLog {
    live: ResultSet,
    arrived: Vec<(i64, Arrived)>,
    position: u64,
    error: Option<String>,
}

/// What the operator's task has received.
#[derive(Default)]
struct Operated {
    reads: Vec<u64>,
    changes: u64,
    verdicts: std::collections::HashMap<(String, String), u64>,
}

fn position(text: &str) -> u64 {
    text.rsplit(':').next().and_then(|p| p.parse().ok()).unwrap_or(0)
}

/// Runs the scenario, embedded or on this PostgreSQL database, and over this broker if one is given.
///
/// # Errors
/// The scenario does not start, or a client of it is refused.
pub async fn run(options: Options, database: Option<&str>, relay: Option<&str>) -> Result<Summary, Failure> {
    let scene = Scene::start(database, relay).await?;
    let source = source(&scene.config)?;
    let places = scene.cluster.places();
    let url = |name: &str| places.iter().find(|(n, _)| n == name).map(|(_, a)| a.to_string()).unwrap_or_default();
    let (stop, stopped) = watch::channel(false);
    let operator = operator_token(&scene.tokens).map_err(Failure::usage)?;

    let operated: Arc<Mutex<Operated>> = Arc::default();
    let mut tasks: Vec<JoinHandle<()>> = Vec::new();
    for name in INSTANCES {
        let mut session = Session::connect(&url(name), Some(&operator)).await?;
        if name == INSTANCES[0] {
            session.subscribe("SELECT position, rows FROM gossip.changes").await?;
        }
        session.subscribe("SELECT label, verdict FROM gossip.verdicts").await?;
        tasks.push(tokio::spawn(operate(session, operated.clone(), stopped.clone())));
    }
    let mut watchers = Vec::new();
    for (i, w) in scene.people.watchers.iter().enumerate() {
        let persona = scene.people.personas.get(&w.persona).cloned().unwrap_or_default();
        let mint = |p: &Persona| scene.tokens.mint_for(&w.persona, &p.roles, &p.claims, now() / 1_000_000, 86_400);
        let token = (!persona.roles.is_empty()).then(|| mint(&persona)).transpose().map_err(Failure::usage)?;
        let instance = w.instance.clone().unwrap_or_else(|| INSTANCES[0].into());
        let mut session = Session::connect(&url(&instance), token.as_deref()).await?;
        let observed = Some(i.to_string());
        let answer = session.subscribe(Subscribe { observed, ..Subscribe::from(&w.query) }).await?;
        let taken = Arc::new(Mutex::new(WatcherLog { live: ResultSet::new(answer), ..WatcherLog::default() }));
        let lose = options.lose.filter(|(who, _)| *who == i).map(|(_, lose)| lose);
        tasks.push(tokio::spawn(watch(session, taken.clone(), lose, stopped.clone())));
        watchers.push(Listener { persona: w.persona.clone(), instance, taken });
    }

    let (own, seed) = (source.clone(), options.seed);
    let opened = tokio::task::spawn_blocking(move || -> Result<_, String> {
        Ok((audit::witness(&mut *own.database().store()?), Harbour::open(&*own, seed)?))
    });
    let opened = opened.await.unwrap_or_else(|e| Err(e.to_string()));
    let (start, harbour) = opened.map_err(|e| Failure::connect(format!("demo database: {e}")))?;
    let history = Arc::new(Mutex::new(History::new(start)));
    let noted = history.clone();
    let pace = Duration::from_secs_f64(1.0 / options.pace.clamp(0.1, 10_000.0));
    let simulation = Simulation::start(harbour, pace, move |c, seen| noted.lock().note(c.position, c.at, seen));
    tokio::time::sleep(Duration::from_secs(options.seconds)).await;
    let _ = tokio::task::spawn_blocking(move || simulation.stop()).await;

    // Instances report their position to every client; once past the last transaction, nothing is in flight.
    let last = history.lock().last();
    let waited = std::time::Instant::now();
    while watchers.iter().any(|w| w.taken.lock().position < last) && waited.elapsed() < PATIENCE {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    // The operator's streams carry the same transactions on other connections, so they may arrive later.
    while operated.lock().reads.last().is_none_or(|r| *r < last) && waited.elapsed() < PATIENCE {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    stop.send_replace(true);
    for task in tasks {
        let _ = task.await;
    }
    scene.cluster.stop().await;
    remove(source).await?;

    summarize(&options, &history.lock(), &operated.lock(), &watchers)
}

/// A watcher's task and what it has received.
struct Listener {
    persona: String,
    instance: String,
    taken: Arc<Mutex<WatcherLog>>,
}

/// Compares what each watcher received with what the database says it should have.
fn summarize(
    options: &Options,
    history: &History,
    operated: &Operated,
    watchers: &[Listener],
) -> Result<Summary, Failure> {
    let mut summary = Summary {
        changes: operated.changes,
        transactions: history.len() as u64,
        instances: INSTANCES.len(),
        watchers: vec![],
        with_a_whole: 0,
        missed_deltas: 0,
        wrong_rows: 0,
        latency: Histogram::new_with_max(MAX_DELAY, 3).map_err(Failure::usage)?,
        seconds: options.seconds,
        seed: options.seed,
    };
    for (i, w) in watchers.iter().enumerate() {
        let taken = w.taken.lock();
        if let Some(e) = &taken.error {
            tracing::warn!("{}: {e}", w.persona);
        }
        let expected = history.expected(i, &operated.reads);
        let arrived: Vec<Arrived> = taken.arrived.iter().map(|(_, what)| what.clone()).collect();
        for (e, came) in expected.iter().zip(audit::align(&expected, &arrived)) {
            match came {
                Came::Never => summary.missed_deltas += 1,
                Came::WithAWhole => summary.with_a_whole += 1,
                Came::As(at) => {
                    summary.latency.saturating_record((taken.arrived[at].0 - e.committed).max(0).unsigned_abs())
                }
            }
        }
        let rows: Vec<String> = taken.live.rows.values().map(|r| canonical(&Json::Object(r.clone()))).collect();
        summary.wrong_rows += history.wrong_rows(i, &rows) as u64;
        let count = |verdict: &str| operated.verdicts.get(&(i.to_string(), verdict.to_string())).copied().unwrap_or(0);
        summary.watchers.push(WatcherReport {
            persona: w.persona.clone(),
            instance: w.instance.clone(),
            heard: arrived.iter().filter(|a| matches!(a, Arrived::Delta(_))).count() as u64,
            withheld: count("withheld"),
            outside: count("outside"),
        });
    }
    Ok(summary)
}

async fn watch(
    mut session: Session,
    taken: Arc<Mutex<WatcherLog>>,
    lose: Option<Lose>,
    mut stopped: watch::Receiver<bool>,
) {
    let mut deltas = 0;
    loop {
        let next = tokio::select! {
            next = session.next() => next,
            _ = stopped.changed() => return session.close().await,
        };
        let at = now();
        let mut taken = taken.lock();
        let told = match next {
            Ok((Incoming::Notification(told), _)) => told,
            Ok(_) => continue,
            Err(e) => {
                taken.error = Some(e.to_string());
                return;
            }
        };
        if let Notification::Current { position: Some(p), .. } = &told {
            taken.position = position(p);
        }
        if let Notification::Delta { changes, .. } = &told {
            deltas += 1;
            let lost = match lose {
                Some(Lose::One(n)) => deltas - 1 == n,
                Some(Lose::From(n)) => deltas > n,
                None => false,
            };
            if lost {
                continue;
            }
            let shape = shape(&taken.live, changes);
            taken.arrived.push((at, Arrived::Delta(shape)));
        }
        match taken.live.apply(&told) {
            Ok(Applied::Whole(_)) if !taken.live.unfinished => {
                let mut rows: Vec<String> =
                    taken.live.rows.values().map(|r| canonical(&Json::Object(r.clone()))).collect();
                rows.sort();
                taken.arrived.push((at, Arrived::Whole(rows)));
            }
            Ok(_) => {}
            Err(e) => taken.error = Some(e),
        }
    }
}

/// A delta in the audit's form; `live` is the result before it.
fn shape(live: &ResultSet, changes: &[ChangeEntry]) -> Shape {
    let one = |c: &ChangeEntry| match c {
        ChangeEntry::Add { row, .. } => format!("add {}", canonical(&Json::Object(row.clone()))),
        ChangeEntry::Replace { key, row, .. } => {
            let mut whole = live.rows.get(&key.to_string()).cloned().unwrap_or_default();
            whole.extend(row.clone());
            format!("replace {}", canonical(&Json::Object(whole)))
        }
        ChangeEntry::Remove { key, .. } => {
            let gone = live.rows.get(&key.to_string()).cloned().unwrap_or_default();
            format!("remove {}", canonical(&Json::Object(gone)))
        }
    };
    let mut shape: Shape = changes.iter().map(one).collect();
    shape.sort();
    shape
}

async fn operate(mut session: Session, operated: Arc<Mutex<Operated>>, mut stopped: watch::Receiver<bool>) {
    loop {
        let next = tokio::select! {
            next = session.next() => next,
            _ = stopped.changed() => return session.close().await,
        };
        let Ok((Incoming::Notification(Notification::Delta { changes, .. }), _)) = next else {
            if next.is_err() {
                return;
            }
            continue;
        };
        let mut operated = operated.lock();
        for change in changes {
            let ChangeEntry::Add { row, .. } = change else { continue };
            if let Some(p) = row.get("position").and_then(Json::as_str) {
                operated.reads.push(position(p));
                operated.changes += row.get("rows").and_then(Json::as_u64).unwrap_or(0);
            }
            if let (Some(label), Some(verdict)) =
                (row.get("label").and_then(Json::as_str), row.get("verdict").and_then(Json::as_str))
            {
                *operated.verdicts.entry((label.into(), verdict.into())).or_default() += 1;
            }
        }
    }
}
