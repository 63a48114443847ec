//! The world that the simulation is held against, written by hand: three tables, who is who, and what each of them may
//! see. Shares nothing with the engine's evaluation.

use std::collections::BTreeMap;
use std::sync::Arc;

use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, PRESENCE, Row, Table, TableName};
use gossip_core::value::{Type, Value};
use rand::Rng;
use rand::rngs::StdRng;
use serde_json::json;

pub const AGENCIES: [&str; 3] = ["Brightwater", "Northlight", "Dunmore"];
pub const STATES: [&str; 3] = ["expected", "inbound", "berthed"];
pub const COLUMNS: [&str; 5] = ["id", "agency", "status", "draught", "note"];
/// Stands between the others in every other description of `calls`, and nobody may see it.
pub const SECRET: &str = "secret";
pub const QUERIES: [&str; 11] = [
    "SELECT * FROM calls",
    "SELECT id, status FROM calls WHERE status IN ('expected', 'inbound')",
    "SELECT status, note FROM calls WHERE draught > 5",
    "SELECT id, draught FROM calls WHERE note IS NOT NULL OR draught < 3",
    "SELECT id, draught FROM calls WHERE NOT (note IS NOT NULL AND draught > 2)",
    "SELECT id, draught FROM calls WHERE status <> 'berthed' ORDER BY draught DESC LIMIT 3",
    "SELECT id, note FROM calls ORDER BY note NULLS FIRST, id DESC LIMIT 2 OFFSET 1",
    "SELECT status, count(*) AS calls, sum(draught) AS draught, max(note) AS note FROM calls GROUP BY status",
    "SELECT DISTINCT ON (status) status, id, draught FROM calls ORDER BY status, draught, id DESC",
    "SELECT id, draught FROM calls WHERE EXISTS (SELECT 1 FROM assignments a WHERE a.call = calls.id)",
    "SELECT c.id, c.draught, a.pilot FROM calls c LEFT JOIN assignments a ON a.id = c.draught AND a.call IS NOT NULL",
];
/// Those that are windows, and those whose rows are not the table's.
pub const WINDOWS: std::ops::Range<usize> = 5..7;
pub const ARRANGED: std::ops::Range<usize> = 7..9;
/// The tables by number: `calls`, `assignments` (a pilot to a call), `crews` (a pilot to a boss).
pub const TABLES: [&str; 3] = ["calls", "assignments", "crews"];

/// A row of `calls`: agency, status, draught, note.
pub type Call = (usize, usize, i64, Option<i64>);
/// A row of `assignments`: call, pilot. Of `crews`: member, boss.
pub type Pair = (Option<i64>, i64);
/// A result by hand: key → column → value.
pub type Shown = BTreeMap<i64, BTreeMap<&'static str, Value>>;

/// A row of any of the tables.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Plain {
    Call(Call),
    Pair(Pair),
}

/// All rows, by table and id.
pub type World = BTreeMap<(usize, i64), Plain>;

/// A table as it is after it was altered so often; only `calls` is.
pub fn table(which: usize, old_values: bool, altered: u64) -> Arc<Table> {
    let column = |(name, ty): (&str, Type)| Column { name: name.into(), ty };
    let mut columns: Vec<(&str, Type)> = match which {
        0 => COLUMNS.into_iter().zip([Type::Int8, Type::Text, Type::Text, Type::Int8, Type::Int8]).collect(),
        1 => vec![("id", Type::Int8), ("call", Type::Int8), ("pilot", Type::Int8)],
        _ => vec![("id", Type::Int8), ("member", Type::Int8), ("boss", Type::Int8)],
    };
    if which == 0 && has_secret(altered) {
        columns.insert(1, (SECRET, Type::Text));
    }
    Arc::new(Table {
        name: TableName::plain(TABLES[which]),
        source: "harbour".into(),
        columns: columns.into_iter().map(column).collect(),
        key: vec![0],
        old_values,
        incarnation: if which == 0 { altered } else { 0 },
    })
}

pub fn has_secret(altered: u64) -> bool {
    altered % 2 == 1
}

/// The pilot whose assignments clients that ask for them do not see.
const HIDDEN: i64 = 1;

/// So many rule sets take turns.
pub const LAWS: usize = 3;

pub fn rules(law: usize) -> RuleSet {
    let rule = |role: &str, rows: &str, columns: Option<&[&str]>, masks: &[(&str, &str)]| RuleText {
        role: role.into(),
        table: TableName::plain("calls"),
        rows: Some(rows.into()),
        columns: columns.map(|c| c.iter().map(|s| s.to_string()).collect()),
        masks: masks.iter().map(|(c, m)| (c.to_string(), m.to_string())).collect(),
        ..RuleText::default()
    };
    let open = Some(&["id", "status", "draught"][..]);
    let named = |table: TableName, column: &str| RuleText {
        role: "agent".into(),
        table,
        rows: Some(format!("{column} = ANY(claim.agencies)")),
        ..RuleText::default()
    };
    let all = Some(&COLUMNS[..]);
    let pilot = if law == 2 { "status = 'berthed'" } else { "status = 'inbound'" };
    let mut rules = vec![
        named(TableName::plain("tide"), "gauge"),
        named(TableName::plain("radio"), "gauge"),
        RuleText {
            role: "agent".into(),
            table: TableName::plain(TABLES[1]),
            rows: Some(format!("pilot <> {HIDDEN}")),
            ..RuleText::default()
        },
        named(TableName::system(PRESENCE), "place"),
        rule("agent", "agency = ANY(claim.agencies)", open, &[]),
        rule("pilot", &format!("{pilot} AND draught < claim.deepest"), all, &[]),
        rule(
            "boss",
            "EXISTS (SELECT 1 FROM assignments a WHERE a.call = calls.id \
             AND pilot IN (SELECT member FROM crews WHERE boss = claim.me))",
            open,
            &[("agency", "left(agency, 2) || '…'"), ("note", "-1")],
        ),
        // Asks the table that it is about.
        rule("echo", "id IN (SELECT draught FROM calls c WHERE c.agency = 'Brightwater')", open, &[]),
        rule(
            "rival",
            "agency = 'Dunmore' AND NOT id IN (SELECT call FROM assignments WHERE pilot = claim.me)",
            open,
            &[],
        ),
    ];
    match law {
        0 => rules.push(rule("clerk", "draught < 4", open, &[("note", "-1")])),
        1 => rules.push(rule("clerk", "draught < 6", Some(&["id", "status", "draught", "note"]), &[])),
        _ => {}
    }
    if law < 2 {
        rules.push(rule("assigned", "id IN (SELECT call FROM assignments WHERE pilot = claim.me)", open, &[]));
    }
    RuleSet::new(rules)
}

/// A row as it stands in the table after that was altered so often.
pub fn to_row(id: i64, p: &Plain, altered: u64) -> Row {
    let number = |n: Option<i64>| n.map_or(Value::Null, Value::Int);
    match p {
        Plain::Call(c) => {
            let secret = has_secret(altered).then(|| Value::from("withheld from everybody"));
            let rest = [AGENCIES[c.0].into(), STATES[c.1].into(), Value::Int(c.2), number(c.3)];
            [Value::Int(id)].into_iter().chain(secret).chain(rest).collect()
        }
        Plain::Pair(p) => [Value::Int(id), number(p.0), Value::Int(p.1)].into(),
    }
}

/// Who a client is.
#[derive(Clone, Debug)]
pub struct Person {
    pub agencies: Vec<usize>,
    deepest: i64,
    me: i64,
    assigned: bool,
    boss: bool,
    rival: bool,
    clerk: bool,
    echo: bool,
    /// The rules that are in force where this one is.
    pub law: usize,
}

impl Person {
    pub fn random(rng: &mut StdRng, law: usize) -> Person {
        // Everybody may name the same columns, so that no query is refused: everybody is a pilot of sorts.
        let deepest = if rng.random_bool(0.5) { rng.random_range(2..9) } else { -1 };
        let asks = rng.random_bool(0.5);
        Person {
            agencies: (0..3).filter(|_| rng.random_bool(0.3)).collect(),
            deepest,
            me: rng.random_range(0..3),
            assigned: asks && rng.random_bool(0.6),
            boss: asks && rng.random_bool(0.5),
            rival: asks && rng.random_bool(0.3),
            clerk: rng.random_bool(0.3),
            echo: asks && rng.random_bool(0.3),
            law,
        }
    }

    pub fn pilot(deepest: i64) -> Person {
        let (assigned, boss, rival, clerk, echo) = (false, false, false, false, false);
        Person { agencies: vec![], deepest, me: 0, assigned, boss, rival, clerk, echo, law: 0 }
    }

    pub fn claims(&self) -> Arc<Claims> {
        let roles = [("agent", true), ("pilot", true)].into_iter();
        let more = [
            ("assigned", self.assigned),
            ("boss", self.boss),
            ("rival", self.rival),
            ("clerk", self.clerk),
            ("echo", self.echo),
        ];
        let roles = roles.chain(more).filter(|r| r.1).map(|r| r.0.to_string()).collect();
        let agencies: Vec<&str> = self.agencies.iter().map(|a| AGENCIES[*a]).collect();
        let facts = json!({"agencies": agencies, "deepest": self.deepest, "me": self.me});
        let facts = facts.as_object().cloned().unwrap_or_default();
        Arc::new(Claims { roles, facts, operator: false })
    }

    /// What this person may see of a call, whatever the query.
    pub fn may(&self, id: i64, c: &Call, world: &World) -> Option<BTreeMap<&'static str, Value>> {
        let pairs = |table: usize| {
            world.range((table, i64::MIN)..(table + 1, i64::MIN)).filter_map(|(_, p)| match p {
                Plain::Pair(p) => Some(*p),
                Plain::Call(_) => None,
            })
        };
        let as_agent = self.agencies.contains(&c.0);
        let as_pilot = c.1 == if self.law == 2 { 2 } else { 1 } && c.2 < self.deepest;
        let own = |call: Option<i64>| pairs(1).any(|(of, pilot)| pilot == self.me && of == call);
        let as_assigned = self.law < 2 && self.assigned && own(Some(id));
        let crew = |pilot: i64| pairs(2).any(|(member, boss)| boss == self.me && member == Some(pilot));
        let as_boss = self.boss && pairs(1).any(|(of, pilot)| of == Some(id) && crew(pilot));
        // A NULL among the calls makes it unknown whether this one is not among them.
        let as_rival = self.rival && c.0 == 2 && !own(Some(id)) && !own(None);
        let as_clerk = self.clerk && c.2 < [4, 6, i64::MIN][self.law];
        let echoes = |p: &Plain| matches!(p, Plain::Call(other) if other.0 == 0 && other.2 == id);
        let as_echo = self.echo && world.range((0, i64::MIN)..(1, i64::MIN)).any(|(_, p)| echoes(p));
        if !(as_agent || as_pilot || as_assigned || as_boss || as_rival || as_clerk || as_echo) {
            return None;
        }
        let mut seen =
            BTreeMap::from([("id", Value::Int(id)), ("status", STATES[c.1].into()), ("draught", Value::Int(c.2))]);
        let note = c.3.map_or(Value::Null, Value::Int);
        if as_pilot {
            seen.insert("agency", AGENCIES[c.0].into());
            seen.insert("note", note);
        } else {
            if as_boss {
                seen.insert("agency", Value::from(format!("{}…", &AGENCIES[c.0][..2])));
            }
            if as_clerk && self.law == 1 {
                seen.insert("note", note);
            } else if as_boss || as_clerk {
                seen.insert("note", Value::Int(-1));
            }
        }
        Some(seen)
    }

    /// What this person's query shows of a call.
    pub fn sees(&self, query: usize, id: i64, c: &Call, world: &World) -> Option<BTreeMap<&'static str, Value>> {
        let mut seen = self.may(id, c, world)?;
        let note = seen.get("note").is_some_and(|n| !n.is_null());
        let wanted = match query {
            0 => true,
            1 => c.1 < 2,
            2 => c.2 > 5,
            3 => note || c.2 < 3,
            4 => !(note && c.2 > 2),
            5 => c.1 != 2,
            9 => (0..12).any(|of| matches!(assignment(world, of), Some((call, _)) if call == Some(id))),
            _ => true,
        };
        if query == 10 {
            let pilot = assignment(world, c.2).filter(|(call, _)| call.is_some()).map(|(_, pilot)| pilot);
            seen.insert("pilot", pilot.map_or(Value::Null, Value::Int));
        }
        let columns: &[&str] = match query {
            0 => &COLUMNS,
            1 => &["id", "status"],
            2 => &["status", "note"],
            6 => &["id", "note"],
            7 | 8 => &["id", "status", "draught", "note"],
            10 => &["id", "draught", "pilot"],
            _ => &["id", "draught"],
        };
        seen.retain(|c, _| columns.contains(c));
        wanted.then_some(seen)
    }

    /// The whole result of this person's query.
    pub fn expected(&self, query: usize, world: &World) -> Shown {
        self.in_order(query, world).into_iter().collect()
    }

    /// The same, in the order that the query names, if it does.
    pub fn in_order(&self, query: usize, world: &World) -> Vec<(i64, BTreeMap<&'static str, Value>)> {
        let calls = world.iter().filter_map(|((table, id), p)| match p {
            Plain::Call(c) if *table == 0 => Some((*id, *c)),
            _ => None,
        });
        let mut rows: Vec<(i64, BTreeMap<&'static str, Value>)> =
            calls.filter_map(|(id, c)| self.sees(query, id, &c, world).map(|r| (id, r))).collect();
        let number = |row: &BTreeMap<&'static str, Value>, column: &str| match row.get(column) {
            Some(Value::Int(n)) => Some(*n),
            _ => None,
        };
        match query {
            5 => {
                rows.sort_by_key(|(id, row)| (std::cmp::Reverse(number(row, "draught")), *id));
                rows.truncate(3);
            }
            6 => {
                rows.sort_by_key(|(id, row)| (number(row, "note"), -*id));
                rows = rows.into_iter().skip(1).take(2).collect();
            }
            7 => {
                rows = by_status(&rows, |of| {
                    let count = Value::Int(of.len() as i64);
                    let sum: i64 = of.iter().filter_map(|row| number(row, "draught")).sum();
                    let most = of.iter().filter_map(|row| number(row, "note")).max();
                    BTreeMap::from([
                        ("calls", count),
                        ("draught", Value::from(sum.to_string())),
                        ("note", most.map_or(Value::Null, Value::Int)),
                    ])
                })
            }
            8 => {
                rows.sort_by_key(|(id, row)| (number(row, "draught"), -*id));
                rows = by_status(&rows, |of| {
                    let mut first = of[0].clone();
                    first.remove("note");
                    first
                });
            }
            _ => {}
        }
        rows
    }
}

/// An assignment that clients may see.
fn assignment(world: &World, id: i64) -> Option<Pair> {
    match world.get(&(1, id)) {
        Some(Plain::Pair(pair)) if pair.1 != HIDDEN => Some(*pair),
        _ => None,
    }
}

/// What becomes of the rows of each status, under a key of its own.
fn by_status(
    rows: &[(i64, BTreeMap<&'static str, Value>)],
    make: impl Fn(&[&BTreeMap<&'static str, Value>]) -> BTreeMap<&'static str, Value>,
) -> Vec<(i64, BTreeMap<&'static str, Value>)> {
    let mut sorted = STATES;
    sorted.sort_unstable();
    let of = |status: &str| {
        let status = Value::from(status);
        let of: Vec<_> = rows.iter().map(|(_, row)| row).filter(|row| row.get("status") == Some(&status)).collect();
        (!of.is_empty()).then(|| {
            let mut row = make(&of);
            row.insert("status", status.clone());
            (key_of_status(&status), row)
        })
    };
    sorted.iter().filter_map(|status| of(status)).collect()
}

/// The key of a group by hand.
pub fn key_of_status(status: &Value) -> i64 {
    let place = STATES.iter().position(|s| Value::from(*s) == *status).unwrap();
    1_000 + place as i64
}

/// A row as it is after a random change; `None` if it is gone.
pub fn changed(which: usize, old: Option<&Plain>, rng: &mut StdRng) -> Option<Plain> {
    match old {
        Some(_) if rng.random_bool(0.25) => None,
        Some(Plain::Call(c)) if rng.random_bool(0.6) => {
            let mut c = *c;
            match rng.random_range(0..4) {
                0 => c.0 = rng.random_range(0..3),
                1 => c.1 = rng.random_range(0..3),
                2 => c.2 = rng.random_range(0..10),
                _ => c.3 = rng.random_bool(0.5).then(|| rng.random_range(0..5)),
            }
            Some(Plain::Call(c))
        }
        _ if which == 0 => {
            let note = rng.random_bool(0.5).then_some(7);
            Some(Plain::Call((rng.random_range(0..3), rng.random_range(0..3), rng.random_range(0..10), note)))
        }
        _ => {
            let most = if which == 1 { 12 } else { 3 };
            let first = rng.random_bool(0.95).then(|| rng.random_range(0..most));
            Some(Plain::Pair((first, rng.random_range(0..3))))
        }
    }
}
