//! The thread that reads the log while this instance is the reader. [`crate::snapshots`] has those that read snapshots.

use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, mpsc};
use std::thread::JoinHandle;
use std::time::Duration;

use backon::{BackoffBuilder, ExponentialBackoff, ExponentialBuilder};
use gossip_core::position::{Interval, Micros};
use gossip_relay::Relay;
use gossip_source::{Last, Source};
use parking_lot::Mutex;
use rand::Rng;

use crate::now;
use crate::supervisor::{Beat, Supervisor, faults};

/// Longest silence of a reader. A lost last message is noticed within this time.
pub const HEARTBEAT: Duration = Duration::from_millis(250);

/// How often an instance that is not the reader tries to become it.
const TAKE_OVER: Duration = Duration::from_millis(500);

/// Longest pause between attempts to reach a database that is not there. Jitter can double it.
const LONGEST_PAUSE: Duration = Duration::from_secs(5);

/// Everything that the reading thread waits for has a deadline that ends before this.
const HANGS: Duration = Duration::from_secs(180);

/// The reading thread of one instance.
pub struct Reading {
    thread: Mutex<Option<JoinHandle<()>>>,
    stop: mpsc::SyncSender<()>,
    stopped: Arc<AtomicBool>,
    status: Arc<Mutex<String>>,
    reading: Arc<AtomicBool>,
}

impl Reading {
    /// Starts the thread. It becomes the reader as soon as no other instance is.
    ///
    /// # Errors
    /// The system has no room for a thread.
    pub fn start(
        source: Arc<dyn Source>,
        instance: &str,
        relay: Arc<dyn Relay>,
        supervisor: &Supervisor,
    ) -> std::io::Result<Reading> {
        let (stop, stopping) = mpsc::sync_channel(1);
        let stopped = Arc::new(AtomicBool::new(false));
        let status = Arc::new(Mutex::new(String::from("standing by")));
        let reading = Arc::new(AtomicBool::new(false));
        let work = Work {
            source,
            instance: instance.to_string(),
            relay,
            runtime: tokio::runtime::Handle::current(),
            stopped: stopped.clone(),
            status: status.clone(),
            reading: reading.clone(),
            beat: supervisor.beat("the reading thread", HANGS),
        };
        let guard = supervisor.guard("the reading thread");
        let run = move || {
            let _guard = guard;
            work.run(&stopping);
        };
        let thread = std::thread::Builder::new().name("reader".into()).spawn(run)?;
        Ok(Reading { thread: Mutex::new(Some(thread)), stop, stopped, status, reading })
    }

    /// `reading`, `standing by`, or what is wrong.
    pub fn status(&self) -> String {
        self.status.lock().clone()
    }

    /// Whether this instance is the reader, however well it can read at the moment.
    pub fn is_reading(&self) -> bool {
        self.reading.load(Relaxed)
    }

    /// Asks the thread to end and waits for it: at most as long as a reader is silent. The right to read is free for
    /// another instance then.
    pub fn stop(&self) {
        self.stopped.store(true, Relaxed);
        let _ = self.stop.try_send(());
        // A second call to stop waits as well.
        let mut running = self.thread.lock();
        if let Some(thread) = running.take() {
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

/// Pauses while the source cannot be read at all: longer and longer, and never the same for all instances.
fn pauses() -> ExponentialBackoff {
    let from = ExponentialBuilder::default().with_min_delay(TAKE_OVER).with_max_delay(LONGEST_PAUSE);
    from.with_factor(1.5).with_jitter().without_max_times().build()
}

/// The pause while another instance reads.
fn standby() -> Duration {
    TAKE_OVER.mul_f64(rand::rng().random_range(0.75..1.0))
}

struct Work {
    source: Arc<dyn Source>,
    instance: String,
    relay: Arc<dyn Relay>,
    runtime: tokio::runtime::Handle,
    stopped: Arc<AtomicBool>,
    status: Arc<Mutex<String>>,
    reading: Arc<AtomicBool>,
    beat: Beat,
}

impl Work {
    fn run(self, stopping: &mpsc::Receiver<()>) {
        let mut failed = pauses();
        while !self.stopped.load(Relaxed) {
            self.beat.beat();
            let begun = now();
            let outcome = self.try_to_read();
            self.reading.store(false, Relaxed);
            let pause = match outcome {
                Ok(()) => {
                    *self.status.lock() = "standing by".into();
                    failed = pauses();
                    standby()
                }
                Err(e) => {
                    // Said once, and again only when it is another problem.
                    let before = std::mem::replace(&mut *self.status.lock(), e.clone());
                    if before != e {
                        tracing::warn!(source = %self.source.name(), "cannot read: {e}");
                    }
                    // Where nothing can be handed on for long, the database is not to run full because of us.
                    if let Err(e) = self.source.drop_backlog() {
                        tracing::debug!(source = %self.source.name(), "cannot read what the database retains: {e}");
                    }
                    if now() - begun > 2 * LONGEST_PAUSE.as_micros() as Micros {
                        // It worked before it failed.
                        failed = pauses();
                        standby()
                    } else {
                        failed.next().unwrap_or(LONGEST_PAUSE)
                    }
                }
            };
            // Either the end or time to try again.
            let _ = stopping.recv_timeout(pause);
        }
    }

    /// Reads for as long as this instance is the reader and nothing fails.
    fn try_to_read(&self) -> Result<(), String> {
        let last = self.runtime.block_on(self.relay.last(self.source.name())).map_err(|e| e.to_string())?;
        let last = last.map(|i| Last::of(&i));
        let found = self.source.try_to_lead(&self.instance, last).map_err(|e| e.to_string())?;
        let Some(mut reader) = found else { return Ok(()) };
        tracing::info!(source = %self.source.name(), epoch = reader.epoch(), "reading");
        *self.status.lock() = "reading".into();
        self.reading.store(true, Relaxed);
        self.publish(reader.heartbeat().map_err(|e| e.to_string())?)?;
        let mut spoken = now();
        while !self.stopped.load(Relaxed) {
            self.beat.beat();
            faults::pass("reader");
            let left = HEARTBEAT.saturating_sub(Duration::from_micros((now() - spoken).unsigned_abs()));
            if left.is_zero() {
                self.publish(reader.heartbeat().map_err(|e| e.to_string())?)?;
                spoken = now();
                *self.status.lock() = reader.trouble().unwrap_or_else(|| "reading".into());
                continue;
            }
            if let Some(interval) = reader.next(left).map_err(|e| e.to_string())? {
                let to = interval.to;
                self.publish(interval)?;
                reader.acknowledge(to).map_err(|e| e.to_string())?;
                spoken = now();
            }
        }
        Ok(())
    }

    fn publish(&self, interval: Interval) -> Result<(), String> {
        self.runtime.block_on(self.relay.publish(Arc::new(interval))).map_err(|e| e.to_string())
    }
}
