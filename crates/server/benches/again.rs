//! What people do by hand: after a change, the queries that it concerns are run again on PostgreSQL. The same kinds of queries as
//! in the core's `kinds`, each prepared and with an index that suits it, by one client without a network between; the twenty that
//! a change touches, as if something had found them, and beside it one query that asks for nothing.
//!
//! `cargo bench -p gossip-server --bench again` (a number after `--` sets the rows of the table).
#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)]

use std::hint::black_box;
use std::time::Instant;

use postgres::types::ToSql;
use postgres::{Client, NoTls, Statement};
use testbed::Postgres;

const CHANGES: usize = 2_000;

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// The twenty queries that concern one row, with what each is asked with.
struct Concerned {
    equal: Statement,
    between: Statement,
    among: Statement,
    begins: Statement,
    window: Statement,
    count: Statement,
}

impl Concerned {
    fn new(db: &mut Client) -> Concerned {
        let mut prepare = |sql: &str| db.prepare(sql).unwrap();
        Concerned {
            equal: prepare("SELECT * FROM calls WHERE owner = $1 AND level > $2"),
            between: prepare("SELECT * FROM calls WHERE id BETWEEN $1 AND $2"),
            among: prepare("SELECT * FROM calls WHERE owner IN ($1, $2, $3)"),
            begins: prepare("SELECT * FROM calls WHERE name >= $1 AND name < $1 || '~'"),
            window: prepare("SELECT * FROM calls WHERE owner = $1 ORDER BY level DESC, id LIMIT $2"),
            count: prepare("SELECT count(*) AS n, sum(level) AS s FROM calls WHERE owner = $1"),
        }
    }

    fn run(&self, db: &mut Client, group: i64) -> usize {
        let mut rows = 0;
        let mut ask = |query: &Statement, with: &[&(dyn ToSql + Sync)]| {
            rows += black_box(db.query(query, with).unwrap()).len();
        };
        let (low, high) = (group * 1_000, group * 1_000 + 999);
        (1..=10_i64).for_each(|n| ask(&self.equal, &[&group, &-n]));
        (10..14_i64).for_each(|n| ask(&self.between, &[&(low + n), &(high - n)]));
        (14..16_i64).for_each(|n| ask(&self.among, &[&group, &-(2 * group + 1), &-n]));
        ask(&self.begins, &[&format!("berth {group:08}")]);
        (10..12_i64).for_each(|n| ask(&self.window, &[&group, &n]));
        ask(&self.count, &[&group]);
        rows
    }
}

fn main() {
    let rows = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(1_000_000_i64);
    let server = Postgres::start();
    let mut db = Client::connect(&server.url(), NoTls).unwrap();
    db.batch_execute(&format!(
        "CREATE TABLE calls (id int8 PRIMARY KEY, owner int8 NOT NULL, level int8 NOT NULL, name text COLLATE \"C\" NOT NULL);
         INSERT INTO calls SELECT g * 1000 + 500, g, 0, 'berth ' || lpad(g::text, 8, '0') || ' east'
             FROM generate_series(0::int8, {rows} - 1) g;
         CREATE INDEX ON calls (owner, level DESC, id); CREATE INDEX ON calls (name)"
    ))
    .unwrap();
    db.batch_execute("VACUUM ANALYZE calls").unwrap();
    let update = db.prepare("UPDATE calls SET level = level + 1 WHERE owner = $1").unwrap();
    let nothing = db.prepare("SELECT").unwrap();
    let concerned = Concerned::new(&mut db);
    let (mut again, mut floor) = (vec![], vec![]);
    for n in 0..CHANGES {
        let group = n as i64 * 7_919 % rows;
        db.execute(&update, &[&group]).unwrap();
        let begun = Instant::now();
        assert_eq!(concerned.run(&mut db, group), 20);
        again.push(begun.elapsed().as_secs_f64() * 1e6);
        let begun = Instant::now();
        black_box(db.query(&nothing, &[]).unwrap());
        floor.push(begun.elapsed().as_secs_f64() * 1e6);
    }
    let (again, floor) = (median(again), median(floor));
    println!("twenty queries of one change run again on {rows} rows; µs, median of {CHANGES}");
    println!("{again:.0}, beside {floor:.0} for one that asks for nothing: {:.1} times", again / floor);
}
