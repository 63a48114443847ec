//! What a configuration can say about a PostgreSQL source beside its URL and its tables.

use std::collections::BTreeMap;

use serde_json::Value as Json;

use crate::settings::BadOption;

const NAMES: [&str; 7] =
    ["replication_url", "schema", "publication", "slot", "old_values", "max_wal_mb", "renew_lost_slot"];

/// The options of a PostgreSQL source. What is absent has its usual value.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Options {
    /// Where changes are streamed from, if not from where queries go: a pooler does not pass replication on.
    pub replication_url: Option<String>,
    /// The schema of tables that are named without one.
    pub schema: Option<String>,
    /// The publication.
    pub publication: Option<String>,
    /// The replication slot.
    pub slot: Option<String>,
    /// Tables of which `prepare` makes the old values available.
    pub old_values: Vec<String>,
    /// MiB of log that the slot may retain before the backlog is dropped.
    pub max_wal_mb: Option<u64>,
    /// Whether a lost slot is replaced automatically.
    pub renew_lost_slot: bool,
}

impl Options {
    /// Reads the options of a source on these tables.
    ///
    /// # Errors
    /// One of them is not known, or not of its type.
    pub(super) fn read(options: &BTreeMap<String, Json>, tables: &[String]) -> Result<Options, BadOption> {
        let mut read = Options::default();
        for (name, value) in options {
            let expected = |what: &str| BadOption::new(name, format!("expected {what}"));
            let text = || value.as_str().map(String::from).ok_or_else(|| expected("a text"));
            match name.as_str() {
                "replication_url" => read.replication_url = Some(text()?),
                "schema" => read.schema = Some(text()?),
                "publication" => read.publication = Some(text()?),
                "slot" => {
                    let slot = text()?;
                    let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
                    if slot.is_empty() || slot.len() > 63 || !slot.chars().all(fits) {
                        let problem = format!("{slot:?} is not a slot's name; use lower-case letters, digits and _");
                        return Err(BadOption::new(name, problem));
                    }
                    read.slot = Some(slot);
                }
                "old_values" => {
                    let names = value.as_array().ok_or_else(|| expected("a list of tables"))?;
                    for table in names {
                        let table = table.as_str().ok_or_else(|| expected("a list of tables"))?;
                        if !tables.iter().any(|t| t == table) {
                            return Err(BadOption::new(name, format!("{table} is not among tables")));
                        }
                        read.old_values.push(table.into());
                    }
                }
                "max_wal_mb" => read.max_wal_mb = Some(value.as_u64().ok_or_else(|| expected("a number of MiB"))?),
                "renew_lost_slot" => {
                    read.renew_lost_slot = value.as_bool().ok_or_else(|| expected("true or false"))?;
                }
                _ => return Err(BadOption::unknown(name, &NAMES)),
            }
        }
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn read(json: Json) -> Result<Options, String> {
        let options = json.as_object().into_iter().flatten().map(|(k, v)| (k.clone(), v.clone())).collect();
        Options::read(&options, &["calls".into()]).map_err(|e| format!("{}: {}", e.name, e.problem))
    }

    #[test]
    fn every_option_is_read_and_nothing_else() {
        let all = read(json!({"replication_url": "postgres://h/d", "schema": "s", "publication": "p", "slot": "x_1",
            "old_values": ["calls"], "max_wal_mb": 5, "renew_lost_slot": true}))
        .unwrap();
        let text = |s: &str| Some(s.to_string());
        let expected = Options {
            replication_url: text("postgres://h/d"),
            schema: text("s"),
            publication: text("p"),
            slot: text("x_1"),
            old_values: vec!["calls".into()],
            max_wal_mb: Some(5),
            renew_lost_slot: true,
        };
        assert_eq!(all, expected);
        for (wrong, says) in [
            (json!({"slott": "x"}), "slott: is not known; did you mean slot?"),
            (json!({"zone": 1}), "zone: is not known; this kind of source has url, tables, replication_url, "),
            (json!({"slot": "A b"}), "slot: \"A b\" is not a slot's name"),
            (json!({"slot": 3}), "slot: expected a text"),
            (json!({"old_values": "calls"}), "old_values: expected a list of tables"),
            (json!({"old_values": ["other"]}), "old_values: other is not among tables"),
            (json!({"max_wal_mb": -1}), "max_wal_mb: expected a number of MiB"),
            (json!({"renew_lost_slot": "yes"}), "renew_lost_slot: expected true or false"),
        ] {
            let e = read(wrong).unwrap_err();
            assert!(e.starts_with(says), "{e}");
        }
    }
}
