//! When to poll the database, without spinning: the system notifies of writes to the file. A writer's bytes may
//! be seen before its commit counts, so a look that finds nothing is repeated a few times, further and further apart.
//! Where it does not, the file is polled every few milliseconds.

use std::path::Path;
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
use std::time::Duration;

use notify::{RecommendedWatcher, RecursiveMode, Watcher};

/// How soon to look again after a sign of writing, in milliseconds.
const AFTER_A_SIGN: [u64; 6] = [0, 1, 2, 4, 8, 16];

/// Longest time between polls where the system notifies of writes.
const IDLE: Duration = Duration::from_millis(100);

/// Time between looks where it does not.
const BLIND: Duration = Duration::from_millis(4);

/// Waits for signs of writing.
pub struct Watch {
    signs: Receiver<()>,
    /// Kept alive for its signs; `None` where the system gives none.
    watcher: Option<RecommendedWatcher>,
    /// Next place in [`AFTER_A_SIGN`]; past its end when all is quiet.
    step: usize,
}

impl Watch {
    /// Watches a database file and what stands beside it.
    pub fn new(path: &Path) -> Watch {
        let (sender, signs) = sync_channel(1);
        let own = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        let watcher = notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
            let about_us = |e: &notify::Event| {
                let writes = !matches!(e.kind, notify::EventKind::Access(_));
                writes && e.paths.iter().any(|p| p.file_name().is_some_and(|n| n.to_string_lossy().starts_with(&own)))
            };
            if event.as_ref().map_or(true, about_us) {
                // Full means that it is about to wake anyway.
                let _ = sender.try_send(());
            }
        });
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let watcher = watcher.and_then(|mut w| w.watch(folder, RecursiveMode::NonRecursive).map(|()| w)).ok();
        Watch { signs, watcher, step: AFTER_A_SIGN.len() }
    }

    /// Waits until it is worth looking, at most `longest`.
    pub fn wait(&mut self, longest: Duration) {
        let pause = match AFTER_A_SIGN.get(self.step) {
            Some(ms) => Duration::from_millis(*ms),
            None if self.watcher.is_some() => IDLE,
            None => BLIND,
        };
        match self.signs.recv_timeout(pause.min(longest)) {
            Ok(()) => self.step = 0,
            Err(RecvTimeoutError::Timeout) => self.step += 1,
            // No notifications.
            Err(RecvTimeoutError::Disconnected) => {
                std::thread::sleep(pause.min(longest));
                self.step += 1;
            }
        }
    }

    /// Says that the last look found something: more is likely.
    pub fn found(&mut self) {
        self.step = 1;
    }
}
