//! Expectations of what is in a recording: its tables and rows as SQL, its transactions as steps, and of each listener what it
//! heard, or where the change stopped.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fmt::Write as _;
use std::path::Path;

use gossip_core::explain::Passed;
use gossip_core::schema::TOPIC_SOURCE;
use gossip_protocol::system::{ChangesRow, ClientRow, ShownChange, SystemRow, TableRow, VerdictRow};
use gossip_source::sql_name::name;
use serde_json::{Map, Value as Json};

use crate::incident::findings::Explanation;
use crate::outcome::{Failure, Outcome, print_line};
use crate::personas::Personas;
use crate::recording::{self, EXPLANATIONS, Event, MASK};

/// Steps that are written; the first transactions.
const MAX_STEPS: usize = 200;

/// Listeners that are written; an instance observes no more.
const MAX_LISTENERS: usize = 64;

/// Rows of one operation that are expected in a step.
const MAX_ROWS: u64 = 1_000;

/// Somebody who listened.
struct Listener {
    name: String,
    persona: String,
    query: String,
}

/// What became of a transaction for a listener.
struct Heard {
    verdict: String,
    /// Rows added, replaced and removed.
    tally: [u64; 3],
}

/// A transaction and a listener's label.
type Told = (String, String);

/// What a recording has of all that.
#[derive(Default)]
struct Seen {
    tables: BTreeMap<String, TableRow>,
    /// Listeners by their labels.
    listeners: BTreeMap<String, Listener>,
    /// Transactions in their order: position and rows.
    transactions: Vec<(String, Vec<ShownChange>)>,
    heard: HashMap<Told, Heard>,
    /// The step at which a transaction stopped.
    stopped: HashMap<Told, String>,
    /// What cannot be expected, and why.
    left_out: BTreeSet<String>,
}

/// Writes the expectations.
///
/// # Errors
/// A file cannot be read or written, or there is nothing to expect in the recording.
pub fn write(recording: &Path, output: &Path, config: &Path) -> Outcome {
    let events = recording::read(recording).map_err(Failure::usage)?;
    let people = Personas::read(config).map_err(Failure::usage)?;
    let seen = Seen::of(&events, &people);
    if seen.listeners.is_empty() || seen.transactions.is_empty() {
        let why = match seen.transactions.is_empty() {
            true => "it has no transaction of tables whose rows before a change are known",
            false => "nobody was observed in it of whom the configuration has a [persona]",
        };
        let details: String = seen.left_out.iter().map(|text| format!("\n  left out: {text}")).collect();
        return Err(Failure::check(format!("{}: {why}{details}", recording.display())));
    }
    // The file names the configuration from where it lies itself.
    let base = output.parent().filter(|base| !base.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let there = config.canonicalize().map_err(|e| Failure::usage(format!("{}: {e}", config.display())))?;
    let near = base.canonicalize().ok().and_then(|base| there.strip_prefix(base).ok().map(Path::to_path_buf));
    let text = seen.text(&near.unwrap_or(there), recording);
    let fail = |e: std::io::Error| Failure::usage(format!("{}: {e}", output.display()));
    let mut file = std::fs::OpenOptions::new().write(true).create_new(true).open(output).map_err(fail)?;
    std::io::Write::write_all(&mut file, text.as_bytes()).map_err(fail)?;
    let steps = seen.transactions.len().min(MAX_STEPS);
    print_line(&format!("{}: {steps} steps, {} listeners", output.display(), seen.listeners.len()))?;
    seen.left_out.iter().try_for_each(|text| print_line(&format!("left out: {text}")))?;
    print_line(&format!("gossip expect {} holds the rules against them", output.display()))
}

impl Seen {
    fn of(events: &[Event], people: &Personas) -> Seen {
        let mut seen = Seen::default();
        let mut positions = BTreeSet::new();
        for event in events {
            match event.table {
                "tables" => seen.table(&event.row),
                "clients" => seen.client(&event.row, people),
                "changes" => seen.change(&event.row, &mut positions),
                "verdicts" => seen.verdict(&event.row),
                EXPLANATIONS => seen.explanation(&event.row),
                _ => {}
            }
        }
        if seen.transactions.len() > MAX_STEPS {
            let more = seen.transactions.len() - MAX_STEPS;
            seen.left_out.insert(format!("{more} transactions after the first {MAX_STEPS}"));
            seen.transactions.truncate(MAX_STEPS);
        }
        seen
    }

    fn table(&mut self, row: &Map<String, Json>) {
        if let Ok(row) = TableRow::read(row)
            && row.source != TOPIC_SOURCE
        {
            self.tables.insert(row.name.clone(), row);
        }
    }

    fn client(&mut self, row: &Map<String, Json>, people: &Personas) {
        let Ok(row) = ClientRow::read(row) else { return };
        // A persona without roles comes without a token, and so without a name.
        let nameless = || people.personas.iter().find(|(_, p)| p.roles.is_empty()).map(|(name, _)| name.clone());
        let Some(persona) = row.subject.clone().or_else(nameless) else { return };
        for listed in row.subscriptions.0 {
            let Some(label) = listed.observed else { continue };
            if !people.personas.contains_key(&persona) {
                self.left_out.insert(format!("{persona}: there is no [persona.{persona}] in the configuration"));
                continue;
            }
            if listed.query.contains(MASK) {
                self.left_out.insert(format!("{persona}: the query is masked"));
                continue;
            }
            if self.listeners.len() == MAX_LISTENERS && !self.listeners.contains_key(&label) {
                self.left_out.insert(format!("listeners after the first {MAX_LISTENERS}"));
                continue;
            }
            let taken = |name: &str| self.listeners.iter().any(|(l, other)| *l != label && other.name == name);
            let mut names = std::iter::once(persona.clone()).chain((2..).map(|n: u32| format!("{persona} {n}")));
            let name = names.find(|name| !taken(name)).unwrap_or_default();
            self.listeners.insert(label, Listener { name, persona: persona.clone(), query: listed.query });
        }
    }

    fn verdict(&mut self, row: &Map<String, Json>) {
        let Ok(row) = VerdictRow::read(row) else { return };
        if row.verdict != "written" {
            let tally = [row.added, row.replaced, row.removed];
            self.heard.insert((row.position, row.label), Heard { verdict: row.verdict, tally });
        }
    }

    fn explanation(&mut self, row: &Map<String, Json>) {
        let Some(told) = Explanation::read(row) else { return };
        if let Some(step) = told.steps.iter().find(|step| step.verdict == Passed::No) {
            self.stopped.insert((told.position, told.label), step.step.clone());
        }
    }

    fn change(&mut self, row: &Map<String, Json>, positions: &mut BTreeSet<String>) {
        let Ok(row) = ChangesRow::read(row) else { return };
        // Every instance tells of each.
        if !positions.insert(row.position.clone()) {
            return;
        }
        if row.rows > row.changes.0.len() as u64 {
            let text = format!("transaction {}: only the first of its {} rows are recorded", row.position, row.rows);
            self.left_out.insert(text);
            return;
        }
        let masked = |c: &ShownChange| {
            let values = c.old.iter().chain(&c.new).flat_map(Map::values).chain(&c.key);
            values.into_iter().any(|v| v.as_str() == Some(MASK))
        };
        for change in &row.changes.0 {
            let unknown = match self.tables.get(&change.table) {
                None => Some("the recording does not say which columns it has"),
                Some(table) if table.key.is_empty() => Some("its rows have no key"),
                Some(table) if !table.old_values => Some("its changes do not carry the row as it was"),
                Some(_) if masked(change) => Some("values are masked"),
                Some(_) if change.old == change.new => Some("what changed in long values is not recorded"),
                Some(_) => None,
            };
            if let Some(why) = unknown {
                self.left_out.insert(format!("transactions with {}: {why}", change.table));
                return;
            }
        }
        self.transactions.push((row.position, row.changes.0));
    }

    /// The file.
    fn text(&self, config: &Path, recording: &Path) -> String {
        let mut text = format!(
            "# Made of {} by gossip expect --from-recording: what was heard then, and what was not.\n\
             # Values of more than {} characters are cut, as operators see them. Tables that rules ask have the rows that\n\
             # changed, and no others: add what else they need to `start`.\n",
            recording.display(),
            gossip_server::shown::SHOWN_TEXT,
        );
        for left_out in &self.left_out {
            let _ = writeln!(text, "# Left out: {}", left_out.replace(['\n', '\r'], " "));
        }
        let _ = writeln!(text, "\nconfig = {}", quoted(&config.display().to_string()));
        let _ = writeln!(text, "start = {}\n\n[listen]", quoted(&self.start()));
        for l in self.listeners.values() {
            let (name, persona, query) = (quoted(&l.name), quoted(&l.persona), quoted(&l.query));
            let _ = writeln!(text, "{name} = {{ persona = {persona}, query = {query} }}");
        }
        for (i, (position, changes)) in self.transactions.iter().enumerate() {
            let first = changes.first().map_or(String::new(), |c| format!("{} {}", c.table, key_text(&c.key)));
            let sql: Vec<String> = changes.iter().map(|c| self.sql(c)).collect();
            let _ = writeln!(text, "\n[[expect]]\nname = {}", quoted(&format!("{}: {first}", i + 1)));
            let _ = writeln!(text, "change = {}", quoted(&sql.join("\n")));
            self.expected(&mut text, position);
        }
        text
    }

    /// What is expected of each listener in a step.
    fn expected(&self, text: &mut String, position: &str) {
        let (mut silent, mut why) = (Vec::new(), Vec::new());
        for (label, l) in &self.listeners {
            let at = (position.to_string(), label.clone());
            let Some(heard) = self.heard.get(&at) else { continue };
            let name = quoted(&l.name);
            match heard.verdict.as_str() {
                "matched" => {
                    let ops = ["add", "replace", "remove"].into_iter().zip(heard.tally);
                    let entries: Vec<String> = ops
                        .flat_map(|(op, n)| (0..n.min(MAX_ROWS)).map(move |_| format!("{{ op = {op:?} }}")))
                        .collect();
                    let _ = writeln!(text, "hears.{name} = [{}]", entries.join(", "));
                }
                "withheld" | "outside" | "unchanged" | "elsewhere" => {
                    why.extend(self.stopped.get(&at).map(|step| format!("{name} = {}", quoted(step))));
                    silent.push(name);
                }
                _ => {}
            }
        }
        if !silent.is_empty() {
            let _ = writeln!(text, "silent = [{}]", silent.join(", "));
        }
        if !why.is_empty() {
            let _ = writeln!(text, "why = {{ {} }}", why.join(", "));
        }
    }

    /// The tables, and the rows that were there before they changed.
    fn start(&self) -> String {
        let mut sql = String::new();
        for table in self.tables.values() {
            let columns = table.columns.0.iter().map(|c| format!("{} {}", name(&c.name), declared(&c.ty)));
            let mut parts: Vec<String> = columns.collect();
            if !table.key.is_empty() {
                let key: Vec<String> = table.key.split(", ").map(name).collect();
                parts.push(format!("PRIMARY KEY ({})", key.join(", ")));
            }
            let _ = writeln!(sql, "CREATE TABLE {} ({});", name(&table.name), parts.join(", "));
        }
        let mut known = BTreeSet::new();
        for change in self.transactions.iter().flat_map(|(_, changes)| changes) {
            let begins = known.insert((change.table.clone(), key_text(&change.key)));
            if let Some(old) = change.old.as_ref().filter(|_| begins) {
                let _ = writeln!(sql, "{}", insert(&change.table, old));
            }
        }
        sql
    }

    /// A row's change, as SQL.
    fn sql(&self, change: &ShownChange) -> String {
        let key = self.tables.get(&change.table).map_or("", |table| table.key.as_str());
        let picked = key.split(", ").zip(&change.key).map(|(column, v)| format!("{} = {}", name(column), literal(v)));
        let rows = picked.collect::<Vec<_>>().join(" AND ");
        let table = name(&change.table);
        match (&change.old, &change.new) {
            (None, Some(new)) => insert(&change.table, new),
            (Some(old), Some(new)) => {
                let differs = new.iter().filter(|(column, v)| old.get(*column) != Some(v));
                let set: Vec<String> =
                    differs.map(|(column, v)| format!("{} = {}", name(column), literal(v))).collect();
                format!("UPDATE {table} SET {} WHERE {rows};", set.join(", "))
            }
            (_, None) => format!("DELETE FROM {table} WHERE {rows};"),
        }
    }
}

/// A text as TOML writes it.
fn quoted(text: &str) -> String {
    toml_edit::Value::from(text).to_string().trim().to_string()
}

fn insert(table: &str, row: &Map<String, Json>) -> String {
    let columns: Vec<String> = row.keys().map(|column| name(column)).collect();
    let values: Vec<String> = row.values().map(literal).collect();
    format!("INSERT INTO {} ({}) VALUES ({});", name(table), columns.join(", "), values.join(", "))
}

/// A value, as SQLite writes it.
fn literal(value: &Json) -> String {
    match value {
        Json::Null => "NULL".into(),
        Json::Bool(truth) => i32::from(*truth).to_string(),
        Json::Number(number) => number.to_string(),
        Json::String(text) => format!("'{}'", text.replace('\'', "''").replace('\0', "")),
        other => format!("'{}'", other.to_string().replace('\'', "''")),
    }
}

/// A type of ours, as SQLite declares it so that it is read as one again.
fn declared(ty: &str) -> &'static str {
    match ty {
        "bool" => "BOOLEAN",
        "int2" | "int4" | "int8" => "INTEGER",
        "float4" | "float8" => "REAL",
        "numeric" => "NUMERIC",
        "timestamptz" => "TIMESTAMPTZ",
        "bytea" => "BLOB",
        "any" => "",
        _ => "TEXT",
    }
}

fn key_text(key: &[Json]) -> String {
    key.iter().map(|v| v.as_str().map_or(v.to_string(), String::from)).collect::<Vec<_>>().join(" ")
}
