//! Writers whose every transaction leaves a state that tells by itself whether it was committed.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use postgres::{Client, NoTls};
use rand::Rng;
use rand::rngs::StdRng;

use super::{GROUPS, WRITERS, number};

/// When each version of each group was committed, as its writer knows it.
pub(super) type Written = Arc<Mutex<HashMap<(i64, i64), Instant>>>;

/// One writer: random transactions until it is told to stop. A server that dies is waited for.
pub(super) struct Writer {
    pub(super) url: String,
    pub(super) name: String,
    pub(super) rng: StdRng,
    pub(super) committed: Arc<AtomicU64>,
    pub(super) written: Written,
    /// The versions of groups that the transaction makes.
    pub(super) makes: Vec<(i64, i64)>,
    pub(super) stopped: Arc<AtomicBool>,
}

impl Writer {
    pub(super) fn run(mut self) {
        while !self.stopped.load(Relaxed) {
            let Ok(mut db) = Client::connect(&self.url, NoTls) else {
                std::thread::sleep(Duration::from_millis(20));
                continue;
            };
            // What was prepared before the server died still holds its locks.
            let left = "SELECT gid FROM pg_prepared_xacts WHERE gid = $1";
            if db.query(left, &[&self.name]).is_ok_and(|rows| !rows.is_empty()) {
                let _ = db.batch_execute(&format!("COMMIT PREPARED '{}'", self.name));
            }
            while !self.stopped.load(Relaxed) && self.transaction(&mut db).is_ok() {
                if let Some(rate) = number("GOSSIP_FIRE_RATE") {
                    std::thread::sleep(Duration::from_secs(WRITERS) / rate as u32);
                }
            }
        }
    }

    fn transaction(&mut self, db: &mut Client) -> Result<(), postgres::Error> {
        let (a, b) = (self.rng.random_range(0..GROUPS), self.rng.random_range(0..GROUPS));
        let own = |db: &mut Client, g: i32, salt: i64| -> Result<Option<(i64, i64)>, postgres::Error> {
            let sql = "SELECT id, amount FROM acct WHERE grp = $1 AND id > 0 ORDER BY (id * $2) % 97, id LIMIT 1";
            Ok(db.query_opt(sql, &[&g, &salt])?.map(|r| (r.get(0), r.get(1))))
        };
        let salt = self.rng.random_range(1..96);
        self.makes.clear();
        db.batch_execute("BEGIN")?;
        // All who change a group hold its first row, in one order.
        db.query(
            "SELECT FROM acct WHERE id IN ($1, $2) ORDER BY id FOR UPDATE",
            &[&i64::from(-a - 1), &i64::from(-b - 1)],
        )?;
        let some = own(db, a, salt)?;
        let amount = self.rng.random_range(-50..50i64);
        // As many rows go as come.
        match (self.rng.random_range(0..12), some) {
            (0..3, _) | (_, None) => {
                self.insert(db, a, amount)?;
            }
            (3..5, Some((id, _))) => {
                db.execute("UPDATE acct SET amount = amount + $2 WHERE id = $1", &[&id, &amount])?;
                self.settle(db, a, -amount)?;
            }
            (5..8, Some((id, was))) => {
                let with_owner = "WITH gone AS (DELETE FROM acct WHERE id = $1 RETURNING owner) \
                                  DELETE FROM owners USING gone WHERE owners.id = gone.owner";
                db.execute(with_owner, &[&id])?;
                self.settle(db, a, was)?;
            }
            (8 | 9, Some((id, was))) if a != b => {
                let with_owner = "WITH moved AS (UPDATE acct SET grp = $2 WHERE id = $1 RETURNING owner) \
                                  UPDATE owners SET grp = $2 FROM moved WHERE owners.id = moved.owner";
                db.execute(with_owner, &[&id, &b])?;
                self.settle(db, a, was)?;
                self.settle(db, b, -was)?;
            }
            (10, Some((id, _))) => {
                db.execute("UPDATE acct SET id = nextval('ids') WHERE id = $1", &[&id])?;
                self.settle(db, a, 0)?;
            }
            (_, Some((id, was))) => {
                db.batch_execute("SAVEPOINT s")?;
                db.execute("DELETE FROM acct WHERE id = $1", &[&id])?;
                db.batch_execute("ROLLBACK TO s; SAVEPOINT t")?;
                db.execute("UPDATE acct SET amount = 0 WHERE id = $1", &[&id])?;
                db.batch_execute("RELEASE t")?;
                self.settle(db, a, was)?;
            }
        }
        let end = match self.rng.random_range(0..10) {
            0 => {
                db.batch_execute("ROLLBACK")?;
                "ROLLBACK"
            }
            1 => {
                db.batch_execute(&format!("PREPARE TRANSACTION '{}'", self.name))?;
                let end = if self.rng.random_bool(0.7) { "COMMIT" } else { "ROLLBACK" };
                db.batch_execute(&format!("{end} PREPARED '{}'", self.name))?;
                end
            }
            _ => {
                db.batch_execute("COMMIT")?;
                "COMMIT"
            }
        };
        if end == "COMMIT" {
            let now = Instant::now();
            self.written.lock().extend(self.makes.drain(..).map(|made| (made, now)));
        }
        self.committed.fetch_add(1, Relaxed);
        Ok(())
    }

    fn insert(&mut self, db: &mut Client, g: i32, amount: i64) -> Result<(), postgres::Error> {
        let with_owner = "WITH owner AS (INSERT INTO owners VALUES (nextval('ids'), $1) RETURNING id) \
                          INSERT INTO acct SELECT nextval('ids'), $1, $2, 0, id FROM owner";
        db.execute(with_owner, &[&g, &amount])?;
        self.settle(db, g, -amount)
    }

    /// Makes a group add up again, and raises its version.
    fn settle(&mut self, db: &mut Client, g: i32, amount: i64) -> Result<(), postgres::Error> {
        let sql = "UPDATE acct SET amount = amount + $2, v = v + 1 WHERE id = $1 RETURNING v";
        self.makes.push((g.into(), db.query_one(sql, &[&i64::from(-g - 1), &amount])?.get(0)));
        db.execute("UPDATE groups SET version = version + 1 WHERE grp = $1", &[&g])?;
        Ok(())
    }
}
