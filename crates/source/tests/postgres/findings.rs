//! Every finding of `check`: what provokes it, and that its SQL mends it.

use std::io::{Read, Write};
use std::net::TcpListener;

use gossip_core::plan::{EffectivePlan, Grant, LookUp, Masks};
use gossip_core::query::{Expr, parse_trusted_query};
use gossip_core::schema::{Catalog, TableName};
use gossip_source::{Condition, Finding};
use serde_json::{Map, json};
use testbed::Postgres;

use crate::common::Bench;

const SCHEMA: &str = "CREATE SCHEMA ops;
    CREATE TABLE t (id int PRIMARY KEY, v text COLLATE \"en-x-icu\", big text); ALTER TABLE t ALTER COLUMN big SET STORAGE EXTERNAL;
    CREATE TABLE ops.other (id int PRIMARY KEY);
    CREATE ROLE app LOGIN REPLICATION BYPASSRLS; GRANT USAGE ON SCHEMA ops TO app; GRANT SELECT ON t, ops.other TO app";

/// A prepared source without findings, read by a role that is not the superuser.
fn bench() -> Bench {
    let mut bench = Bench::on(Postgres::start_with(&["max_slot_wal_keep_size=1GB"]), SCHEMA, &["t", "ops.other"]);
    bench.prepare();
    bench.settings.url = bench.settings.url.replace("test@", "app@");
    assert_eq!(bench.source().check(&[]).unwrap(), []);
    bench
}

fn find(bench: &Bench, conditions: &[Condition], says: &str) -> Option<Finding> {
    bench.source().check(conditions).unwrap().into_iter().find(|f| f.text.contains(says))
}

/// Runs a finding's SQL as the owner does.
fn fix(bench: &Bench, finding: &Finding) {
    let owner = gossip_source::Settings { url: bench.server.url(), ..bench.settings.clone() };
    let owner = gossip_source::from_settings(&owner, std::path::Path::new("/")).unwrap();
    let sql = finding.fix.clone().unwrap_or_else(|| panic!("{finding} has no fix"));
    owner.carry_out(&[sql]).unwrap_or_else(|e| panic!("{finding}: {e}"));
}

fn on_t(columns: &[&str], ordered: &[&str]) -> Condition {
    let names = |of: &[&str]| of.iter().map(|c| c.to_string()).collect();
    Condition {
        table: TableName::plain("t"),
        columns: names(columns),
        ordered: names(ordered),
        found_by: vec![],
        first_by: None,
        place: "the rule in line 7".into(),
    }
}

#[test]
fn what_is_wrong_with_tables_is_found_and_its_sql_mends_it() {
    let mut bench = bench();
    // What is done, what is said about which table, and whether it keeps something from working.
    let cases = [
        ("REVOKE USAGE ON SCHEMA ops FROM app", "ops.other", "schema that role \"app\" may not use", true),
        ("REVOKE SELECT ON t FROM app", "t", "may not be read by role \"app\"", true),
        ("ALTER ROLE app NOBYPASSRLS; ALTER TABLE t ENABLE ROW LEVEL SECURITY", "t", "has row security", true),
        ("ALTER TABLE t REPLICA IDENTITY NOTHING", "t", "REPLICA IDENTITY NOTHING", false),
        ("ALTER PUBLICATION gossip DROP TABLE t", "t", "is not in publication gossip", true),
        (
            "ALTER PUBLICATION gossip DROP TABLE t; ALTER PUBLICATION gossip ADD TABLE ONLY t WHERE (id > 5)",
            "t",
            "row filter",
            true,
        ),
        (
            "ALTER PUBLICATION gossip DROP TABLE t; ALTER PUBLICATION gossip ADD TABLE ONLY t (id, v)",
            "t",
            "list of columns",
            true,
        ),
        (
            "ALTER TABLE t ADD COLUMN twice int GENERATED ALWAYS AS (id * 2) STORED",
            "t",
            "generated column twice",
            false,
        ),
        ("ALTER PUBLICATION gossip SET (publish = 'insert')", "s", "publishes only \"insert\"", true),
        ("ALTER PUBLICATION gossip SET (publish_via_partition_root = true)", "s", "as if they were one table", true),
        ("ALTER TABLE ops.other SET UNLOGGED", "ops.other", "unlogged", true),
        (
            "ALTER SYSTEM SET max_slot_wal_keep_size = -1; SELECT pg_reload_conf()",
            "s",
            "max_slot_wal_keep_size is not set",
            false,
        ),
        ("ALTER ROLE app NOREPLICATION", "s", "role app may not stream changes", true),
        ("SELECT pg_drop_replication_slot('gossip')", "s", "slot gossip does not exist", true),
        (
            "SELECT pg_drop_replication_slot('gossip'); SELECT pg_create_logical_replication_slot('gossip', 'test_decoding')",
            "s",
            "not of pgoutput",
            true,
        ),
    ];
    for (provoke, about, says, blocks) in cases {
        // A published table cannot lose its log.
        if provoke.contains("UNLOGGED") {
            bench.run("ALTER PUBLICATION gossip DROP TABLE ops.other");
        }
        provoke.split("; ").for_each(|sql| bench.run(sql));
        // The server reads its configuration in its own time.
        let look = || find(&bench, &[], says);
        let found = testbed::wait_for(|| format!("{says} after {provoke}"), look);
        assert_eq!((found.about.as_str(), found.blocks), (about, blocks), "{found}");
        fix(&bench, &found);
        testbed::wait_for(|| format!("the fix of: {found}"), || find(&bench, &[], says).is_none().then_some(()));
        bench.prepare_again();
    }
    assert_eq!(bench.source().check(&[]).unwrap(), []);
}

impl Bench {
    /// As the owner, so that the next case begins with everything in place.
    fn prepare_again(&self) {
        let owner = gossip_source::Settings { url: self.server.url(), ..self.settings.clone() };
        let owner = gossip_source::from_settings(&owner, std::path::Path::new("/")).unwrap();
        owner.carry_out(&owner.plan().unwrap().statements).unwrap();
    }
}

#[test]
fn what_rules_need_of_tables_is_found() {
    let bench = bench();
    let plain = on_t(&["id"], &[]);
    let found =
        find(&bench, std::slice::from_ref(&plain), "the rule in line 7 has a condition on it and old values").unwrap();
    assert!(!found.blocks);
    let large = on_t(&["id", "big"], &[]);
    let of_large = find(&bench, std::slice::from_ref(&large), "has a condition on big, whose large values").unwrap();
    assert_eq!(found.fix, of_large.fix);
    let order = on_t(&["v"], &["v"]);
    let of_order = find(&bench, std::slice::from_ref(&order), "compares v with < or >").unwrap();
    assert_eq!(find(&bench, &[on_t(&["v"], &[])], "compares v"), None, "equality is the same in every collation");
    fix(&bench, &found);
    fix(&bench, &of_order);
    assert_eq!(bench.source().check(&[plain, large, order]).unwrap(), []);
}

/// Reads the rows of a query, as one who may see all of them.
fn read(bench: &Bench, condition: &str) {
    let (source, table) = (bench.source(), bench.table("t"));
    let mut catalog = Catalog::default();
    catalog.put(table.clone());
    let query = parse_trusted_query(&format!("SELECT id FROM t WHERE {condition}"), &catalog, &Map::new()).unwrap();
    let query = query.bind(&Map::new(), &Map::new()).unwrap();
    let grant = Grant { condition: Expr::always(), columns: table.all_columns(), masks: Masks::new() };
    source.snapshot(&EffectivePlan::new(query, vec![grant], vec![]).snapshot(&()), &mut |_| true).unwrap().unwrap();
}

/// An index that is missing is named, and the one that is proposed is used.
#[test]
fn an_index_by_which_no_rows_are_found_is_missing() {
    let mut bench = bench();
    bench.run("ALTER TABLE t REPLICA IDENTITY FULL");
    let by = |column: &str, how| Condition { found_by: vec![(column.into(), how)], ..on_t(&["id"], &[]) };
    let first = |column: &str| Condition { first_by: Some(column.into()), ..on_t(&["id"], &[]) };
    let says = "of which there is no index";
    assert_eq!(find(&bench, &[by("v", LookUp::Equal)], says), None, "of a small table all is read");
    bench.run("INSERT INTO t SELECT n, md5(n::text), repeat('x', 60) FROM generate_series(1, 20000) n");
    assert_eq!(find(&bench, &[by("id", LookUp::Equal), by("id", LookUp::Ordered), first("id")], says), None);
    let found_or_first = Condition { first_by: Some("id".into()), ..by("v", LookUp::Equal) };
    assert_eq!(find(&bench, &[found_or_first], says), None, "the window's first rows are found");
    let cases = [
        (by("v", LookUp::Equal), "v = 'c4ca4238a0b923820dcc509a6f75849b'"),
        (by("v", LookUp::Begins), "v LIKE 'c4ca4%'"),
        (by("v", LookUp::Ordered), "v < '0001'"),
        (first("v"), "v < '0001'"),
    ];
    for (condition, query) in cases {
        let found = find(&bench, std::slice::from_ref(&condition), says).unwrap();
        assert!(!found.blocks && found.text.contains("finds its rows by v"), "{found}");
        fix(&bench, &found);
        bench.run("VACUUM ANALYZE t");
        assert_eq!(find(&bench, std::slice::from_ref(&condition), says), None, "after {found}");
        let used = || {
            read(&bench, query);
            let sql =
                "SELECT coalesce(sum(idx_scan), 0)::int8 FROM pg_stat_user_indexes WHERE indexrelname <> 't_pkey'";
            (bench.db.query_one(sql, &[]).unwrap().get::<_, i64>(0) > 0).then_some(())
        };
        testbed::wait_for(|| format!("{query} by the index of {found}"), used);
        // As one is left that failed while it was made.
        bench.run("UPDATE pg_index SET indisvalid = false WHERE indexrelid = 't_v_idx'::regclass");
        let found = find(&bench, std::slice::from_ref(&condition), says).unwrap();
        assert!(found.fix.as_ref().unwrap().contains("REINDEX INDEX CONCURRENTLY public.t_v_idx"), "{found}");
        fix(&bench, &found);
        assert_eq!(find(&bench, &[condition], says), None, "after {found}");
        bench.run("DROP INDEX t_v_idx");
    }
}

#[test]
fn tables_without_a_key_stream_inserts_and_never_make_a_write_fail() {
    let mut bench = Bench::new(
        "CREATE TABLE bare (v text); CREATE TABLE unique_one (a int NOT NULL, b int, CONSTRAINT \"U x\" UNIQUE (a));
         CREATE TABLE late (id int PRIMARY KEY DEFERRABLE, v int)",
        &["bare", "unique_one", "late"],
    );
    let about = |bench: &Bench, table: &str, says: &str| {
        bench.source().check(&[]).unwrap().into_iter().find(|f| f.about == table && f.text.contains(says))
    };
    bench.prepare();
    // What publishing everything would have broken.
    bench.run("INSERT INTO bare VALUES ('x'); UPDATE bare SET v = 'y'; DELETE FROM bare;
        INSERT INTO late VALUES (1, 1); UPDATE late SET v = 2; INSERT INTO unique_one VALUES (1, 1); UPDATE unique_one SET b = 2");
    for (table, sql) in [("bare", "ADD COLUMN gossip_id"), ("unique_one", "REPLICA IDENTITY USING INDEX \"U x\"")] {
        let found = about(&bench, table, "has no key").unwrap();
        assert!(!found.blocks && found.fix.as_ref().unwrap().contains(sql), "{found}");
        fix(&bench, &found);
        let moved = about(&bench, table, "belongs in gossip").unwrap();
        assert!(moved.blocks);
        fix(&bench, &moved);
        assert_eq!(about(&bench, table, ""), None);
    }
    assert!(about(&bench, "late", "has no key").is_some(), "a key that is checked late tells the log nothing");
    assert_eq!(bench.table("unique_one").key.len(), 1);
    bench.run("UPDATE bare SET v = 'z'; UPDATE unique_one SET b = 3; UPDATE late SET v = 3");
}

#[test]
fn what_cannot_stream_is_said_to() {
    let mut bench = Bench::new(
        "CREATE VIEW a_view AS SELECT 1 AS id; CREATE MATERIALIZED VIEW seen AS SELECT 1 AS id;
         CREATE EXTENSION file_fdw; CREATE SERVER files FOREIGN DATA WRAPPER file_fdw;
         CREATE FOREIGN TABLE away (v text) SERVER files OPTIONS (filename '/dev/null');
         CREATE TABLE parent (id int PRIMARY KEY); CREATE TABLE child () INHERITS (parent);
         CREATE SCHEMA gossip; CREATE TABLE gossip.t (id int PRIMARY KEY);
         CREATE TEMP TABLE passing (id int PRIMARY KEY)",
        &[],
    );
    let temporary: String = bench.db.query_one("SELECT pg_my_temp_schema()::regnamespace::text", &[]).unwrap().get(0);
    for (table, says, blocks) in [
        ("a_view", "is a view", true),
        ("seen", "is a materialised view", true),
        ("away", "is a foreign table", true),
        ("gossip.t", "reserved for Gossip's tables", true),
        ("parentt", "no such table; did you mean parent?", true),
        (&format!("{temporary}.passing"), "is a temporary table", true),
        ("parent", "inherit from it", false),
    ] {
        bench.settings.tables = vec![table.to_string()];
        let found =
            find(&bench, &[], says).unwrap_or_else(|| panic!("{table}: {:?}", bench.source().check(&[]).unwrap()));
        assert_eq!((found.about.as_str(), found.blocks), (table, blocks), "{found}");
        assert_eq!(bench.source().plan().is_err(), blocks, "{table}");
    }
    bench.settings.tables = vec![];
    assert!(find(&bench, &[], "no tables are named").is_some());

    // All of them are listed, with the reason; what extensions brought is not.
    bench.run("CREATE UNLOGGED TABLE scratch (id int PRIMARY KEY); CREATE EXTENSION pg_stat_statements");
    let listed = bench.source().database().inspect().unwrap();
    let reason = |name: &str| {
        let found = listed.iter().find(|t| t.name == name).unwrap_or_else(|| panic!("{name}: {listed:?}"));
        (found.is_table, found.unfit.as_ref().map_or("", |u| u.why.as_str()).to_string())
    };
    for (name, is_table, says) in [
        ("a_view", false, "is a view"),
        ("seen", false, "is a materialised view"),
        ("away", false, "is a foreign table"),
        ("scratch", true, "is an unlogged table"),
        ("parent", true, ""),
    ] {
        let (table, why) = reason(name);
        assert!(table == is_table && why.starts_with(says) && says.is_empty() == why.is_empty(), "{name}: {why}");
    }
    assert!(!listed.iter().any(|t| t.name.starts_with("pg_stat")), "{listed:?}");
    // Each of those that name SQL is mended by it.
    let unfit = listed.iter().find(|t| t.name == "scratch").and_then(|t| t.unfit.clone()).unwrap();
    bench.run(&unfit.fix.unwrap());
    let mended = bench.source().database().inspect().unwrap();
    assert_eq!(mended.iter().find(|t| t.name == "scratch").unwrap().unfit, None);
}

#[test]
fn how_publication_and_slot_stand_is_told() {
    let bench = bench();
    let standing = |bench: &Bench| bench.source().database().standing().unwrap();
    let found = standing(&bench);
    let publication = found.iter().find(|s| s.what.starts_with("publication ")).unwrap();
    assert_eq!((publication.how.as_str(), publication.wrong), ("insert, update, delete, truncate", false), "{found:?}");
    let slot = found.iter().find(|s| s.what.starts_with("slot ")).unwrap();
    assert!(slot.wrong && slot.how.starts_with("is not read, ") && slot.how.ends_with(" of log held"), "{found:?}");
    let reader = bench.source().try_to_lead("test", None).unwrap();
    let read = || standing(&bench).into_iter().find(|s| s.what.starts_with("slot ") && !s.wrong);
    assert!(testbed::wait_for(|| "the slot to be read".into(), read).how.starts_with("is read, "));
    drop(reader);
}

#[test]
fn a_slot_that_holds_much_back_or_was_given_up_is_found() {
    let mut bench = bench();
    bench.settings.options.insert("max_wal_mb".into(), json!(2));
    bench.run("CREATE TABLE noise AS SELECT repeat('n', 1000) AS v FROM generate_series(1, 20000)");
    let found = find(&bench, &[], "holds back").unwrap();
    assert!(!found.blocks && found.text.contains("nobody reads it"), "{found}");
    fix(&bench, &found);
    assert_eq!(find(&bench, &[], "holds back"), None);

    bench.run("ALTER SYSTEM SET max_slot_wal_keep_size = '1MB'");
    bench.run("SELECT pg_reload_conf()");
    let lost = || {
        let mut db = postgres::Client::connect(&bench.server.url(), postgres::NoTls).unwrap();
        db.batch_execute("INSERT INTO noise SELECT repeat('n', 1000) FROM generate_series(1, 20000)").unwrap();
        db.batch_execute("SELECT pg_switch_wal()").unwrap();
        db.batch_execute("CHECKPOINT").unwrap();
        find(&bench, &[], "was given up by the server")
    };
    let found = testbed::wait_for(|| "the slot to be lost".into(), lost);
    let e = bench.source().try_to_lead("test", None).err().unwrap().to_string();
    assert!(e.contains("changes since the last one read are lost"), "{e}");
    bench.run("ALTER SYSTEM SET max_slot_wal_keep_size = '1GB'");
    bench.run("SELECT pg_reload_conf()");
    fix(&bench, &found);
    assert_eq!(bench.source().check(&[]).unwrap(), []);
}

#[test]
fn a_server_that_is_not_the_right_one_is_found() {
    let mut bench = Bench::on(Postgres::start_with(&["wal_level=replica"]), SCHEMA, &["t"]);
    let found = find(&bench, &[], "wal_level is replica").unwrap();
    fix(&bench, &found);
    bench.server.stop();
    bench.server.start_again();
    assert_eq!(find(&bench, &[], "wal_level"), None);
    bench.db = postgres::Client::connect(&bench.server.url(), postgres::NoTls).unwrap();
    bench.prepare();

    let other = Postgres::start();
    bench.settings.options.insert("replication_url".into(), json!(other.url()));
    assert!(find(&bench, &[], "lead to different servers").is_some_and(|f| f.blocks));

    // What a pooler says to somebody who wants to replicate.
    let pooler = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = pooler.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for mut socket in pooler.incoming().flatten() {
            let _ = socket.read(&mut [0; 1024]);
            let body = b"SERROR\0C08P01\0Munsupported startup parameter: replication\0\0";
            let head = [&b"E"[..], &(body.len() as u32 + 4).to_be_bytes()].concat();
            let _ = socket.write_all(&[&head[..], body].concat());
        }
    });
    let pooler = format!("postgres://test@127.0.0.1:{port}/postgres?sslmode=disable");
    bench.settings.options.insert("replication_url".into(), json!(pooler));
    let found = find(&bench, &[], "a pooler does not pass replication on").unwrap();
    assert!(found.blocks && found.text.contains("unsupported startup parameter"), "{found}");
    bench.settings.options.remove("replication_url");

    let standby = bench.server.standby();
    bench.settings.url = standby.url();
    assert!(find(&bench, &[], "leads to a standby").is_some_and(|f| f.blocks));
}
