//! Files: what was made in the workbench is saved to `gossip.toml`, whose comments and other contents stay unchanged;
//! pages are written to files of their own.

use std::path::Path;

use crate::personas::{Persona, Watcher};
use crate::workbench::page::{Page, Report};
use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;
use gossip_server::config::Config;
use parking_lot::Mutex;
use serde_json::Value as Json;
use toml_edit::{Array, ArrayOfTables, DocumentMut, Item, Table};

/// Each change reads and rewrites the file: of two at once, one would be lost.
static WRITING: Mutex<()> = Mutex::new(());

/// Changes the file atomically: a crash leaves the old or the new one.
///
/// # Errors
/// The file cannot be read or written, is not TOML, or `with` refuses.
pub fn change(path: &Path, with: impl FnOnce(&mut DocumentMut) -> Result<(), String>) -> Result<(), String> {
    let _alone = WRITING.lock();
    let text = std::fs::read_to_string(path).map_err(|e| e.to_string())?;
    let mut doc: DocumentMut = text.parse().map_err(|e: toml_edit::TomlError| e.to_string())?;
    with(&mut doc)?;
    let beside = path.with_extension("toml.new");
    std::fs::write(&beside, doc.to_string()).and_then(|()| std::fs::rename(&beside, path)).map_err(|e| e.to_string())
}

/// A table whose own header is not written, only those below it.
fn implicit() -> Item {
    let mut t = Table::new();
    t.set_implicit(true);
    Item::Table(t)
}

/// Saves a persona.
///
/// # Errors
/// As [`change`].
pub fn save_persona(path: &Path, name: &str, persona: &Persona) -> Result<(), String> {
    change(path, |doc| {
        let mut table = Table::new();
        table["roles"] = toml_edit::value(persona.roles.iter().collect::<Array>());
        if !persona.claims.is_empty() {
            let mut claims = toml_edit::InlineTable::new();
            for (k, v) in &persona.claims {
                claims.insert(k, to_toml(v).ok_or_else(|| format!("claim {k} cannot be written as TOML"))?);
            }
            table["claims"] = toml_edit::value(claims);
        }
        doc.entry("persona").or_insert_with(implicit)[name] = Item::Table(table);
        Ok(())
    })
}

/// Saves a query under a name.
///
/// # Errors
/// As [`change`].
pub fn save_query(path: &Path, name: &str, sql: &str) -> Result<(), String> {
    change(path, |doc| {
        let mut table = Table::new();
        table["sql"] = toml_edit::value(sql);
        doc.entry("query").or_insert_with(implicit)[name] = Item::Table(table);
        Ok(())
    })
}

/// Sets the broker, and what all names on it begin with.
///
/// # Errors
/// As [`change`].
pub fn save_relay(path: &Path, url: &str, prefix: &str) -> Result<(), String> {
    change(path, |doc| {
        let relay = doc.entry("relay").or_insert_with(toml_edit::table);
        let relay = relay.as_table_like_mut().ok_or("relay: expected a table")?;
        relay.insert("url", toml_edit::value(url));
        relay.insert("prefix", toml_edit::value(prefix));
        Ok(())
    })
}

/// Adds a rule after the existing ones.
///
/// # Errors
/// As [`change`].
pub fn save_rule(path: &Path, rule: &RuleText) -> Result<(), String> {
    change(path, |doc| {
        let mut table = Table::new();
        table["role"] = toml_edit::value(&rule.role);
        table["table"] = toml_edit::value(rule.table.to_string());
        table["may"] = toml_edit::value(Array::from_iter(["read"]));
        if let Some(rows) = &rule.rows {
            table["rows"] = toml_edit::value(rows);
        }
        if let Some(columns) = &rule.columns {
            table["columns"] = toml_edit::value(columns.iter().collect::<Array>());
        }
        tables_of(doc, "rule")?.push(table);
        Ok(())
    })
}

/// Replaces the rules of one role on one table by those in `text`. Comments stay; values that
/// are equal keep their notation.
///
/// # Errors
/// As [`change`]; also if the rules in the file are not `before`.
pub fn save_rules(path: &Path, role: &str, table: &TableName, before: &[RuleText], text: &str) -> Result<(), String> {
    let new: DocumentMut = text.parse().map_err(|e: toml_edit::TomlError| e.to_string())?;
    let config = Config::read(path).map_err(|e| e.to_string())?;
    let bare = |r: &RuleText| RuleText { line: 0, ..r.clone() };
    let own = config.rules.iter().filter(|r| r.role == role && r.table == *table);
    if !own.map(bare).eq(before.iter().map(bare)) {
        return Err(format!("{} has other rules there than those in force: load it first", path.display()));
    }
    let lines: Vec<usize> =
        config.rules.iter().enumerate().filter(|(_, r)| r.role == role && r.table == *table).map(|(i, _)| i).collect();
    change(path, |doc| {
        let list = tables_of(doc, "rule")?;
        let mut new = new.get("rule").and_then(Item::as_array_of_tables).into_iter().flatten();
        for i in &lines {
            let (Some(old), Some(new)) = (list.get_mut(*i), new.next()) else { break };
            old.retain(|key, _| new.contains_key(key));
            for (key, item) in new {
                let same = |o: &Item| o.as_value().map(plain) == item.as_value().map(plain);
                if old.get(key).is_some_and(same) {
                    continue;
                }
                // Keep a comment after the value.
                let behind = old.get(key).and_then(Item::as_value).and_then(|v| v.decor().suffix().cloned());
                let mut item = item.clone();
                if let (Some(value), Some(behind)) = (item.as_value_mut(), behind) {
                    value.decor_mut().set_suffix(behind);
                }
                old.insert(key, item);
            }
        }
        let kept = lines.len().min(text.parse::<DocumentMut>().map_or(0, |d| rules_in(&d)));
        lines[kept..].iter().rev().for_each(|i| drop(list.remove(*i)));
        for table in new {
            let mut table = table.clone();
            // Without a position it comes last.
            table.set_position(None);
            list.push(table);
        }
        Ok(())
    })
}

fn rules_in(doc: &DocumentMut) -> usize {
    doc.get("rule").and_then(Item::as_array_of_tables).map_or(0, ArrayOfTables::len)
}

/// A value without its notation.
fn plain(value: &toml_edit::Value) -> String {
    match value {
        toml_edit::Value::String(s) => format!("{:?}", s.value()),
        toml_edit::Value::Array(a) => a.iter().map(plain).collect::<Vec<_>>().join(","),
        toml_edit::Value::InlineTable(t) => {
            t.iter().map(|(k, v)| format!("{k}={}", plain(v))).collect::<Vec<_>>().join(",")
        }
        value => value.clone().decorated("", "").to_string(),
    }
}

/// Writes rules to a separate file, to be copied to where the configuration is.
///
/// # Errors
/// The file cannot be written.
pub fn rules_to_share(role: &str, table: &TableName, text: &str) -> Result<String, String> {
    let fits = |c: char| if c.is_ascii_alphanumeric() { c } else { '-' };
    let name: String = format!("gossip-rules-{role}-{table}").chars().map(fits).collect();
    let path = free_name(&name, |name| !Path::new(&format!("{name}.toml")).exists())? + ".toml";
    let text = format!("# In the place of all rules of {role} on {table}.\n\n{text}");
    std::fs::write(&path, text).map_err(|e| format!("{path}: {e}"))?;
    Ok(format!("written to {path}, to be put in the place of these rules in the instances' configuration"))
}

/// Saves the watchers: adds new ones, removes those that are gone.
///
/// # Errors
/// As [`change`].
pub fn save_watchers(path: &Path, watchers: &[Watcher]) -> Result<(), String> {
    change(path, |doc| {
        let list = tables_of(doc, "watcher")?;
        let is = |t: &Table, w: &Watcher| {
            let text = |name: &str| t.get(name).and_then(Item::as_str);
            text("persona") == Some(&w.persona) && text("query") == Some(&w.query)
        };
        list.retain(|t| watchers.iter().any(|w| is(t, w)));
        for w in watchers {
            if !list.iter().any(|t| is(t, w)) {
                let mut table = Table::new();
                table["persona"] = toml_edit::value(&w.persona);
                table["query"] = toml_edit::value(&w.query);
                if let Some(instance) = &w.instance {
                    table["instance"] = toml_edit::value(instance);
                }
                list.push(table);
            }
        }
        Ok(())
    })
}

/// Writes a page as SVG, PDF and text under a free name, and returns it without extension.
///
/// # Errors
/// A file cannot be written.
pub fn write_page(folder: &Path, page: &Page) -> Result<String, String> {
    let free = |name: &str| ["svg", "pdf", "txt"].iter().all(|e| !folder.join(format!("{name}.{e}")).exists());
    let name = free_name(&page.name, free)?;
    let files = [
        ("svg", page.drawing.to_svg().into_bytes()),
        ("pdf", page.drawing.to_pdf()),
        ("txt", page.text.clone().into()),
    ];
    for (ending, bytes) in files {
        let path = folder.join(format!("{name}.{ending}"));
        std::fs::write(&path, bytes).map_err(|e| format!("{}: {e}", path.display()))?;
    }
    Ok(name)
}

/// Writes a report as one PDF and as text under a free name, and returns it without extension.
///
/// # Errors
/// A file cannot be written.
pub fn write_report(folder: &Path, report: &Report) -> Result<String, String> {
    let free = |name: &str| ["pdf", "txt"].iter().all(|e| !folder.join(format!("{name}.{e}")).exists());
    let name = free_name(&report.name, free)?;
    let files = [("pdf", gossip_draw::document(&report.title, &report.pages)), ("txt", report.text.clone().into())];
    for (ending, bytes) in files {
        let path = folder.join(format!("{name}.{ending}"));
        std::fs::write(&path, bytes).map_err(|e| format!("{}: {e}", path.display()))?;
    }
    Ok(name)
}

/// A free name, with a number appended if needed.
fn free_name(name: &str, is_free: impl Fn(&str) -> bool) -> Result<String, String> {
    let numbered = (1..1_000).map(|n| if n == 1 { name.to_string() } else { format!("{name}-{n}") });
    { numbered }.find(|name| is_free(name)).ok_or_else(|| format!("{name} is there a thousand times"))
}

fn tables_of<'a>(doc: &'a mut DocumentMut, name: &str) -> Result<&'a mut ArrayOfTables, String> {
    let item = doc.entry(name).or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new()));
    item.as_array_of_tables_mut().ok_or_else(|| format!("{name} is not a list of tables"))
}

/// Adds a table to those that stream, or removes it.
///
/// # Errors
/// As [`change`].
pub fn save_stream(path: &Path, source: &str, table: &str, on: bool) -> Result<(), String> {
    change(path, |doc| {
        let section = doc.get_mut("source").and_then(|s| s.get_mut(source));
        let section = section.ok_or_else(|| format!("there is no [source.{source}]"))?;
        let tables = section.as_table_like_mut().ok_or("the source is not a table")?;
        let list = tables.entry("tables").or_insert_with(|| toml_edit::value(Array::new()));
        let list = list.as_array_mut().ok_or("tables is not a list")?;
        let is_it = |v: &toml_edit::Value| v.as_str().is_some_and(|t| t.eq_ignore_ascii_case(table));
        list.retain(|v| !is_it(v));
        if on {
            list.push(table);
        }
        Ok(())
    })
}

fn to_toml(v: &Json) -> Option<toml_edit::Value> {
    Some(match v {
        Json::Null => return None,
        Json::Bool(b) => (*b).into(),
        Json::Number(n) => n.as_i64().map(Into::into).or_else(|| n.as_f64().map(Into::into))?,
        Json::String(s) => s.as_str().into(),
        Json::Array(a) => a.iter().map(to_toml).collect::<Option<Array>>()?.into(),
        Json::Object(o) => {
            let mut t = toml_edit::InlineTable::new();
            for (k, v) in o {
                t.insert(k, to_toml(v)?);
            }
            t.into()
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_rest_of_the_file_stays_as_it_is() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("gossip.toml");
        let text = "# mine\n[source.s]\nurl = \"sqlite:a.db\"   # here\ntables = [\"a\", \"b\"]\n\n# the end\n";
        std::fs::write(&path, text).unwrap();
        save_stream(&path, "s", "B", false).unwrap();
        save_stream(&path, "s", "c", true).unwrap();
        let watcher = |query: &str| Watcher { persona: "Ada".into(), query: query.into(), instance: None };
        save_watchers(&path, &[watcher("SELECT a FROM a"), watcher("SELECT c FROM c")]).unwrap();
        save_watchers(&path, &[watcher("SELECT c FROM c")]).unwrap();
        let rule = |role: &str| RuleText {
            role: role.into(),
            table: gossip_core::schema::TableName::plain("c"),
            rows: Some("x = claim.x".into()),
            columns: Some(vec!["x".into()]),
            ..RuleText::default()
        };
        save_rule(&path, &rule("r")).unwrap();
        save_rule(&path, &rule("q")).unwrap();
        save_query(&path, "q", "SELECT a\nFROM a").unwrap();
        save_persona(&path, "Ada", &Persona { roles: vec!["r".into()], claims: Default::default() }).unwrap();
        let after = std::fs::read_to_string(&path).unwrap();
        let kept = text.replace("[\"a\", \"b\"]", "[\"a\", \"c\"]");
        assert!(after.starts_with(kept.trim_end_matches("# the end\n")), "{after}");
        let config = gossip_server::config::Config::read(&path).unwrap();
        assert_eq!(config.queries["q"].sql, "SELECT a\nFROM a");
        let people = crate::personas::Personas::read(&path).unwrap();
        assert_eq!(people.personas["Ada"].roles, ["r"]);
        assert_eq!(people.watchers, [watcher("SELECT c FROM c")]);
        assert_eq!(config.rules.iter().map(|r| r.role.as_str()).collect::<Vec<_>>(), ["r", "q"]);
        assert_eq!((&config.rules[0].rows, &config.rules[0].columns), (&rule("r").rows, &rule("r").columns));
    }
}
