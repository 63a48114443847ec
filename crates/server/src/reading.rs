//! The threads that touch the database: one that reads the log while this instance is the reader, and short-lived ones
//! for snapshots.

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, mpsc};
use std::thread::JoinHandle;
use std::time::Duration;

use gossip_core::engine::{Input, SnapshotId};
use gossip_core::position::{Micros, Position};
use gossip_core::schema::{Row, Table};
use gossip_relay::Relay;
use gossip_source::sqlite::SqliteSource;
use gossip_source::sqlite::reader::{Reader, try_lock};
use gossip_source::sqlite::snapshot::snapshot;
use gossip_source::sqlite::watch::{Waker, Watch};
use parking_lot::Mutex;
use tokio::sync::{Semaphore, mpsc as tokio_mpsc};

use crate::now;

/// Longest silence of a reader. A lost last message is noticed within this time.
pub const HEARTBEAT: Duration = Duration::from_millis(250);

/// How often an instance that is not the reader tries to become it.
const TAKE_OVER: Duration = Duration::from_millis(500);

/// Log entries are deleted at most this often.
const PRUNE_EVERY: Micros = 200_000;

/// Snapshots that are read at the same time.
const SNAPSHOTS: usize = 4;

/// The reading thread of one instance.
pub struct Reading {
    thread: Option<JoinHandle<()>>,
    stop: mpsc::SyncSender<()>,
    waker: Waker,
    stopped: Arc<AtomicBool>,
    status: Arc<Mutex<String>>,
}

impl Reading {
    /// Starts the thread. It becomes the reader as soon as nobody else is.
    pub fn start(source: SqliteSource, instance: &str, relay: Arc<dyn Relay>) -> std::io::Result<Reading> {
        let (stop, stopping) = mpsc::sync_channel(1);
        let (watch, waker) = Watch::new(&source.path);
        let stopped = Arc::new(AtomicBool::new(false));
        let status = Arc::new(Mutex::new(String::from("standing by")));
        let work = Work {
            source,
            instance: instance.to_string(),
            relay,
            runtime: tokio::runtime::Handle::current(),
            stopped: stopped.clone(),
            status: status.clone(),
        };
        let thread = std::thread::Builder::new().name("reader".into()).spawn(move || work.run(watch, &stopping))?;
        Ok(Reading { thread: Some(thread), stop, waker, stopped, status })
    }

    /// `reading`, `standing by`, or what is wrong.
    pub fn status(&self) -> String {
        self.status.lock().clone()
    }

    /// Asks the thread to end and waits for it. The right to read is free for another instance then.
    pub fn stop(&mut self) {
        self.stopped.store(true, Relaxed);
        let _ = self.stop.try_send(());
        self.waker.wake();
        if let Some(thread) = self.thread.take() {
            // A panic of the thread has been reported by its own hook.
            let _ = thread.join();
        }
    }
}

impl Drop for Reading {
    fn drop(&mut self) {
        self.stop();
    }
}

struct Work {
    source: SqliteSource,
    instance: String,
    relay: Arc<dyn Relay>,
    runtime: tokio::runtime::Handle,
    stopped: Arc<AtomicBool>,
    status: Arc<Mutex<String>>,
}

impl Work {
    fn run(self, mut watch: Watch, stopping: &mpsc::Receiver<()>) {
        while !self.stopped.load(Relaxed) {
            match self.try_to_read(&mut watch) {
                Ok(()) => *self.status.lock() = "standing by".into(),
                Err(e) => {
                    // Said once, and again only when it is another problem.
                    let before = std::mem::replace(&mut *self.status.lock(), e.clone());
                    if before != e {
                        tracing::warn!(source = %self.source.name, "cannot read: {e}");
                    }
                }
            }
            // Either the end or time to try again.
            let _ = stopping.recv_timeout(TAKE_OVER);
        }
    }

    /// Reads for as long as this instance is the reader and nothing fails.
    fn try_to_read(&self, watch: &mut Watch) -> Result<(), String> {
        let Some(lock) = try_lock(&self.source).map_err(|e| e.to_string())? else { return Ok(()) };
        let after = self.runtime.block_on(self.relay.last(&self.source.name)).map_err(|e| e.to_string())?;
        let mut reader = Reader::start(&self.source, &self.instance, lock, after).map_err(|e| e.to_string())?;
        tracing::info!(source = %self.source.name, epoch = reader.epoch(), "reading");
        *self.status.lock() = "reading".into();
        self.publish(Arc::new(reader.heartbeat(now())))?;
        let (mut spoken, mut quiet_until, mut pruned, mut busy_since) = (now(), now(), now(), None);
        let mut version = -1;
        while !self.stopped.load(Relaxed) {
            let found = match self.look(&mut reader, &mut version, quiet_until) {
                Ok(found) => {
                    busy_since = None;
                    found
                }
                // A writer that holds the database for long is theirs to explain; we wait.
                Err(e) if e.is_passing() => {
                    let since = *busy_since.get_or_insert(now());
                    if now() - since > 5_000_000 {
                        *self.status.lock() = format!("reading waits: {e}");
                    }
                    version = -1;
                    watch.wait(Duration::from_millis(5));
                    continue;
                }
                Err(e) => return Err(e.to_string()),
            };
            quiet_until = found.1;
            if let Some(interval) = found.0 {
                let to = interval.to;
                self.publish(Arc::new(interval))?;
                reader.advance(to);
                spoken = now();
                *self.status.lock() = "reading".into();
                watch.found();
                continue;
            }
            if now() - pruned > PRUNE_EVERY {
                // The relay has everything up to the reader's own position.
                let more = reader.prune(Position::at(u64::MAX)).map_err(|e| e.to_string())?;
                pruned = if more { now() - PRUNE_EVERY * 9 / 10 } else { now() };
            }
            let left = HEARTBEAT.saturating_sub(Duration::from_micros((now() - spoken).unsigned_abs()));
            if left.is_zero() {
                self.publish(Arc::new(reader.heartbeat(now())))?;
                spoken = now();
            } else {
                watch.wait(left);
            }
        }
        Ok(())
    }

    /// Looks whether anything was committed, cheaply, and reads it. Also says until when nothing was.
    fn look(
        &self,
        reader: &mut Reader,
        version: &mut i64,
        quiet_until: Micros,
    ) -> gossip_source::Result<(Option<gossip_core::position::Interval>, Micros)> {
        let before = now();
        let data = reader.data_version()?;
        if data == *version {
            return Ok((None, before));
        }
        let found = reader.read(quiet_until, now)?;
        *version = data;
        Ok((found, before))
    }

    fn publish(&self, interval: Arc<gossip_core::position::Interval>) -> Result<(), String> {
        self.runtime.block_on(self.relay.publish(interval)).map_err(|e| e.to_string())
    }
}

/// Reads snapshots for the engine, a few at a time.
pub struct Snapshots {
    source: SqliteSource,
    permits: Arc<Semaphore>,
    cancelled: Mutex<HashMap<SnapshotId, Arc<AtomicBool>>>,
}

impl Snapshots {
    /// For one source.
    pub fn new(source: SqliteSource) -> Snapshots {
        Snapshots { source, permits: Arc::new(Semaphore::new(SNAPSHOTS)), cancelled: Mutex::default() }
    }

    /// Begins a snapshot; its pieces arrive at `inputs`.
    pub fn fetch(self: &Arc<Self>, id: SnapshotId, table: Arc<Table>, inputs: tokio_mpsc::Sender<Input>) {
        let cancelled = Arc::new(AtomicBool::new(false));
        self.cancelled.lock().insert(id, cancelled.clone());
        let this = self.clone();
        tokio::spawn(async move {
            // The semaphore is never closed.
            let Ok(_permit) = this.permits.clone().acquire_owned().await else { return };
            let worker = this.clone();
            let work = move || {
                let take = |rows: Vec<Row>| {
                    !cancelled.load(Relaxed) && inputs.blocking_send(Input::SnapshotRows(id, rows)).is_ok()
                };
                let done = match snapshot(&worker.source, &table, take) {
                    Ok(Some(at)) => Input::SnapshotDone(id, at),
                    Ok(None) => return,
                    Err(e) => Input::SnapshotFailed(id, e.to_string()),
                };
                // Nobody listens any more when the instance stops.
                let _ = inputs.blocking_send(done);
            };
            let _ = tokio::task::spawn_blocking(work).await;
            this.cancelled.lock().remove(&id);
        });
    }

    /// Gives a snapshot up.
    pub fn cancel(&self, id: SnapshotId) {
        if let Some(flag) = self.cancelled.lock().remove(&id) {
            flag.store(true, Relaxed);
        }
    }
}
