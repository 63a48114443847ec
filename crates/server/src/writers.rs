//! Writes what the engine's loop has queued, for all clients of an instance.
//!
//! One task per core instead of one per client: a change for a thousand clients wakes a few writers once, and each
//! goes through its list with one write per client. A client whose socket takes no more is left to its own
//! connection's task, which waits for it; no other task does.

use std::sync::Arc;
use std::sync::atomic::Ordering::AcqRel;

use gossip_core::seal::Sealer;
use parking_lot::Mutex;
use tokio::sync::{Notify, mpsc};

use crate::node::command::{Client, Command};
use crate::now;
use crate::outbox::{FlushReport, Flushed};
use crate::supervisor::{Supervisor, faults};

/// Clients that a writer serves before others on its thread have their turn.
const TURN: usize = 32;

/// Clients that a lane is given at once, unless what they get is to be joined.
const PORTION: usize = 64;

#[derive(Default)]
struct Lane {
    due: Mutex<Due>,
    wake: Notify,
}

#[derive(Default)]
struct Due {
    /// Each client at most once, so no longer than there are clients.
    clients: Vec<Arc<Client>>,
    over: bool,
}

/// The engine's end: says which clients have something to be written.
pub struct Writers {
    lanes: Vec<Arc<Lane>>,
    /// What has become due in this turn of the loop, by lane.
    gathered: Vec<Vec<Arc<Client>>>,
    /// More will be queued for the same clients in this turn: it is to leave in one write.
    pub joining: bool,
}

impl Writers {
    /// Starts the writers. They end when this is dropped.
    pub fn start(asks: &mpsc::WeakSender<Command>, sealer: &Arc<Sealer>, supervisor: &Supervisor) -> Writers {
        let count = std::thread::available_parallelism().map_or(1, usize::from);
        let lanes: Vec<Arc<Lane>> = (0..count).map(|_| Arc::default()).collect();
        for lane in &lanes {
            let (guard, writing) = (supervisor.guard("a writer"), write(lane.clone(), asks.clone(), sealer.clone()));
            tokio::spawn(async move {
                let _guard = guard;
                writing.await;
            });
        }
        Writers { gathered: vec![Vec::new(); lanes.len()], lanes, joining: false }
    }

    /// Notes that a client has something to be written.
    pub fn due(&mut self, client: &Arc<Client>) {
        if !client.outbox.due.swap(true, AcqRel) {
            let lane = client.id as usize % self.gathered.len();
            self.gathered[lane].push(client.clone());
            if self.gathered[lane].len() >= PORTION && !self.joining {
                self.lanes[lane].take(&mut self.gathered[lane]);
            }
        }
    }

    /// Lets the writers have the rest. Called at the end of a turn.
    pub fn release(&mut self) {
        for (lane, gathered) in self.lanes.iter().zip(&mut self.gathered) {
            if !gathered.is_empty() {
                lane.take(gathered);
            }
        }
        self.joining = false;
    }
}

impl Lane {
    fn take(&self, clients: &mut Vec<Arc<Client>>) {
        self.due.lock().clients.append(clients);
        self.wake.notify_one();
    }
}

impl Drop for Writers {
    fn drop(&mut self) {
        for lane in &self.lanes {
            *lane.due.lock() = Due { clients: Vec::new(), over: true };
            lane.wake.notify_one();
        }
    }
}

async fn write(lane: Arc<Lane>, asks: mpsc::WeakSender<Command>, sealer: Arc<Sealer>) {
    let (mut now_due, mut again) = (Vec::new(), Vec::new());
    loop {
        {
            let mut due = lane.due.lock();
            if due.over {
                return;
            }
            now_due.append(&mut due.clients);
        }
        if now_due.is_empty() {
            lane.wake.notified().await;
            continue;
        }
        faults::pass("writer");
        for (i, client) in now_due.drain(..).enumerate() {
            // Before it is flushed: what is pushed from now on makes it due again. A swap, so that all that was pushed
            // by whoever found it due already is seen by this flush.
            client.outbox.due.swap(false, AcqRel);
            let told = client.outbox.flush(&sealer);
            if told.flushed == Flushed::More && !client.outbox.due.swap(true, AcqRel) {
                again.push(client);
            }
            if told.has_news() {
                let Some(asks) = asks.upgrade() else { return };
                if tell(told, &asks).await.is_err() {
                    return;
                }
            }
            if i % TURN == TURN - 1 {
                tokio::task::yield_now().await;
            }
        }
        now_due.append(&mut again);
    }
}

/// Tells the engine's loop what a flush has brought.
///
/// # Errors
/// The loop has ended.
pub async fn tell(told: FlushReport, asks: &mpsc::Sender<Command>) -> Result<(), ()> {
    let at = now();
    for id in told.lagging {
        asks.send(Command::CatchUp(id)).await.map_err(drop)?;
    }
    for receipt in told.receipts {
        asks.send(Command::Written(Box::new(receipt), at)).await.map_err(drop)?;
    }
    Ok(())
}
