//! Reads snapshots for the engine, a few at a time, on threads of their own.
//!
//! A client with many requests does not hold up others: turns rotate by subject or address, and none has more than half
//! of the places. Snapshots of the same table that need all of its rows, and wait at the same time, are read once for all.
//! What was given up before its turn came is never begun. A read that hangs keeps its place for a while only.

use std::collections::{BTreeMap, HashMap, VecDeque};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::time::Duration;

use gossip_core::engine::{Input, SnapshotId};
use gossip_core::plan::{EffectivePlan, SnapshotRequest};
use gossip_core::schema::Row;
use gossip_source::Source;
use parking_lot::Mutex;
use tokio::sync::mpsc;

/// Snapshots that are read at the same time, and of those the ones of one person or address.
const PLACES: usize = 4;
const OF_ONE: usize = 2;

/// Snapshots that one read serves at most.
const TOGETHER: usize = 64;

/// Rows that are handed over at once: while it takes these, the engine does nothing else.
const AT_ONCE: usize = 250;

/// After so long without a row a read does not count as one of those that may go on at the same time.
const HANGS: Duration = Duration::from_secs(10);

/// Shortest time between two descriptions of all tables.
const DESCRIBED_EVERY: Duration = Duration::from_secs(1);

/// Reads that hang, at most, beside those that do not.
const HANGING: usize = 8;

/// One snapshot that is wanted.
struct Job {
    id: SnapshotId,
    plan: Arc<EffectivePlan>,
    request: SnapshotRequest,
    inputs: mpsc::Sender<Input>,
    cancelled: Arc<AtomicBool>,
}

impl Job {
    /// What of some rows is worth the way to the engine. Where other tables or the time decide about rows, the engine alone
    /// knows.
    fn of_interest(&self, rows: &[Row], apart: bool) -> Vec<Row> {
        let sees = |row: &&Row| apart || self.plan.sees(row, &());
        rows.iter().filter(sees).cloned().collect()
    }
}

/// Whose turn it is.
#[derive(Default)]
struct Queue {
    waiting: BTreeMap<Arc<str>, VecDeque<Job>>,
    /// Who had the last turn.
    last: Arc<str>,
    running: HashMap<Arc<str>, usize>,
    places: usize,
    hanging: usize,
}

impl Queue {
    /// The next snapshots to be read together, and whose turn that is.
    fn next(&mut self) -> Option<(Arc<str>, Vec<Job>)> {
        if self.places == 0 {
            return None;
        }
        for jobs in self.waiting.values_mut() {
            jobs.retain(|j| !j.cancelled.load(Relaxed));
        }
        self.waiting.retain(|_, jobs| !jobs.is_empty());
        let may = |who: &&Arc<str>| self.running.get(*who).is_none_or(|n| *n < OF_ONE);
        let after = (std::ops::Bound::Excluded(self.last.clone()), std::ops::Bound::Unbounded);
        let behind = self.waiting.range(after).map(|(who, _)| who);
        let who = behind.chain(self.waiting.keys()).find(may)?.clone();
        let first = self.waiting.get_mut(&who)?.pop_front()?;
        let mut jobs = vec![first];
        let is_whole = |request: &SnapshotRequest| request.filter.is_none() && request.page.is_none();
        if is_whole(&jobs[0].request) {
            let table = jobs[0].request.table.clone();
            for others in self.waiting.values_mut() {
                let mut rest = VecDeque::new();
                while let Some(job) = others.pop_front() {
                    let same = is_whole(&job.request) && job.request.table == table;
                    if same && jobs.len() < TOGETHER { jobs.push(job) } else { rest.push_back(job) }
                }
                *others = rest;
            }
        }
        self.places -= 1;
        *self.running.entry(who.clone()).or_default() += 1;
        self.last = who.clone();
        Some((who, jobs))
    }

    fn done(&mut self, who: &Arc<str>) {
        if let Some(running) = self.running.get_mut(who) {
            *running -= 1;
            if *running == 0 {
                self.running.remove(who);
            }
        }
    }
}

/// Reads snapshots.
pub struct Snapshots {
    source: Arc<dyn Source>,
    queue: Mutex<Queue>,
    cancelled: Mutex<HashMap<SnapshotId, Arc<AtomicBool>>>,
    /// Whether tables are being described, and then whether once more.
    describing: Mutex<Option<bool>>,
}

impl Snapshots {
    /// For one source.
    pub fn new(source: Arc<dyn Source>) -> Snapshots {
        let queue = Mutex::new(Queue { places: PLACES, ..Queue::default() });
        Snapshots { source, queue, cancelled: Mutex::default(), describing: Mutex::default() }
    }

    /// Describes all tables; the result arrives at `inputs`. A request while that is under way has them described once
    /// more, since it may have begun too early. What fails is tried again.
    pub fn describe(self: &Arc<Self>, inputs: mpsc::Sender<Input>) {
        let mut describing = self.describing.lock();
        let under_way = describing.is_some();
        *describing = Some(under_way);
        if under_way {
            return;
        }
        drop(describing);
        let this = self.clone();
        tokio::spawn(async move {
            loop {
                let reads = this.clone();
                let done = match tokio::task::spawn_blocking(move || reads.source.describe_streaming()).await {
                    Ok(Ok(tables)) => {
                        // Nobody listens any more when the instance stops.
                        let _ = inputs.send(Input::Described(this.source.name().clone(), tables)).await;
                        true
                    }
                    Ok(Err(e)) => {
                        tracing::warn!(source = %this.source.name(), "cannot describe the tables: {e}");
                        false
                    }
                    Err(_) => false,
                };
                {
                    let mut describing = this.describing.lock();
                    if done && *describing == Some(false) {
                        *describing = None;
                        return;
                    }
                    *describing = Some(false);
                }
                tokio::select! {
                    () = tokio::time::sleep(DESCRIBED_EVERY) => {}
                    () = inputs.closed() => return,
                }
            }
        });
    }

    /// Has a snapshot read when it is the turn of `owner`; its pieces arrive at `inputs`.
    pub fn fetch(
        self: &Arc<Self>,
        id: SnapshotId,
        plan: Arc<EffectivePlan>,
        request: SnapshotRequest,
        owner: Option<Arc<str>>,
        inputs: mpsc::Sender<Input>,
    ) {
        let cancelled = Arc::new(AtomicBool::new(false));
        self.cancelled.lock().insert(id, cancelled.clone());
        let job = Job { id, plan, request, inputs, cancelled };
        self.queue.lock().waiting.entry(owner.unwrap_or_default()).or_default().push_back(job);
        self.begin();
    }

    /// Gives a snapshot up.
    pub fn cancel(&self, id: SnapshotId) {
        if let Some(flag) = self.cancelled.lock().remove(&id) {
            flag.store(true, Relaxed);
        }
    }

    /// Begins to read what there are places for.
    fn begin(self: &Arc<Self>) {
        loop {
            let Some((who, jobs)) = self.queue.lock().next() else { return };
            let this = self.clone();
            tokio::spawn(async move { this.run(who, jobs).await });
        }
    }

    async fn run(self: Arc<Self>, who: Arc<str>, jobs: Vec<Job>) {
        let told: Vec<(SnapshotId, mpsc::Sender<Input>)> = jobs.iter().map(|j| (j.id, j.inputs.clone())).collect();
        let pieces = Arc::new(AtomicU64::new(0));
        let (this, counted) = (self.clone(), pieces.clone());
        let mut reading = std::pin::pin!(tokio::task::spawn_blocking(move || this.read(&jobs, &counted)));
        let (mut seen, mut hangs) = (0, false);
        let failed = loop {
            tokio::select! {
                done = &mut reading => break done.is_err(),
                () = tokio::time::sleep(HANGS) => {
                    let now = pieces.load(Relaxed);
                    let mut queue = self.queue.lock();
                    if now == seen && !hangs && queue.hanging < HANGING {
                        (hangs, queue.places, queue.hanging) = (true, queue.places + 1, queue.hanging + 1);
                    }
                    seen = now;
                    drop(queue);
                    if hangs {
                        self.begin();
                    }
                }
            }
        };
        {
            let mut queue = self.queue.lock();
            queue.done(&who);
            if hangs {
                queue.hanging -= 1;
            } else {
                queue.places += 1;
            }
        }
        for (id, inputs) in told {
            self.cancelled.lock().remove(&id);
            if failed {
                // Reported by its own hook; those who wait for it must not wait for ever.
                let _ = inputs.send(Input::SnapshotFailed(id, "reading it failed".into())).await;
            }
        }
        self.begin();
    }

    /// Reads a table for all who wait for it.
    fn read(&self, jobs: &[Job], pieces: &AtomicU64) {
        let Some(first) = jobs.first() else { return };
        // Of a page all rows are counted.
        let decides = |j: &Job| !j.plan.subqueries().is_empty() || j.plan.depends_on_time || j.request.page.is_some();
        let apart: Vec<bool> = jobs.iter().map(decides).collect();
        let mut take = |rows: Vec<Row>| {
            pieces.fetch_add(1, Relaxed);
            let mut wanted = false;
            for (job, apart) in jobs.iter().zip(&apart).filter(|(j, _)| !j.cancelled.load(Relaxed)) {
                let rows = job.of_interest(&rows, *apart);
                let send = |rows: &[Row]| job.inputs.blocking_send(Input::SnapshotRows(job.id, rows.to_vec())).is_ok();
                // Nobody listens any more when the instance stops.
                wanted |= rows.chunks(AT_ONCE).all(send);
            }
            pieces.fetch_add(1, Relaxed);
            wanted
        };
        let mut request = first.request.clone();
        jobs.iter().for_each(|j| request.columns.union_with(&j.request.columns));
        let read = self.source.snapshot(&request, &mut take);
        for job in jobs.iter().filter(|j| !j.cancelled.load(Relaxed)) {
            let done = match &read {
                Ok(Some(shows)) => Input::SnapshotDone(job.id, shows.clone()),
                Ok(None) => continue,
                Err(e) => Input::SnapshotFailed(job.id, e.to_string()),
            };
            let _ = job.inputs.blocking_send(done);
        }
    }
}

#[cfg(test)]
mod tests {
    use gossip_core::plan::RowFilter;
    use gossip_core::plan::{LiveQuery, Project};
    use gossip_core::query::Expr;
    use gossip_core::schema::{Table, TableName};

    use super::*;

    fn job(id: SnapshotId, table: &str, only: bool) -> Job {
        let table = Arc::new(Table {
            name: TableName::plain(table),
            source: "s".into(),
            columns: vec![],
            key: vec![],
            old_values: true,
            incarnation: 0,
        });
        let project = Project::Columns([].into());
        let query =
            LiveQuery { table: table.clone(), joins: [].into(), condition: Expr::always(), arrange: None, project };
        let plan = Arc::new(EffectivePlan::new(query, vec![], vec![]));
        let (inputs, _) = mpsc::channel(1);
        let request = plan.snapshot_of(only.then(RowFilter::default));
        Job { id, plan, request, inputs, cancelled: Arc::default() }
    }

    fn queue(jobs: Vec<(&str, Job)>) -> Queue {
        let mut queue = Queue { places: PLACES, ..Queue::default() };
        for (who, job) in jobs {
            queue.waiting.entry(who.into()).or_default().push_back(job);
        }
        queue
    }

    fn ids(next: Option<(Arc<str>, Vec<Job>)>) -> Vec<SnapshotId> {
        next.map(|(_, jobs)| jobs.iter().map(|j| j.id).collect()).unwrap_or_default()
    }

    #[test]
    fn turns_go_round_and_nobody_has_all_places() {
        let many = (1..20).map(|id| ("eve", job(id, &format!("t{id}"), false)));
        let mut queue = queue(many.chain([("bob", job(50, "t", true)), ("ada", job(51, "t", true))]).collect());
        assert_eq!(ids(queue.next()), [51], "ada");
        assert_eq!(ids(queue.next()), [50], "bob");
        assert_eq!(ids(queue.next()), [1]);
        assert_eq!(ids(queue.next()), [2]);
        queue.places += 1;
        assert_eq!(ids(queue.next()), Vec::<u64>::new(), "eve has as many as one may have");
        queue.done(&"eve".into());
        assert_eq!(ids(queue.next()), [3]);
    }

    #[test]
    fn one_read_serves_all_who_wait_for_a_whole_table_and_none_who_has_left() {
        let jobs = vec![
            ("a", job(1, "t", false)),
            ("a", job(2, "other", false)),
            ("a", job(3, "t", true)),
            ("b", job(4, "t", false)),
            ("b", job(5, "t", false)),
        ];
        let left: Vec<Arc<AtomicBool>> = jobs.iter().map(|(_, j)| j.cancelled.clone()).collect();
        let mut queue = queue(jobs);
        left[4].store(true, Relaxed);
        assert_eq!(ids(queue.next()), [1, 4]);
        left[1].store(true, Relaxed);
        assert_eq!(ids(queue.next()), [3]);
        assert_eq!(ids(queue.next()), Vec::<u64>::new());
    }
}
