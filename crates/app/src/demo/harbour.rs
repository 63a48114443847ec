//! What happens in the harbour: vessels are expected, anchor, come in, lie at a berth and leave; tugs are ordered,
//! estimates change. A function of a seed. Writes to the database as any other program would.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use rand::rngs::StdRng;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use rusqlite::{Connection, OptionalExtension, Transaction, params};

const PILOTS: [&str; 3] = ["Sunniva", "Anselm", "Perpetua"];
const NOTES: [&str; 3] = ["crew list checked", "hot work permit", "customs wants a look"];

/// Calls in the harbour at most.
const MOST: i64 = 26;

/// A committed transaction of the simulation.
#[derive(Clone, Debug)]
pub struct Committed {
    /// The last entry that it left in the change log.
    pub position: u64,
    /// When COMMIT had returned, in microseconds since 1970.
    pub at: i64,
}

/// The simulated harbour.
pub struct Harbour {
    db: Connection,
    rng: StdRng,
    minutes: i64,
}

/// Some calls to begin with.
pub fn fill(db: &Connection) -> rusqlite::Result<()> {
    let mut rng = StdRng::seed_from_u64(7);
    for i in 0..12 {
        new_call(db, &mut rng, i * 25)?;
    }
    Ok(())
}

fn eta(minutes: i64) -> String {
    let m = 6 * 60 + minutes;
    format!("2031-05-{:02}T{:02}:{:02}:00Z", 11 + m / 1440, m / 60 % 24, m % 60)
}

fn new_call(db: &Connection, rng: &mut StdRng, minutes: i64) -> rusqlite::Result<()> {
    let (vessel, agency, length): (String, String, f64) = db.query_row(
        "SELECT name, agency, length_m FROM vessels ORDER BY (id * ?1) % 97 LIMIT 1",
        [rng.random_range(1..90)],
        |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)),
    )?;
    let berth: Option<i64> = db
        .query_row(
            "SELECT id FROM berths WHERE max_length_m >= ?1 ORDER BY (id * ?2) % 11 LIMIT 1",
            params![length, rng.random_range(1..10)],
            |r| r.get(0),
        )
        .optional()?;
    let draught = f64::from(rng.random_range(28..90)) / 10.0;
    let expected = eta(minutes + rng.random_range(60..600));
    let note = rng.random_bool(0.2).then(|| NOTES.choose(rng)).flatten();
    db.execute(
        "INSERT INTO calls (vessel, berth, agency, status, eta, draught_m, security_note) VALUES (?1, ?2, ?3, 'expected', ?4, ?5, ?6)",
        params![vessel, berth, agency, expected, draught, note],
    )?;
    Ok(())
}

impl Harbour {
    /// Opens the database for writing.
    pub fn open(path: &Path, seed: u64) -> rusqlite::Result<Harbour> {
        let db = Connection::open(path)?;
        db.busy_timeout(Duration::from_secs(5))?;
        db.pragma_update(None, "synchronous", "NORMAL")?;
        db.pragma_update(None, "foreign_keys", true)?;
        Ok(Harbour { db, rng: StdRng::seed_from_u64(seed), minutes: 0 })
    }

    /// Lets one thing happen, in one transaction. `witness` sees the database at its end, before the commit.
    pub fn step(&mut self, witness: &mut dyn FnMut(&Connection, u64)) -> rusqlite::Result<Committed> {
        self.minutes += self.rng.random_range(1..6);
        let (rng, minutes) = (&mut self.rng, self.minutes);
        let tx = self.db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
        let calls: i64 = tx.query_row("SELECT count(*) FROM calls", [], |r| r.get(0))?;
        match rng.random_range(0..100) {
            0..18 if calls < MOST => new_call(&tx, rng, minutes)?,
            0..52 => advance(&tx, rng)?,
            52..68 => {
                let call = some_call(&tx, rng)?;
                let time = eta(minutes + rng.random_range(30..600));
                tx.execute("UPDATE calls SET eta = ?2 WHERE id = ?1", params![call, time])?;
            }
            68..78 => {
                let call = some_call(&tx, rng)?;
                let berth = rng.random_range(1..8);
                tx.execute("UPDATE calls SET berth = ?2 WHERE id = ?1", params![call, berth])?;
            }
            78..86 => {
                let call = some_call(&tx, rng)?;
                let pilot = PILOTS.choose(rng);
                tx.execute("UPDATE calls SET pilot = ?2 WHERE id = ?1", params![call, pilot])?;
            }
            86..93 => {
                let call = some_call(&tx, rng)?;
                let note = NOTES.choose(rng);
                tx.execute("UPDATE calls SET security_note = ?2 WHERE id = ?1", params![call, note])?;
            }
            _ => {
                tx.execute(
                    "UPDATE tug_orders SET state = CASE state WHEN 'ordered' THEN 'fast' ELSE 'done' END \
                     WHERE id = (SELECT id FROM tug_orders WHERE state <> 'done' ORDER BY id LIMIT 1)",
                    [],
                )?;
            }
        }
        let position: i64 = tx.query_row("SELECT max(seq) FROM gossip_log", [], |r| r.get(0))?;
        witness(&tx, position as u64);
        tx.commit()?;
        Ok(Committed { position: position as u64, at: gossip_server::now() })
    }
}

fn some_call(tx: &Transaction<'_>, rng: &mut StdRng) -> rusqlite::Result<Option<i64>> {
    let sql = "SELECT id FROM calls ORDER BY (id * ?1) % 101 LIMIT 1";
    tx.query_row(sql, [rng.random_range(1..100)], |r| r.get(0)).optional()
}

/// Moves one call a step further, with all that goes with it.
fn advance(tx: &Transaction<'_>, rng: &mut StdRng) -> rusqlite::Result<()> {
    let Some(call) = some_call(tx, rng)? else { return Ok(()) };
    let (status, berth): (String, Option<i64>) =
        tx.query_row("SELECT status, berth FROM calls WHERE id = ?1", [call], |r| Ok((r.get(0)?, r.get(1)?)))?;
    let next = match status.as_str() {
        "expected" => "anchored",
        "anchored" => "inbound",
        "inbound" => "berthed",
        "berthed" => "departed",
        _ => {
            tx.execute("DELETE FROM calls WHERE id = ?1", [call])?;
            return Ok(());
        }
    };
    tx.execute("UPDATE calls SET status = ?2 WHERE id = ?1", params![call, next])?;
    let berth_becomes = match next {
        "inbound" => {
            tx.execute(
                "INSERT INTO tug_orders (call, tugs, state) VALUES (?1, ?2, 'ordered')",
                params![call, rng.random_range(1..4)],
            )?;
            "held"
        }
        "berthed" => "occupied",
        "departed" => "free",
        _ => return Ok(()),
    };
    tx.execute("UPDATE berths SET state = ?2 WHERE id = ?1", params![berth, berth_becomes])?;
    Ok(())
}

/// The simulation on a thread of its own.
pub struct Simulation {
    stop: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Simulation {
    /// Lets something happen every `pace`. `committed` is told of every transaction, with what `witness` may have seen.
    pub fn start(
        mut harbour: Harbour,
        pace: Duration,
        mut committed: impl FnMut(&Committed, &[String]) + Send + 'static,
    ) -> Simulation {
        let stop = Arc::new(AtomicBool::new(false));
        let stopped = stop.clone();
        let thread = std::thread::spawn(move || {
            let mut next = Instant::now();
            while !stopped.load(Relaxed) {
                let mut seen = Vec::new();
                match harbour.step(&mut |db, _| seen = super::audit::witness(db)) {
                    Ok(c) => committed(&c, &seen),
                    // Somebody else holds the database; what was to happen happens later.
                    Err(e) => tracing::debug!("harbour: {e}"),
                }
                next += pace;
                // Sleeps in short pieces, so that the end of the demo is not held up.
                while !stopped.load(Relaxed) {
                    let left = next.saturating_duration_since(Instant::now());
                    if left.is_zero() {
                        break;
                    }
                    std::thread::sleep(left.min(Duration::from_millis(50)));
                }
            }
        });
        Simulation { stop, thread: Some(thread) }
    }

    /// Ends it and waits for its last transaction.
    pub fn stop(mut self) {
        self.end();
    }

    fn end(&mut self) {
        self.stop.store(true, Relaxed);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

impl Drop for Simulation {
    fn drop(&mut self) {
        self.end();
    }
}
