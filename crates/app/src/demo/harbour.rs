//! What happens in the harbour: vessels are expected, anchor, come in, lie at a berth and leave; tugs are ordered,
//! estimates change. A function of a seed. Writes to the database as any other program would.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use gossip_source::Source;
use gossip_source::database::{Result, Store};
use rand::rngs::StdRng;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};

const PILOTS: [&str; 3] = ["Sunniva", "Anselm", "Perpetua"];
const NOTES: [&str; 3] = ["crew list checked", "hot work permit", "customs wants a look"];

/// Maximum number of calls in the harbour.
const MOST: i64 = 26;

/// A committed transaction of the simulation.
#[derive(Clone, Debug)]
pub struct Committed {
    /// A place in the change log that only this transaction and later ones reach.
    pub position: u64,
    /// When COMMIT returned, in microseconds since 1970.
    pub at: i64,
}

/// The simulated harbour.
pub struct Harbour {
    db: Box<dyn Store>,
    rng: StdRng,
    minutes: i64,
}

/// Inserts the initial calls.
///
/// # Errors
/// The database refuses a statement.
pub fn fill(db: &mut dyn Store) -> Result<()> {
    let mut rng = StdRng::seed_from_u64(7);
    (0..12).try_for_each(|i| new_call(db, &mut rng, i * 25))
}

fn eta(minutes: i64) -> String {
    let m = 6 * 60 + minutes;
    format!("2031-05-{:02}T{:02}:{:02}:00Z", 11 + m / 1440, m / 60 % 24, m % 60)
}

/// A text as an SQL literal, or NULL.
fn text(t: Option<&str>) -> String {
    t.map_or("NULL".into(), |t| format!("'{}'", t.replace('\'', "''")))
}

/// A numeric cell as an SQL literal.
fn number(cell: Option<&String>) -> &str {
    cell.map_or("NULL", String::as_str)
}

fn new_call(db: &mut dyn Store, rng: &mut StdRng, minutes: i64) -> Result<()> {
    let salt = rng.random_range(1..90);
    let vessel =
        db.row(&format!("SELECT name, agency, length_m FROM vessels ORDER BY (id * {salt}) % 97, id LIMIT 1"))?;
    let vessel = vessel.ok_or("there are no vessels")?;
    let (length, salt) = (number(vessel[2].as_ref()), rng.random_range(1..10));
    let berth = db.row(&format!(
        "SELECT id FROM berths WHERE max_length_m >= {length} ORDER BY (id * {salt}) % 11, id LIMIT 1"
    ))?;
    let berth = berth.and_then(|b| b.into_iter().next().flatten());
    let draught = f64::from(rng.random_range(28..90)) / 10.0;
    let expected = eta(minutes + rng.random_range(60..600));
    let note = rng.random_bool(0.2).then(|| NOTES.choose(rng)).flatten().copied();
    db.run(&format!(
        "INSERT INTO calls (vessel, berth, agency, status, eta, draught_m, security_note) \
         VALUES ({}, {}, {}, 'expected', '{expected}', {draught}, {})",
        text(vessel[0].as_deref()),
        number(berth.as_ref()),
        text(vessel[1].as_deref()),
        text(note),
    ))
}

impl Harbour {
    /// Opens the database for writing.
    ///
    /// # Errors
    /// The database cannot be opened.
    pub fn open(source: &dyn Source, seed: u64) -> Result<Harbour> {
        Ok(Harbour { db: source.database().store()?, rng: StdRng::seed_from_u64(seed), minutes: 0 })
    }

    /// Simulates one event, in one transaction. `witness` sees the database at its end, before the commit.
    ///
    /// # Errors
    /// The database refuses a statement; nothing has changed then.
    pub fn step(&mut self, witness: &mut dyn FnMut(&mut dyn Store)) -> Result<Committed> {
        self.db.begin()?;
        let done = self.act().and_then(|()| {
            let position = self.db.place()?;
            witness(&mut *self.db);
            Ok(position)
        });
        match done {
            Ok(position) => {
                self.db.run("COMMIT")?;
                Ok(Committed { position, at: gossip_server::now() })
            }
            Err(e) => {
                self.db.run("ROLLBACK")?;
                Err(e)
            }
        }
    }

    fn act(&mut self) -> Result<()> {
        self.minutes += self.rng.random_range(1..6);
        let (db, rng, minutes) = (&mut *self.db, &mut self.rng, self.minutes);
        let calls = db.number("SELECT count(*) FROM calls")?;
        let (column, value) = match rng.random_range(0..100) {
            0..18 if calls < MOST => return new_call(db, rng, minutes),
            0..52 => return advance(db, rng),
            52..68 => ("eta", format!("'{}'", eta(minutes + rng.random_range(30..600)))),
            68..78 => ("berth", rng.random_range(1..8).to_string()),
            78..86 => ("pilot", text(PILOTS.choose(rng).copied())),
            86..93 => ("security_note", text(NOTES.choose(rng).copied())),
            _ => {
                return db.run(
                    "UPDATE tug_orders SET state = CASE state WHEN 'ordered' THEN 'fast' ELSE 'done' END \
                     WHERE id = (SELECT id FROM tug_orders WHERE state <> 'done' ORDER BY id LIMIT 1)",
                );
            }
        };
        match some_call(db, rng)? {
            Some(call) => db.run(&format!("UPDATE calls SET {column} = {value} WHERE id = {call}")),
            None => Ok(()),
        }
    }
}

fn some_call(db: &mut dyn Store, rng: &mut StdRng) -> Result<Option<String>> {
    let salt = rng.random_range(1..100);
    let row = db.row(&format!("SELECT id FROM calls ORDER BY (id * {salt}) % 101, id LIMIT 1"))?;
    Ok(row.and_then(|r| r.into_iter().next().flatten()))
}

/// Moves one call to its next state, with everything that follows from it.
fn advance(db: &mut dyn Store, rng: &mut StdRng) -> Result<()> {
    let Some(call) = some_call(db, rng)? else { return Ok(()) };
    let row = db.row(&format!("SELECT status, berth FROM calls WHERE id = {call}"))?.unwrap_or_default();
    let status = row.first().cloned().flatten().unwrap_or_default();
    let next = match status.as_str() {
        "expected" => "anchored",
        "anchored" => "inbound",
        "inbound" => "berthed",
        "berthed" => "departed",
        _ => return db.run(&format!("DELETE FROM calls WHERE id = {call}")),
    };
    db.run(&format!("UPDATE calls SET status = '{next}' WHERE id = {call}"))?;
    let berth_becomes = match next {
        "inbound" => {
            let tugs = rng.random_range(1..4);
            db.run(&format!("INSERT INTO tug_orders (call, tugs, state) VALUES ({call}, {tugs}, 'ordered')"))?;
            "held"
        }
        "berthed" => "occupied",
        "departed" => "free",
        _ => return Ok(()),
    };
    let berth = row.get(1).cloned().flatten();
    db.run(&format!("UPDATE berths SET state = '{berth_becomes}' WHERE id = {}", number(berth.as_ref())))
}

/// The simulation, on its own thread.
pub struct Simulation {
    stop: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Simulation {
    /// Simulates an event every `pace`. `committed` is called for every transaction, after `witness` has seen it.
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
                match harbour.step(&mut |db| seen = crate::demo::audit::witness(db)) {
                    Ok(c) => committed(&c, &seen),
                    // The database is locked by another program; try again later.
                    Err(e) => tracing::debug!("harbour: {e}"),
                }
                next += pace;
                // Sleep in short pieces, so that the demo ends promptly.
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

    /// Stops it and waits for its last transaction.
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
