//! A value is the same in a snapshot and on the stream, and has the documented JSON form.

use serde_json::{Value as Json, json};

use crate::common::Bench;
use gossip_core::value::Type;

/// Type, literal, the documented JSON form, the type for queries.
fn cases() -> Vec<(&'static str, &'static str, Json, Type)> {
    let deep = json!({"a": [1, 2.5, null, {"b": "ü \"q\""}]});
    vec![
        ("smallint", "-32768", json!(-32768), Type::Int2),
        ("integer", "2147483647", json!(2147483647), Type::Int4),
        ("bigint", "9007199254740991", json!(9007199254740991i64), Type::Int8),
        ("bigint", "9223372036854775807", json!("9223372036854775807"), Type::Int8),
        ("real", "'0.1'", json!(0.1), Type::Float4),
        ("real", "'NaN'", json!("NaN"), Type::Float4),
        ("double precision", "'0.1'", json!(0.1), Type::Float8),
        ("double precision", "'1e-300'", json!(1e-300), Type::Float8),
        ("double precision", "'-Infinity'", json!("-Infinity"), Type::Float8),
        ("double precision", "'NaN'", json!("NaN"), Type::Float8),
        ("numeric(12,4)", "1.5", json!("1.5000"), Type::Numeric),
        ("numeric", "'0.000'", json!("0.000"), Type::Numeric),
        (
            "numeric",
            "-123456789012345678901234567890.0987654321",
            json!("-123456789012345678901234567890.0987654321"),
            Type::Numeric,
        ),
        ("numeric", "'NaN'", json!("NaN"), Type::Numeric),
        ("numeric", "'Infinity'", json!("Infinity"), Type::Numeric),
        ("boolean", "true", json!(true), Type::Bool),
        ("text", "'ü€ \\ \" '' tab\t'", json!("ü€ \\ \" ' tab\t"), Type::Text),
        ("varchar(5)", "'ab'", json!("ab"), Type::Text),
        ("char(5)", "'ab'", json!("ab"), Type::Bpchar),
        ("name", "'n'", json!("n"), Type::Text),
        ("bytea", "'\\x00ff10'", json!("AP8Q"), Type::Bytea),
        ("uuid", "'A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11'", json!("a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11"), Type::Uuid),
        ("date", "'2026-11-23'", json!("2026-11-23"), Type::Date),
        ("date", "'0044-03-15 BC'", json!("-0043-03-15"), Type::Date),
        ("date", "'12026-11-23'", json!("+12026-11-23"), Type::Date),
        ("date", "'infinity'", json!("infinity"), Type::Date),
        ("time", "'24:00'", json!("24:00:00.000000"), Type::Time),
        ("time(3)", "'01:02:03.004'", json!("01:02:03.004000"), Type::Time),
        ("timetz", "'01:02:03+02'", json!("01:02:03+02"), Type::Other),
        ("timestamp", "'2026-11-23 14:12:23.5'", json!("2026-11-23T14:12:23.500000"), Type::Timestamp),
        ("timestamp", "'4713-11-24 00:00 BC'", json!("-4712-11-24T00:00:00.000000"), Type::Timestamp),
        ("timestamptz", "'2026-11-23 14:12:23+05:30'", json!("2026-11-23T08:42:23.000000Z"), Type::Timestamptz),
        ("timestamptz", "'-infinity'", json!("-infinity"), Type::Timestamptz),
        (
            "timestamptz",
            "'294276-12-31 23:59:59.999999+00'",
            json!("+294276-12-31T23:59:59.999999Z"),
            Type::Timestamptz,
        ),
        ("interval", "'1 year 2 mons -3 days 04:05:06.7'", json!("1 year 2 mons -3 days +04:05:06.7"), Type::Other),
        ("json", "'{\"a\": [1, 2.5, null, {\"b\": \"ü \\\"q\\\"\"}]}'", deep.clone(), Type::Json),
        ("jsonb", "'{\"a\": [1, 2.5, null, {\"b\": \"ü \\\"q\\\"\"}]}'", deep, Type::Jsonb),
        ("mood", "'so, so'", json!("so, so"), Type::Enum),
        ("integer[]", "'{1,NULL,3}'", json!([1, null, 3]), Type::array(Type::Int4)),
        ("integer[]", "'{{1,2},{3,4}}'", json!([[1, 2], [3, 4]]), Type::array(Type::Int4)),
        (
            "text[]",
            "ARRAY['a,b', 'c\"d', NULL, 'NULL', '']",
            json!(["a,b", "c\"d", null, "NULL", ""]),
            Type::array(Type::Text),
        ),
        (
            "timestamptz[]",
            "ARRAY['2026-11-23 14:12:23+00'::timestamptz]",
            json!(["2026-11-23T14:12:23.000000Z"]),
            Type::array(Type::Timestamptz),
        ),
        ("jsonb[]", "ARRAY['{\"a\": 1}'::jsonb]", json!([{"a": 1}]), Type::array(Type::Jsonb)),
        ("mood[]", "ARRAY['so, so']::mood[]", json!(["so, so"]), Type::array(Type::Enum)),
        ("inet", "'192.168.0.1/24'", json!("192.168.0.1/24"), Type::Other),
        ("cidr", "'10.1.0.0/16'", json!("10.1.0.0/16"), Type::Other),
        ("macaddr", "'08:00:2B:01:02:03'", json!("08:00:2b:01:02:03"), Type::Other),
        ("int4range", "'(1,5]'", json!("[2,6)"), Type::Other),
        ("tstzrange", "'[2026-01-01 00:00+02,)'", json!("[\"2025-12-31 22:00:00+00\",)"), Type::Other),
        ("money", "12.5", json!("$12.50"), Type::Other),
        ("small", "7", json!(7), Type::Int2),
        ("pair", "ROW(1, 'a b')", json!("(1,\"a b\")"), Type::Other),
        ("bit(3)", "B'101'", json!("101"), Type::Other),
        ("xml", "'<a b=\"c\"/>'", json!("<a b=\"c\"/>"), Type::Other),
        ("regclass", "'odd.\"Tä ble\"'", json!("odd.\"Tä ble\""), Type::Other),
        ("point", "'(1,2.5)'", json!("(1,2.5)"), Type::Other),
        ("tsvector", "'a fat cat'", json!("'a' 'cat' 'fat'"), Type::Other),
        ("text", "NULL", Json::Null, Type::Text),
    ]
}

#[test]
fn every_type_makes_the_round_trip() {
    let cases = cases();
    let columns: Vec<String> = cases.iter().enumerate().map(|(i, (ty, ..))| format!("c{i} {ty}")).collect();
    let values: Vec<&str> = cases.iter().map(|(_, v, ..)| *v).collect();
    let schema = format!(
        "CREATE SCHEMA odd; CREATE TABLE odd.\"Tä ble\" (id int PRIMARY KEY);
         CREATE TYPE mood AS ENUM ('so, so', 'well'); CREATE DOMAIN small AS smallint CHECK (value < 100);
         CREATE TYPE pair AS (a int, b text);
         CREATE TABLE every (id int PRIMARY KEY, {});
         ALTER DATABASE postgres SET lc_monetary = 'C'",
        columns.join(", ")
    );
    let mut bench = Bench::new(&schema, &["every"]).with_old_values(&["every"]);
    let described = bench.table("every");
    for (i, (ty, _, _, expected)) in cases.iter().enumerate() {
        assert_eq!(described.columns[i + 1].ty, *expected, "{ty}");
    }
    // Settings of the role must not shape what is read, on neither way.
    let unusual = "ALTER ROLE test SET DateStyle = 'SQL, DMY'; ALTER ROLE test SET TimeZone = 'Asia/Kathmandu';
        ALTER ROLE test SET IntervalStyle = 'iso_8601'; ALTER ROLE test SET extra_float_digits = -2;
        ALTER ROLE test SET bytea_output = 'escape'; ALTER ROLE test SET search_path = odd;
        ALTER ROLE test SET client_encoding = 'LATIN1'; ALTER ROLE test SET lc_monetary = 'C.UTF-8'";
    bench.run(unusual);
    let mut reader = bench.follow();
    let table = bench.table("every");
    let insert = format!("INSERT INTO public.every VALUES (1, {})", values.join(", "));
    bench.run(&insert);
    let streamed = reader.change().new.unwrap();
    let (snapshot, _) = bench.snapshot(&table);
    let stored = snapshot.into_values().next().unwrap();
    for (i, (ty, literal, expected, _)) in cases.iter().enumerate() {
        assert_eq!(streamed[i + 1], stored[i + 1], "{ty} {literal}: on the stream and in the snapshot");
        assert_eq!(streamed[i + 1].to_json(), *expected, "{ty} {literal}");
    }
    // The old row of an update is read like any other.
    bench.run("UPDATE public.every SET id = 2");
    let old = reader.changes().into_iter().find(|c| c.new.is_none()).unwrap().old;
    assert_eq!(old, gossip_core::position::Old::Known(Some(stored)));
}
