//! Recordings: operator events as JSON Lines of CloudEvents 1.0 (structured mode).
//!
//! An event's `type` is `gossip.` and the system table's name (see [`TABLES`]), or `explanations`, which has
//! the steps by which a verdict came about,
//! its `source` is the instance, its `data` the table's row. Values of masked columns are replaced before they are
//! written, in keys as well.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{File, OpenOptions};
use std::io::{BufRead, BufReader, BufWriter, Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use gossip_protocol::timestamp::rfc3339;
use serde_json::{Map, Value as Json, json};

/// What replaces a masked value.
pub const MASK: &str = "•••";

/// The system tables that are recorded.
pub const TABLES: [&str; 10] =
    ["instances", "links", "alarms", "rules", "tables", "clients", "connections", "changes", "events", "verdicts"];

/// The events that have the steps of a verdict.
pub const EXPLANATIONS: &str = "explanations";

/// Maximum size of a recording, in bytes.
pub const LARGEST: u64 = 256 << 20;

/// Maximum length of a line, in bytes.
const LONGEST: u64 = 16 << 20;

/// A row of a system table.
#[derive(Clone, Debug, PartialEq)]
pub struct Event {
    /// The instance that reported it.
    pub instance: String,
    /// The table, without its schema.
    pub table: &'static str,
    /// When it arrived, in microseconds since 1970.
    pub at: i64,
    /// The row.
    pub row: Map<String, Json>,
}

/// Columns whose values are not recorded.
#[derive(Clone, Debug, Default)]
pub struct Masks {
    columns: BTreeSet<(String, String)>,
    /// Names of key columns, by table.
    keys: BTreeMap<String, Vec<String>>,
}

impl Masks {
    /// Parses names of the form `table.column`, separated by commas.
    ///
    /// # Errors
    /// A name has no table or no column.
    pub fn parse(text: &str) -> Result<Masks, String> {
        let mut masks = Masks::default();
        for one in text.split(',').map(str::trim).filter(|t| !t.is_empty()) {
            let (table, column) = one.rsplit_once('.').ok_or_else(|| format!("{one}: expected table.column"))?;
            masks.columns.insert((table.to_lowercase(), column.to_lowercase()));
        }
        Ok(masks)
    }

    fn hides(&self, table: &str, column: &str) -> bool {
        self.columns.contains(&(table.to_lowercase(), column.to_lowercase()))
    }

    /// Replaces the masked values in an event.
    pub fn apply(&mut self, event: &mut Event) {
        let text = |row: &Map<String, Json>, name: &str| row.get(name).and_then(Json::as_str).unwrap_or("").to_string();
        match event.table {
            "tables" => {
                let keys = text(&event.row, "key").split(", ").map(String::from).collect();
                self.keys.insert(text(&event.row, "name"), keys);
            }
            "changes" | "events" if !self.columns.is_empty() => {
                let rows = serde_json::from_str::<Vec<Json>>(&text(&event.row, "changes"));
                // Rows that cannot be parsed are not written: they may contain masked values.
                let mut rows = rows.unwrap_or_default();
                rows.iter_mut().for_each(|r| self.mask_row(r));
                event.row.insert("changes".into(), Json::from(rows).to_string().into());
            }
            // A query may contain a value of a masked column.
            "clients" if !self.columns.is_empty() => {
                let subscriptions = serde_json::from_str::<Vec<Json>>(&text(&event.row, "subscriptions"));
                let mut subscriptions = subscriptions.unwrap_or_default();
                for s in &mut subscriptions {
                    let query = s["query"].as_str().unwrap_or("").to_lowercase();
                    if self.columns.iter().any(|(_, column)| query.contains(column.as_str())) {
                        s["query"] = MASK.into();
                    }
                    // A claim may be a value of a masked column, or tell of one.
                    if let Some(claims) = s.as_object_mut() {
                        claims.remove("claims");
                    }
                }
                event.row.insert("subscriptions".into(), Json::from(subscriptions).to_string().into());
            }
            // Conditions and steps may contain values of masked columns, or tell of them.
            "rules" | "alarms" if !self.columns.is_empty() => {
                for name in ["rows", "masks", "text"] {
                    if self.speaks_of_masked(&event.row.get(name).map(Json::to_string).unwrap_or_default()) {
                        event.row.insert(name.into(), if name == "masks" { "{}" } else { MASK }.into());
                    }
                }
            }
            EXPLANATIONS if !self.columns.is_empty() => {
                for step in event.row.get_mut("steps").and_then(Json::as_array_mut).into_iter().flatten() {
                    // The other steps tell of keys and places, without the names of columns.
                    let names_columns = matches!(step["step"].as_str(), Some("rule" | "query"));
                    if !names_columns || self.speaks_of_masked(&step.to_string()) {
                        (step["text"], step["values"]) = (MASK.into(), json!([]));
                    }
                }
            }
            _ => {}
        }
    }

    fn speaks_of_masked(&self, text: &str) -> bool {
        let text = text.to_lowercase();
        self.columns.iter().any(|(_, column)| text.contains(column.as_str()))
    }

    fn mask_row(&self, row: &mut Json) {
        let table = row["table"].as_str().unwrap_or("").to_string();
        for side in ["old", "new"] {
            if let Some(columns) = row.get_mut(side).and_then(Json::as_object_mut) {
                for (name, value) in columns.iter_mut().filter(|(name, v)| self.hides(&table, name) && !v.is_null()) {
                    let _ = name;
                    *value = MASK.into();
                }
            }
        }
        let hidden_key = |i: usize| match self.keys.get(&table) {
            Some(names) => names.get(i).is_none_or(|name| self.hides(&table, name)),
            // The key columns are not known yet: any could be masked.
            None => self.columns.iter().any(|(t, _)| *t == table.to_lowercase()),
        };
        if let Some(key) = row.get_mut("key").and_then(Json::as_array_mut) {
            key.iter_mut().enumerate().filter(|(i, _)| hidden_key(*i)).for_each(|(_, v)| *v = MASK.into());
        }
    }
}

impl Event {
    /// The event as a line, without the line break. `id` is unique in the recording.
    pub fn to_line(&self, id: u64) -> String {
        json!({
            "specversion": "1.0",
            "id": id.to_string(),
            "source": format!("/gossip/{}", self.instance),
            "type": format!("gossip.{}", self.table),
            "time": rfc3339(self.at),
            "datacontenttype": "application/json",
            "data": self.row,
        })
        .to_string()
    }

    /// Reads a line. `None`: an event of another type, which is ignored as the standard requires.
    ///
    /// # Errors
    /// The line is not a CloudEvent in JSON.
    pub fn from_line(line: &str) -> Result<Option<Event>, String> {
        let json: Json = serde_json::from_str(line).map_err(|e| format!("not JSON: column {}", e.column()))?;
        if json["specversion"].as_str().is_none_or(|v| !v.starts_with("1.")) {
            return Err("not a CloudEvent: specversion 1.x is missing".into());
        }
        let kind = json["type"].as_str().ok_or("not a CloudEvent: type is missing")?;
        let known = TABLES.into_iter().chain([EXPLANATIONS]).find(|t| kind.strip_prefix("gossip.") == Some(t));
        let Some(table) = known else { return Ok(None) };
        let row = json["data"].as_object().cloned().ok_or("data: expected an object")?;
        let at =
            json["time"].as_str().and_then(|t| t.parse::<jiff::Timestamp>().ok()).ok_or("time: expected RFC 3339")?;
        let instance = json["source"].as_str().unwrap_or("").rsplit('/').next().unwrap_or("").to_string();
        Ok(Some(Event { instance, table, at: at.as_microsecond(), row }))
    }
}

/// Creates a file that does not exist yet, readable by its owner only: it will contain rows.
///
/// # Errors
/// The file exists already, or cannot be created.
pub fn create(path: &Path) -> Result<BufWriter<File>, String> {
    let file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(path);
    file.map(BufWriter::new).map_err(|e| format!("{}: {e}", path.display()))
}

/// Writes a recording to a file that does not exist yet.
///
/// # Errors
/// The file exists already, or cannot be written.
pub fn write(path: &Path, mut masks: Masks, events: Vec<Event>) -> Result<(), String> {
    let fail = |e: std::io::Error| format!("{}: {e}", path.display());
    let mut file = create(path)?;
    for (id, mut event) in (1..).zip(events) {
        masks.apply(&mut event);
        writeln!(file, "{}", event.to_line(id)).map_err(fail)?;
    }
    file.flush().map_err(fail)
}

/// Reads a recording. A truncated last line is ignored.
///
/// # Errors
/// The file cannot be read, or a line is not an event.
pub fn read(path: &Path) -> Result<Vec<Event>, String> {
    let shown = path.display();
    let file = std::fs::File::open(path).map_err(|e| format!("{shown}: {e}"))?;
    let length = file.metadata().map_err(|e| format!("{shown}: {e}"))?.len();
    if length > LARGEST {
        return Err(format!("{shown}: {length} bytes; a recording has at most {LARGEST}: cut it into pieces"));
    }
    let mut reader = BufReader::new(file);
    let (mut events, mut number) = (Vec::new(), 0);
    loop {
        let mut line = String::new();
        number += 1;
        let read = (&mut reader).take(LONGEST).read_line(&mut line).map_err(|e| format!("{shown}:{number}: {e}"))?;
        if read == 0 {
            return Ok(events);
        }
        match Event::from_line(line.trim_end()) {
            Ok(event) => events.extend(event),
            Err(_) if !line.ends_with('\n') => return Ok(events),
            Err(e) => return Err(format!("{shown}:{number}: {e}")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn event(table: &'static str, row: Json) -> Event {
        Event { instance: "north".into(), table, at: 1_700_000_000_123_456, row: row.as_object().cloned().unwrap() }
    }

    #[test]
    fn what_is_masked_is_in_no_line_and_the_rest_comes_back_as_it_was() {
        let mut masks = Masks::parse("crates.fruit, crates.number").unwrap();
        let changes = json!([{"table": "crates", "key": ["SECRET-1"], "old": {"number": "SECRET-1", "fruit": "SECRET", "kilos": 1},
            "new": {"number": "SECRET-1", "fruit": null, "kilos": 2}}]);
        let subscriptions =
            json!([{"id": 1, "query": "SELECT kilos FROM crates WHERE fruit = 'SECRET'", "observed": "a-1"}]);
        let all = [
            // Before its key is known, and after.
            event("changes", json!({"position": "h:1", "changes": changes.to_string()})),
            event("tables", json!({"name": "crates", "key": "number"})),
            event("changes", json!({"position": "h:2", "changes": changes.to_string()})),
            event("changes", json!({"position": "h:3", "changes": "[{\"SECRET\""})),
            event("clients", json!({"id": 1, "subscriptions": subscriptions.to_string()})),
            event("rules", json!({"number": 1, "rows": "fruit = 'SECRET'", "masks": "{\"fruit\":\"'SECRET'\"}"})),
            event("alarms", json!({"kind": "audit", "text": "fruit is SECRET"})),
            // A step on keys names no column.
            event(
                EXPLANATIONS,
                json!({"position": "h:1", "label": "a-1", "steps": [
                    {"step": "stream", "verdict": "yes", "text": "crates SECRET-1", "values": ["SECRET-1"]},
                    {"step": "rule", "verdict": "no", "text": "r on crates:  fruit = claim.fruit", "values": ["'SECRET' = 'x'"]},
                ]}),
            ),
        ];
        for mut e in all {
            masks.apply(&mut e);
            let line = e.to_line(1);
            assert!(!line.contains("SECRET"), "{line}");
            assert_eq!(Event::from_line(&line).unwrap(), Some(e));
        }
        let mut e = event("changes", json!({"changes": changes.to_string()}));
        masks.apply(&mut e);
        assert!(e.to_line(1).contains("\\\"kilos\\\":2"), "what is not masked stays");
        assert!(Masks::parse("fruit").unwrap_err().contains("expected table.column"));
    }

    #[test]
    fn a_recording_that_is_not_one_is_refused_with_its_line() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("r.jsonl");
        let good = event("verdicts", json!({"position": "h:1"}));
        let write = |text: String| std::fs::write(&path, text).unwrap();
        write(format!(
            "{}\n{{\"specversion\":\"1.0\",\"type\":\"other\"}}\n{}",
            good.to_line(1),
            "{\"specversion\":\"1"
        ));
        assert_eq!(read(&path).unwrap(), std::slice::from_ref(&good), "another kind, and a line that was cut off");
        for (text, problem) in [
            ("nonsense\n", ":2: not JSON"),
            ("{}\n", ":2: not a CloudEvent"),
            ("{\"specversion\":\"1.0\",\"type\":\"gossip.changes\",\"data\":[]}\n", ":2: data: expected an object"),
        ] {
            write(format!("{}\n{text}", good.to_line(1)));
            assert!(read(&path).unwrap_err().contains(problem), "{text}");
        }
    }
}
