//! Ask: one live query, run as several personas side by side.

use std::collections::{BTreeSet, HashMap};

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use serde_json::{Map, Value as Json};

use crate::workbench::ids::{Micros, Timestamp};
use crate::workbench::marks::Mark;
use crate::workbench::message::{Effect, QueryUpdate};
use crate::workbench::state::{Overlay, State};
use crate::workbench::views::ask::state::{BEGINNING, MOST, Pane, SHOWN, ShownRow, editor};
use crate::workbench::watchers::choosable;
use crate::workbench::words::plain;

/// How long a row's mark is shown, in microseconds.
const MARKED: Micros = 1_600_000;

/// Most queries in the history.
const REMEMBERED: usize = 100;

/// Time between two requests for a query's cost, in microseconds.
const LOOK_AGAIN: Micros = 2_000_000;

/// Maximum length of a query, in bytes.
const LONGEST: usize = 20_000;

/// A key while the query is edited.
pub fn edit(s: &mut State, key: KeyEvent) -> Vec<Effect> {
    let plain_key = !key.modifiers.intersects(KeyModifiers::CONTROL | KeyModifiers::ALT);
    match key.code {
        KeyCode::Esc => {
            if s.ask.offered.is_empty() {
                s.ask.editing = false;
            }
            s.ask.offered.clear();
            return vec![];
        }
        KeyCode::Enter if plain_key => {
            // What follows is for the result; an error leads back here.
            s.ask.editing = s.ask.text().trim().is_empty();
            return run(s);
        }
        KeyCode::Enter => s.ask.editor.insert_newline(),
        KeyCode::Tab if s.ask.text().is_empty() => {
            s.ask.editor = editor(BEGINNING);
            s.ask.offered = offers(s);
            s.ask.picked = 0;
            return vec![];
        }
        KeyCode::Tab => {
            take_offered(s);
            return vec![];
        }
        KeyCode::Down | KeyCode::Up if !s.ask.offered.is_empty() => {
            let n = s.ask.offered.len();
            let by = if key.code == KeyCode::Down { 1 } else { n - 1 };
            s.ask.picked = (s.ask.picked + by) % n;
            return vec![];
        }
        KeyCode::Up if s.ask.editor.cursor().0 == 0 => look_back(s, true),
        KeyCode::Down if s.ask.editor.cursor().0 + 1 == s.ask.editor.lines().len() => look_back(s, false),
        KeyCode::Char(_) if s.ask.text().len() >= LONGEST => {}
        KeyCode::Char('u') if key.modifiers.contains(KeyModifiers::CONTROL) => s.ask.editor = editor(""),
        _ => drop(s.ask.editor.input(key)),
    }
    let typed = matches!(key.code, KeyCode::Char(_) | KeyCode::Backspace);
    s.ask.offered = if typed { offers(s) } else { vec![] };
    s.ask.picked = 0;
    vec![]
}

fn look_back(s: &mut State, older: bool) {
    let n = s.ask.history.len();
    let at = match (s.ask.looking_back, older) {
        (None, true) => n.checked_sub(1),
        (Some(i), true) => Some(i.saturating_sub(1)),
        (Some(i), false) if i + 1 < n => Some(i + 1),
        (_, false) => None,
    };
    if let Some(text) = at.and_then(|i| s.ask.history.get(i)) {
        s.ask.editor = editor(text);
        s.ask.looking_back = at;
    }
}

/// The word before the cursor.
fn word(s: &State) -> String {
    let (row, column) = (s.ask.editor.cursor().0, s.ask.editor.cursor().1);
    let line: String = s.ask.editor.lines().get(row).map(|l| l.chars().take(column).collect()).unwrap_or_default();
    let start = line.char_indices().rev().take_while(|(_, c)| c.is_alphanumeric() || matches!(c, '_' | ':' | '.'));
    let start = start.last().map_or(line.len(), |(i, _)| i);
    line[start..].to_string()
}

const KEYWORDS: [&str; 45] = [
    "SELECT", "FROM", "WHERE", "AND", "OR", "NOT", "IN", "BETWEEN", "LIKE", "IS", "NULL", "TRUE", "FALSE", "ILIKE",
    "CASE", "WHEN", "THEN", "ELSE", "END", "CAST", "AS", "DISTINCT", "UNKNOWN", "GROUP", "BY", "HAVING", "ORDER",
    "ASC", "DESC", "NULLS", "FIRST", "LAST", "LIMIT", "OFFSET", "ON", "FILTER", "COUNT", "SUM", "AVG", "MIN", "MAX",
    "COALESCE", "NOW", "INTERVAL", "EXTRACT",
];

/// Whether a word is a keyword.
pub fn is_keyword(word: &str) -> bool {
    KEYWORDS.iter().any(|k| k.eq_ignore_ascii_case(word))
}

/// Completions at the cursor: tables, columns of the tables in the query, parameters that the personas' claims
/// can fill, keywords.
fn offers(s: &State) -> Vec<String> {
    let begun = word(s);
    let lower = begun.to_lowercase();
    let text = s.ask.text().to_lowercase();
    let named =
        |t: &str| text.split(|c: char| !c.is_alphanumeric() && c != '_' && c != '.').any(|w| w == t.to_lowercase());
    let after_from = {
        let up_to: String = text_before(s).to_lowercase();
        let mut words = up_to.split_whitespace().rev();
        let last = words.next().unwrap_or("");
        last == "from" || (!begun.is_empty() && words.next() == Some("from"))
    };
    let mut all: Vec<String> = Vec::new();
    if begun.starts_with(':') {
        let claims = s.ask.who.iter().filter_map(|p| s.personas.get(p)).flat_map(|p| p.claims.keys());
        all.extend(claims.map(|c| format!(":{c}")).collect::<BTreeSet<_>>());
    } else if after_from {
        all.extend(s.tables.known.keys().cloned());
    } else if !begun.is_empty() {
        let columns = s.tables.known.iter().filter(|(t, _)| named(t)).flat_map(|(_, t)| t.columns());
        all.extend(columns.map(|(name, _)| name).collect::<BTreeSet<_>>());
        all.extend(KEYWORDS.map(String::from));
    }
    all.retain(|c| c.to_lowercase().starts_with(&lower) && *c != begun);
    all.truncate(8);
    all
}

fn text_before(s: &State) -> String {
    let (row, column) = (s.ask.editor.cursor().0, s.ask.editor.cursor().1);
    let mut lines: Vec<String> = s.ask.editor.lines().iter().take(row).cloned().collect();
    lines.extend(s.ask.editor.lines().get(row).map(|l| l.chars().take(column).collect::<String>()));
    lines.join("\n")
}

fn take_offered(s: &mut State) {
    let Some(offer) = s.ask.offered.get(s.ask.picked).cloned() else {
        s.ask.offered = offers(s);
        s.ask.picked = 0;
        return;
    };
    for _ in 0..word(s).chars().count() {
        s.ask.editor.delete_char();
    }
    s.ask.editor.insert_str(&offer);
    s.ask.offered.clear();
}

/// The parameters of a query, each with the value of the claim of the same name.
fn params(query: &str, claims: &Map<String, Json>) -> Map<String, Json> {
    let mut out = Map::new();
    let mut quoted = None;
    for (i, c) in query.char_indices() {
        match (quoted, c) {
            (Some(q), c) if c == q => quoted = None,
            (Some(_), _) => {}
            (None, '\'' | '"') => quoted = Some(c),
            (None, ':') => {
                let name: String = query[i + 1..].chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect();
                if let Some(value) = claims.get(&name) {
                    out.insert(name, value.clone());
                }
            }
            _ => {}
        }
    }
    out
}

/// Runs the query as each chosen persona.
pub fn run(s: &mut State) -> Vec<Effect> {
    let query = s.ask.text().trim().to_string();
    s.ask.offered.clear();
    if query.is_empty() {
        return vec![];
    }
    s.ask.history.retain(|q| *q != query);
    s.ask.history.push(query.clone());
    if s.ask.history.len() > REMEMBERED {
        s.ask.history.remove(0);
    }
    s.ask.looking_back = None;
    let mut effects: Vec<Effect> = s.ask.panes.drain(..).map(|p| Effect::Unask(p.id)).collect();
    (s.ask.scroll, s.ask.aside) = (0, 0);
    s.ask.running = Some(query.clone());
    for persona in s.ask.who.clone().into_iter().take(MOST) {
        let Some(identity) = s.personas.get(&persona).cloned() else { continue };
        let id = s.ask.next;
        s.ask.next += 1;
        let role = identity.roles.first().cloned().unwrap_or_else(|| "anyone".into());
        let params = params(&query, &identity.claims);
        s.ask.panes.push(Pane {
            id,
            persona: persona.clone(),
            role,
            lost: None,
            columns: None,
            rows: vec![],
            total: 0,
            deltas: 0,
            last: None,
            refused: None,
            why_not: vec![],
            about: None,
        });
        effects.push(Effect::Ask { id, persona, identity, query: query.clone(), params });
    }
    effects.extend(look(s));
    effects
}

/// Asks an instance to describe the running query.
fn look(s: &mut State) -> Vec<Effect> {
    s.ask.looked = s.now;
    let Some(query) = s.ask.running.clone() else { return vec![] };
    let about = |p: &Pane| {
        // The roles in a given token are only known if the token contains them.
        let identity = s.personas.get(&p.persona).filter(|i| i.roles != [crate::workbench::access::UNKNOWN_ROLES])?;
        let params = params(&query, &identity.claims);
        Some(Effect::Describe { id: p.id, identity: identity.clone(), query: query.clone(), params })
    };
    s.ask.panes.iter().filter(|p| p.refused.is_none() || p.why_not.is_empty()).filter_map(about).collect()
}

/// On a tick: marks fade, and the query's cost is requested again.
pub fn tick(s: &mut State) -> Vec<Effect> {
    let now = s.now;
    for pane in &mut s.ask.panes {
        let is_over = |r: &ShownRow| r.mark.is_some_and(|(_, until)| until < now);
        pane.rows.retain(|r| !(is_over(r) && matches!(r.mark, Some((Mark::Removed, _)))));
        for row in pane.rows.iter_mut().filter(|r| is_over(r)) {
            row.mark = None;
            row.changed.fill(false);
        }
    }
    if now - s.ask.looked > LOOK_AGAIN && s.view == crate::workbench::rail::View::Ask { look(s) } else { vec![] }
}

fn pane(s: &mut State, id: u32) -> Option<&mut Pane> {
    s.ask.panes.iter_mut().find(|p| p.id == id)
}

/// Applies an update from a running query.
pub fn told(s: &mut State, id: u32, told: QueryUpdate) {
    let now = s.now;
    let Some(pane) = pane(s, id) else { return };
    match told {
        QueryUpdate::Lost(why) => {
            if pane.lost.is_none() {
                pane.lost = Some((now, why));
            }
        }
        QueryUpdate::Refused(refused) => {
            pane.refused = Some(refused);
            let nobody = s.ask.panes.iter().all(|pane| pane.refused.is_some());
            s.ask.editing |= nobody && s.ask.running.as_deref() == Some(s.ask.text().trim());
        }
        QueryUpdate::About(about) => pane.about = Some(about),
        QueryUpdate::WhyNot(steps) => pane.why_not = steps,
        QueryUpdate::Rows { columns, rows, total, deltas } => {
            // Nothing is marked in a first result, or in one after a lost connection.
            let first = pane.columns.as_ref() != Some(&columns) || pane.lost.is_some();
            let rows = rows.into_iter().map(|(key, row)| {
                let cells = columns.iter().map(|c| row.get(&c.name).cloned()).collect();
                (key, cells)
            });
            let rows: Vec<(String, Vec<Option<Json>>)> = rows.collect();
            pane.rows = if first { rows.into_iter().map(fresh).collect() } else { changed(&pane.rows, rows, now) };
            if deltas > pane.deltas {
                pane.last = Some(now);
            }
            (pane.columns, pane.total, pane.deltas, pane.lost) = (Some(columns), total, deltas, None);
        }
    }
}

fn fresh((key, cells): (String, Vec<Option<Json>>)) -> ShownRow {
    ShownRow { key, changed: vec![false; cells.len()], cells, mark: None }
}

/// The new rows, with marks on differences; removed rows stay in place for a moment.
fn changed(before: &[ShownRow], rows: Vec<(String, Vec<Option<Json>>)>, now: Timestamp) -> Vec<ShownRow> {
    let until = now + MARKED;
    let was: HashMap<&str, &ShownRow> = before.iter().map(|r| (r.key.as_str(), r)).collect();
    let mut out: Vec<ShownRow> = Vec::with_capacity(rows.len());
    for (key, cells) in rows {
        let old = was.get(key.as_str()).filter(|r| !matches!(r.mark, Some((Mark::Removed, _))));
        out.push(match old {
            None => ShownRow { mark: Some((Mark::Added, until)), ..fresh((key, cells)) },
            Some(old) if old.cells == cells => ShownRow { key, cells, mark: old.mark, changed: old.changed.clone() },
            Some(old) => {
                let changed = cells.iter().zip(&old.cells).map(|(a, b)| a != b).collect();
                ShownRow { key, cells, mark: Some((Mark::Replaced, until)), changed }
            }
        });
    }
    let here: BTreeSet<String> = out.iter().map(|r| r.key.clone()).collect();
    for (i, old) in before.iter().enumerate().filter(|(_, r)| !here.contains(&r.key)) {
        let mark = match old.mark {
            Some((Mark::Removed, until)) if until < now => continue,
            Some((Mark::Removed, until)) => (Mark::Removed, until),
            _ => (Mark::Removed, until),
        };
        out.insert(i.min(out.len()), ShownRow { mark: Some(mark), ..old.clone() });
    }
    out.truncate(SHOWN * 2);
    out
}

/// Whether a row matches the search.
pub fn is_sought(row: &ShownRow, find: &str) -> bool {
    let wanted = find.to_lowercase();
    wanted.is_empty() || row.cells.iter().any(|c| cell(c.as_ref()).to_lowercase().contains(&wanted))
}

/// A cell as shown.
pub fn cell(value: Option<&Json>) -> String {
    value.map_or("·".into(), plain)
}

/// A key in the list of personas.
pub fn choose(s: &mut State, key: KeyEvent, at: usize) -> Vec<Effect> {
    let all = choosable(s);
    match key.code {
        KeyCode::Up => s.overlay = Overlay::Who(at.saturating_sub(1)),
        KeyCode::Down => s.overlay = Overlay::Who((at + 1).min(all.len().saturating_sub(1))),
        KeyCode::Char(' ') => {
            if let Some(name) = all.get(at) {
                if s.ask.who.contains(name) {
                    s.ask.who.retain(|p| p != name);
                } else if s.ask.who.len() < MOST {
                    s.ask.who.push(name.clone());
                }
            }
        }
        KeyCode::Enter => {
            s.overlay = Overlay::None;
            if s.ask.running.is_some() {
                return run(s);
            }
        }
        KeyCode::Esc => s.overlay = Overlay::None,
        _ => {}
    }
    vec![]
}

/// Scrolls the columns.
pub fn aside(s: &mut State, by: isize) {
    let columns = s.ask.panes.iter().filter_map(|p| p.columns.as_ref()).map(Vec::len).max().unwrap_or(1);
    s.ask.aside = s.ask.aside.saturating_add_signed(by).min(columns.saturating_sub(1));
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn rows_bear_the_mark_of_what_happened_to_them() {
        let row = |k: &str, v: i64| (k.to_string(), vec![Some(json!(v))]);
        let before: Vec<ShownRow> = [row("a", 1), row("b", 1), row("c", 1)].into_iter().map(fresh).collect();
        let after = changed(&before, vec![row("a", 1), row("c", 2), row("d", 1)], 0);
        let marks: Vec<_> = after.iter().map(|r| (r.key.as_str(), r.mark.map(|m| m.0))).collect();
        let expected = [("a", None), ("b", Some(Mark::Removed)), ("c", Some(Mark::Replaced)), ("d", Some(Mark::Added))];
        assert_eq!(marks, expected);
        // A row that returns is new again.
        let again = changed(&after, vec![row("b", 3)], 1);
        assert_eq!(again.iter().find(|r| r.key == "b").and_then(|r| r.mark).map(|m| m.0), Some(Mark::Added));
    }

    #[test]
    fn parameters_are_filled_from_claims_of_their_name() {
        let claims = json!({"agency": "North", "x": 1});
        let found = params("SELECT a FROM t WHERE b = :agency AND c = ':x' AND d = :none", claims.as_object().unwrap());
        assert_eq!(Json::Object(found), json!({"agency": "North"}));
    }
}
