//! The dialog that creates a `gossip.toml`: choose the database, choose the tables, review the plan.
//!
//! [`Setup`] is its state and handles keys; [`run`] draws it and does the I/O. When it is finished, the
//! file is written, the database prepared, and `gossip open` continues as usual.

mod state;
mod view;

pub use state::{Choice, Do, Setup, Stage};

use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crossterm::event::{Event, KeyEventKind};
use gossip_source::database::{Inspected, JOURNAL_MODE};
use gossip_source::sqlite::SqliteSource;
use gossip_source::sqlite::schema::{Lookup, count_rows, describe, table_names};
use gossip_source::{Settings, Source};

use crate::local::has_password;
use crate::workbench::theme::Theme;

/// Maximum number of files offered.
const MOST: usize = 20;

/// The SQLite databases of a folder, by their first bytes.
fn databases(folder: &Path) -> Vec<String> {
    let is_one = |path: &Path| {
        let mut head = [0; 16];
        let read = std::fs::File::open(path).and_then(|mut f| f.read_exact(&mut head));
        read.is_ok() && head == *b"SQLite format 3\0"
    };
    let all = std::fs::read_dir(folder).into_iter().flatten().flatten().map(|e| e.path());
    let mut found: Vec<String> =
        all.filter(|p| p.is_file() && is_one(p)).filter_map(|p| Some(p.file_name()?.to_str()?.to_string())).collect();
    found.sort();
    found.truncate(MOST);
    found
}

/// Whether it is the address of a server, and not a file.
fn is_server(place: &str) -> bool {
    place.contains("://")
}

/// A source in the place that was chosen: a file of this folder, or a server's address.
fn source(folder: &Path, place: &str, tables: Vec<String>) -> Result<Arc<dyn Source>, String> {
    if has_password(place) {
        return Err("leave the password out of the address: it is read from PGPASSWORD or ~/.pgpass, and would stand in gossip.toml".into());
    }
    let url = if is_server(place) { place.to_string() } else { format!("sqlite:{place}") };
    let options = match is_server(place) && !tables.is_empty() {
        true => [("old_values".to_string(), tables.clone().into())].into(),
        false => Default::default(),
    };
    let settings = Settings { name: name_of(place), url, tables, options };
    gossip_source::from_settings(&settings, folder).map_err(|e| e.to_string())
}

/// A name for the source: the file's or the database's, in letters that need no quotes.
fn name_of(place: &str) -> String {
    let path = if is_server(place) { place.split('?').next().unwrap_or("") } else { place };
    let last = Path::new(path).file_stem().and_then(|s| s.to_str()).unwrap_or("");
    let name: String = last.chars().filter(|c| c.is_ascii_alphanumeric() || *c == '_' || *c == '-').collect();
    if name.is_empty() || name == "gossip" { "main".into() } else { name }
}

fn find_tables(folder: &Path, place: &str) -> Result<Vec<Choice>, String> {
    let choices = match is_server(place) {
        true => tables_of_server(&*source(folder, place, vec![])?)?,
        false => tables_of_file(folder, place)?,
    };
    if choices.is_empty() {
        return Err(format!("{place} has no tables yet; create one and come again"));
    }
    Ok(choices)
}

fn tables_of_server(source: &dyn Source) -> Result<Vec<Choice>, String> {
    let choice = |t: Inspected| {
        let keys: Vec<&str> = t.columns.iter().filter(|c| c.key).map(|c| c.name.as_str()).collect();
        let key = match keys.is_empty() {
            _ if t.unfit.is_some() => Err(t.unfit.map(|u| (u.why, u.fix)).unwrap_or_default()),
            false => Ok(keys.join(", ")),
            true => Err((
                "it has no primary key, by which its rows could be told apart".to_string(),
                Some(format!("ALTER TABLE {} ADD PRIMARY KEY (…)", t.name)),
            )),
        };
        Choice { size: (t.columns.len(), t.rows), chosen: key.is_ok(), key, name: t.name }
    };
    Ok(source.database().inspect()?.into_iter().map(choice).collect())
}

fn tables_of_file(folder: &Path, file: &str) -> Result<Vec<Choice>, String> {
    let source = SqliteSource::new(&name_of(file), &format!("sqlite:{file}"), vec![], folder);
    let source = source.map_err(|e| e.to_string())?;
    let mut db = source.connect_to_write().map_err(|e| e.to_string())?;
    let mut choices = Vec::new();
    for name in table_names(&db).map_err(|e| e.to_string())? {
        let rows = count_rows(&mut db, &name);
        let (columns, key) = match describe(&db, &name).map_err(|e| e.to_string())? {
            Lookup::Table(t) => (t.columns.len(), Ok(t.key_names().collect::<Vec<_>>().join(", "))),
            Lookup::Unfit(why, fix) => (0, Err((why, fix))),
            Lookup::Nothing(_) => continue,
        };
        choices.push(Choice { name, size: (columns, rows), chosen: key.is_ok(), key });
    }
    Ok(choices)
}

/// Whether it is a file in which readers and writers make each other wait.
fn lacks_wal(source: &dyn Source) -> bool {
    let standing = source.database().standing().unwrap_or_default();
    standing.iter().any(|one| one.what == JOURNAL_MODE && one.wrong)
}

/// The text of a new configuration.
fn config_text(place: &str, tables: &[String]) -> String {
    let quoted = |s: &str| toml_edit::Value::from(s).to_string();
    let tables = tables.iter().map(|t| quoted(t)).collect::<Vec<_>>().join(", ");
    let (about, url, options) = match is_server(place) {
        true => (
            "The password comes from PGPASSWORD or ~/.pgpass.",
            place.to_string(),
            format!(
                "# Rows as they were before a change (REPLICA IDENTITY FULL), for rules that choose rows.\nold_values = [{tables}]\n"
            ),
        ),
        false => ("The path is relative to this file.", format!("sqlite:{place}"), String::new()),
    };
    format!(
        "# Gossip's configuration, begun by `gossip open`. It is yours: whatever the workbench adds later leaves the rest\n\
         # of it as it is. `gossip check` holds it against the database.\n\
         \n\
         [instance]\n\
         name = \"one\"\n\
         listen = \"127.0.0.1:4750\"\n\
         \n\
         # Where row changes are read. {about}\n\
         [source.{name}]\n\
         url = {url}\n\
         tables = [{tables}]\n\
         {options}\
         \n\
         # Clients with tokens of your own: [auth] with secret_env, audience, roles, operators. Until then only clients\n\
         # without a token and the workbench's personas can connect.\n\
         \n\
         # Nothing is readable without a rule. A [[rule]] lets a role read a table: all its rows, or those that fulfil\n\
         # `rows`; all its columns, or those in `columns`.\n",
        name = name_of(place),
        url = quoted(&url),
    )
}

/// Guides the user through creating a `gossip.toml` at `path`. False if the user left.
///
/// # Errors
/// The terminal fails, or the file cannot be written.
pub fn run(path: &Path) -> Result<bool, String> {
    let folder = path.parent().unwrap_or(Path::new(""));
    let here = if folder.as_os_str().is_empty() { PathBuf::from(".") } else { folder.to_path_buf() };
    let mut setup = Setup::new(databases(&here), Theme::from_env());
    let mut terminal = ratatui::try_init().map_err(|e| format!("terminal: {e}; the workbench needs one"))?;
    let outcome = lead(&mut terminal, &mut setup, path, &here);
    let _ = ratatui::try_restore();
    outcome
}

fn lead(
    terminal: &mut ratatui::DefaultTerminal,
    setup: &mut Setup,
    path: &Path,
    folder: &Path,
) -> Result<bool, String> {
    let mut tables = Vec::new();
    loop {
        terminal.draw(|frame| view::draw(setup, frame)).map_err(|e| e.to_string())?;
        let key = match crossterm::event::read().map_err(|e| e.to_string())? {
            Event::Key(key) if key.kind != KeyEventKind::Release => key,
            _ => continue,
        };
        let done = match setup.key(key) {
            None => Ok(()),
            Some(Do::Leave) => return Ok(false),
            Some(Do::Look(place)) => find_tables(folder, &place).map(|all| setup.stage = Stage::Tables(all, 0)),
            Some(Do::Plan(chosen)) => {
                let plan =
                    source(folder, &setup.place, chosen.clone()).and_then(|s| s.plan().map_err(|e| e.to_string()));
                tables = chosen;
                let wal = source(folder, &setup.place, vec![]).map(|s| lacks_wal(&*s)).unwrap_or_default();
                plan.map(|plan| setup.stage = Stage::Plan(plan, wal.then_some(false)))
            }
            Some(Do::Write) => {
                let Stage::Plan(plan, wal) = &setup.stage else { continue };
                let prepared = source(folder, &setup.place, tables.clone()).and_then(|s| {
                    if *wal == Some(true) {
                        s.carry_out(&["PRAGMA journal_mode = WAL".into()]).map_err(|e| e.to_string())?;
                    }
                    s.carry_out(&plan.statements).map_err(|e| e.to_string())
                });
                // Never overwrite a file that was created meanwhile.
                let write = |()| {
                    let mut file = std::fs::OpenOptions::new().write(true).create_new(true).open(path);
                    let text = config_text(&setup.place, &tables);
                    file.as_mut().map(|f| std::io::Write::write_all(f, text.as_bytes())).map_err(|e| e.to_string())
                };
                match prepared.and_then(write) {
                    Ok(Ok(())) => return Ok(true),
                    Ok(Err(e)) => Err(format!("{}: {e}", path.display())),
                    Err(e) => Err(e),
                }
            }
        };
        setup.problem = done.err().or(setup.problem.take());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use gossip_server::config::Config;

    #[test]
    fn the_first_file_can_be_read_whatever_things_are_called() {
        let tables = ["a \"b\"".to_string(), "größe".to_string()];
        let text = config_text("my \"old\" db.sqlite", &tables);
        let config = Config::parse(Path::new("gossip.toml"), &text).unwrap();
        assert_eq!(config.source.url, "sqlite:my \"old\" db.sqlite");
        assert_eq!((config.source.name.as_str(), config.source.tables), ("myolddb", tables.to_vec()));
        assert_eq!(name_of("gossip.db"), "main");
        let text = config_text("postgres://ada@[::1]:5433/my-shop?sslmode=require", &tables);
        let config = Config::parse(Path::new("gossip.toml"), &text).unwrap();
        assert_eq!((config.source.name.as_str(), config.source.tables), ("my-shop", tables.to_vec()));
        assert_eq!(config.source.options["old_values"], serde_json::json!(tables));
        let refused = source(Path::new("."), "postgres://ada:geheim@h/shop", vec![]).map(drop).unwrap_err();
        assert!(refused.contains("PGPASSWORD") && !refused.contains("geheim"), "{refused}");
    }
}
