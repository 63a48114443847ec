//! Watches over the parts of an instance that it cannot live without: the engine's loop, the writers, the reading thread,
//! the relay and the front.
//!
//! A part that ends, panics or hangs while the instance runs has *failed*, and with it the instance: it says so in
//! `/healthz`, and as a process of its own it ends with an error rather than living on half alive. Another instance takes
//! over. A part is watched by a [`Guard`] that it holds for as long as it lives and, where it could hang, by a [`Beat`].
//! The watchdog is a thread of its own: nothing that hangs can keep it from looking.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::time::Duration;

use parking_lot::Mutex;
use tokio::sync::watch;

/// How often the watchdog looks.
const LOOK: Duration = Duration::from_millis(250);

/// The exit code of a process that a failed part has ended (`EX_SOFTWARE` of `sysexits.h`).
pub const EXIT_CODE: i32 = 70;

/// What happens when a part has failed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OnFailure {
    /// Reported by [`Supervisor::failed`] and `/healthz`.
    #[default]
    Tell,
    /// The process ends with [`EXIT_CODE`] as well.
    Exit,
}

struct Watched {
    part: &'static str,
    beats: Arc<AtomicU64>,
    /// Looks without a new beat after which the part hangs.
    patience: u32,
    seen: u64,
    missed: u32,
}

struct Inner {
    instance: String,
    stopping: AtomicBool,
    failed: watch::Sender<Option<String>>,
    watched: Mutex<Vec<Watched>>,
}

/// The watch over one instance. Clones watch over the same one.
#[derive(Clone)]
pub struct Supervisor(Arc<Inner>);

impl Supervisor {
    /// Starts the watchdog.
    ///
    /// # Errors
    /// The system has no room for a thread.
    pub fn start(instance: &str, on_failure: OnFailure) -> std::io::Result<Supervisor> {
        let inner = Arc::new(Inner {
            instance: instance.to_string(),
            stopping: AtomicBool::new(false),
            failed: watch::channel(None).0,
            watched: Mutex::default(),
        });
        let weak = Arc::downgrade(&inner);
        std::thread::Builder::new().name("watchdog".into()).spawn(move || {
            while let Some(inner) = weak.upgrade() {
                if inner.stopping.load(Relaxed) {
                    return;
                }
                inner.look();
                let failed = inner.failed.borrow().clone();
                if let (Some(why), OnFailure::Exit) = (failed, on_failure) {
                    // What has been logged may still be on its way.
                    std::thread::sleep(LOOK);
                    if !inner.stopping.load(Relaxed) {
                        eprintln!("gossip: instance {}: {why}", inner.instance);
                        std::process::exit(EXIT_CODE);
                    }
                }
                drop(inner);
                std::thread::sleep(LOOK);
            }
        })?;
        Ok(Supervisor(inner))
    }

    /// Watches over a part: it fails if what holds the guard ends while the instance runs.
    pub fn guard(&self, part: &'static str) -> Guard {
        Guard { part, inner: self.0.clone() }
    }

    /// Watches a part that has to give a sign of life at least so often.
    pub fn beat(&self, part: &'static str, at_least_every: Duration) -> Beat {
        let beats = Arc::new(AtomicU64::new(0));
        // Counted in looks and not by a clock: a process that was stopped and goes on has not hung.
        let patience = at_least_every.as_millis().div_ceil(LOOK.as_millis()).try_into().unwrap_or(u32::MAX);
        self.0.watched.lock().push(Watched { part, beats: beats.clone(), patience, seen: 0, missed: 0 });
        Beat(beats)
    }

    /// A part has failed, for this reason.
    pub fn fail(&self, part: &str, why: &str) {
        self.0.fail(part, why);
    }

    /// From now on parts end because of the shutdown.
    pub fn stop(&self) {
        self.0.stopping.store(true, Relaxed);
    }

    /// Which part has failed and why, once one has.
    pub fn failed(&self) -> watch::Receiver<Option<String>> {
        self.0.failed.subscribe()
    }
}

impl Inner {
    fn fail(&self, part: &str, why: &str) {
        if self.stopping.load(Relaxed) {
            return;
        }
        self.failed.send_if_modified(|failed| {
            let first = failed.is_none();
            if first {
                tracing::error!("{part} {why}: the instance cannot go on");
                *failed = Some(format!("{part} {why}"));
            }
            first
        });
    }

    fn look(&self) {
        for w in self.watched.lock().iter_mut() {
            let beats = w.beats.load(Relaxed);
            w.missed = if beats == w.seen { w.missed + 1 } else { 0 };
            w.seen = beats;
            if w.missed > w.patience {
                self.fail(w.part, "hangs");
            }
        }
    }
}

/// Held by a part for as long as it lives.
pub struct Guard {
    part: &'static str,
    inner: Arc<Inner>,
}

impl Drop for Guard {
    fn drop(&mut self) {
        self.inner.fail(self.part, if std::thread::panicking() { "panicked" } else { "ended" });
    }
}

/// A part's sign of life.
#[derive(Clone)]
pub struct Beat(Arc<AtomicU64>);

impl Beat {
    /// The part lives.
    pub fn beat(&self) {
        self.0.fetch_add(1, Relaxed);
    }
}

/// Faults that a test makes on purpose. Release builds have none of it.
#[cfg(debug_assertions)]
pub mod faults {
    use std::sync::Mutex;
    use std::time::Duration;

    /// What is to happen to which part, as `GOSSIP_FAULT=panic:loop` or `hang:loop` says.
    static ASKED: Mutex<Option<(String, String)>> = Mutex::new(None);

    /// Has a part fail the next time that it passes by.
    pub fn ask(what: &str, part: &str) {
        if let Ok(mut asked) = ASKED.lock() {
            *asked = Some((what.into(), part.into()));
        }
    }

    /// Reads the environment, after this while.
    pub fn from_environment() {
        let Ok(asked) = std::env::var("GOSSIP_FAULT") else { return };
        let Some((what, part)) = asked.split_once(':') else { return };
        let (what, part) = (what.to_string(), part.to_string());
        std::thread::spawn(move || {
            std::thread::sleep(Duration::from_secs(2));
            ask(&what, &part);
        });
    }

    /// A part passes by.
    pub fn pass(part: &str) {
        let what = {
            let Ok(mut asked) = ASKED.try_lock() else { return };
            match &*asked {
                Some((_, of)) if of == part => asked.take().map(|(what, _)| what),
                _ => None,
            }
        };
        match what.as_deref() {
            Some("panic") => panic!("asked to"),
            Some("hang") => std::thread::sleep(Duration::from_secs(3_600)),
            _ => {}
        }
    }
}

/// Faults that a test makes on purpose: none in release builds.
#[cfg(not(debug_assertions))]
pub mod faults {
    /// Does nothing.
    pub fn from_environment() {}

    /// Does nothing.
    #[inline]
    pub fn pass(_: &str) {}
}

#[cfg(test)]
mod tests {
    use super::*;

    async fn why(supervisor: &Supervisor) -> String {
        let mut failed = supervisor.failed();
        let failed = failed.wait_for(Option::is_some).await.unwrap();
        failed.clone().unwrap()
    }

    #[tokio::test]
    async fn a_part_that_ends_panics_or_hangs_has_failed() {
        for (what, expected) in [("end", "loop ended"), ("panic", "loop panicked"), ("hang", "loop hangs")] {
            let supervisor = Supervisor::start("one", OnFailure::Tell).unwrap();
            // A part that ends or panics may need some time.
            let every = Duration::from_millis(if what == "hang" { 1 } else { 3_600_000 });
            let (guard, beat) = (supervisor.guard("loop"), supervisor.beat("loop", every));
            let part = std::thread::spawn(move || {
                let _guard = guard;
                beat.beat();
                match what {
                    "end" => {}
                    "panic" => panic!("asked to"),
                    _ => std::thread::park(),
                }
            });
            assert_eq!(why(&supervisor).await, expected);
            part.thread().unpark();
            let _ = part.join();
        }
    }

    #[tokio::test]
    async fn a_part_that_is_asked_to_end_has_not_failed() {
        let supervisor = Supervisor::start("one", OnFailure::Tell).unwrap();
        let guard = supervisor.guard("loop");
        supervisor.stop();
        drop(guard);
        assert_eq!(*supervisor.failed().borrow(), None);
    }
}
