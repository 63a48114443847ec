//! Rules: who may read what, the editor, and the what-if.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use gossip_core::rule::{ANONYMOUS, May, Rule, RuleSet, RuleText};
use gossip_core::schema::TableName;
use gossip_protocol::call::QuestionTarget;
use gossip_protocol::system::RuleRow;
use gossip_server::config::read_rules;
use ratatui_textarea::{CursorMove, TextArea};
use serde_json::{Map, Value as Json};

use crate::incident::rehearsal::{Question, Recorded};
use crate::local::replaced;
use crate::personas::Persona;
use crate::workbench::ids::WatcherId;
use crate::workbench::message::Effect;
use crate::workbench::state::{State, WatcherState};
use crate::workbench::views::rules::state::{Answer, Cell, Different, Edited, Over, Seen, alike};
use crate::workbench::views::tables::catalog::catalog;

/// Maximum length of a cell's rules, in bytes.
const LONGEST: usize = 20_000;

/// Most watchers in one what-if.
const MOST: usize = 64;

/// A list of columns longer than this is written with one on each line.
const WIDE: usize = 44;

/// A row of `gossip.rules`.
pub fn told(s: &mut State, number: u64, row: Option<RuleRow>) {
    match row {
        Some(row) => drop(s.rules.told.insert(number, read(row))),
        None => drop(s.rules.told.remove(&number)),
    }
    s.tables.rules = s.rules.told.values().cloned().collect();
    refresh(s);
}

/// A snapshot of `gossip.rules`.
pub fn told_all(s: &mut State, rows: Vec<RuleRow>) {
    s.rules.told = rows.into_iter().map(|row| (row.number, read(row))).collect();
    s.tables.rules = s.rules.told.values().cloned().collect();
    refresh(s);
}

/// Replaces an unedited text by the rules in force.
fn refresh(s: &mut State) {
    let stale = |e: &Edited| e.made.as_ref().is_ok_and(|made| alike(made, &e.before));
    if !s.rules.editing && s.rules.edited.as_ref().is_some_and(stale) {
        s.rules.edited = None;
    }
}

fn read(row: RuleRow) -> RuleText {
    RuleText {
        role: row.role,
        table: TableName::parse(&row.table),
        may: May::of(row.may.split(", ")).unwrap_or_default(),
        rows: row.rows,
        columns: row.columns.map(|c| c.0),
        masks: row.masks.0,
        line: usize::try_from(row.line).unwrap_or(0),
    }
}

/// Computes what is drawn.
pub fn look(s: &mut State) {
    let (tables, roles) = (tables(s), roles(s));
    let last = (tables.len().saturating_sub(1), roles.len().saturating_sub(1));
    s.rules.chosen = (s.rules.chosen.0.min(last.0), s.rules.chosen.1.min(last.1));
    let row = |table: &String| roles.iter().map(|role| cell(s, role, table)).collect();
    let cells = tables.iter().map(row).collect();
    s.rules.seen = Seen { tables, roles, cells, ..Seen::default() };
    let in_force = chosen(s).map(|(role, table)| of(s, &role, &table)).unwrap_or_default();
    let about = match &s.rules.edited {
        Some(e) => e.made.as_ref().unwrap_or(&e.before),
        None => &in_force,
    };
    let claims = claims(s, about);
    s.rules.seen.claims = claims;
    s.rules.seen.text = written(&in_force).lines().map(String::from).collect();
}

/// The tables: streaming ones and those named by rules.
fn tables(s: &State) -> Vec<String> {
    let known = s.tables.known.keys().filter(|t| !t.starts_with("gossip.")).cloned();
    known.chain(s.tables.rules.iter().map(|r| r.table.to_string())).collect::<BTreeSet<_>>().into_iter().collect()
}

/// The roles: those of the rules in their order, then those that only personas have.
fn roles(s: &State) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    let of_personas = s.personas.values().flat_map(roles_of);
    for role in s.tables.rules.iter().map(|r| r.role.clone()).chain(of_personas) {
        if role != crate::workbench::access::UNKNOWN_ROLES && !all.contains(&role) {
            all.push(role);
        }
    }
    all
}

pub(super) fn roles_of(p: &Persona) -> Vec<String> {
    if p.roles.is_empty() { vec![ANONYMOUS.into()] } else { p.roles.clone() }
}

/// The selected role and table.
pub fn chosen(s: &State) -> Option<(String, TableName)> {
    let (Seen { tables, roles, .. }, (table, role)) = (&s.rules.seen, s.rules.chosen);
    Some((roles.get(role)?.clone(), TableName::parse(tables.get(table)?)))
}

/// The rules of a role on a table.
fn of(s: &State, role: &str, table: &TableName) -> Vec<RuleText> {
    s.tables.rules.iter().filter(|r| r.role == role && r.table == *table).cloned().collect()
}

/// What a role may read of a table.
fn cell(s: &State, role: &str, table: &str) -> Cell {
    let all = of(s, role, &TableName::parse(table));
    let publishes = all.iter().any(|r| r.may.publish);
    let rules: Vec<RuleText> = all.into_iter().filter(|r| r.may.read).collect();
    let columns =
        s.tables.known.get(table).map(crate::workbench::views::tables::state::TableInfo::columns).unwrap_or_default();
    let shows = |column: &str| {
        rules.iter().any(|r| {
            let listed = r.columns.as_ref().is_none_or(|c| c.iter().any(|c| c.eq_ignore_ascii_case(column)));
            listed && !r.masks.keys().any(|m| m.eq_ignore_ascii_case(column))
        })
    };
    Cell {
        rules: rules.len(),
        all_rows: rules.iter().any(|r| r.rows.is_none()),
        all_columns: columns.iter().all(|(c, _)| shows(c)),
        masked: rules.iter().any(|r| !r.masks.is_empty()),
        publishes,
    }
}

/// The personas that a role covers, each with the claims that it lacks.
pub fn covered(s: &State, role: &str, claims: &BTreeSet<String>) -> Vec<(String, Vec<String>)> {
    let has = |p: &Persona, path: &str| {
        let mut parts = path.split('.');
        let first = parts.next().and_then(|name| p.claims.get(name));
        parts.fold(first, |at, name| at.and_then(|v| v.get(name))).is_some()
    };
    let own = |p: &&Persona| roles_of(p).iter().any(|r| r == role);
    let named = s.personas.iter().filter(|(_, p)| own(p));
    // Every token has `sub`.
    let lacks = |p: &Persona| claims.iter().filter(|c| *c != "sub" && !has(p, c)).cloned().collect();
    named.map(|(name, p)| (name.clone(), lacks(p))).collect()
}

/// The claims that rules name.
fn claims(s: &State, rules: &[RuleText]) -> BTreeSet<String> {
    let catalog = catalog(s);
    let of_rule = |r: &RuleText| Some(Rule::new(r, catalog.get(&r.table)?, &catalog).ok()?.claims());
    rules.iter().filter_map(of_rule).flatten().collect()
}

/// Rules as written in the configuration.
pub fn written(rules: &[RuleText]) -> String {
    let quoted = |text: &str| toml_edit::Value::from(text).to_string();
    let mut text = String::new();
    for r in rules {
        if !text.is_empty() {
            text.push('\n');
        }
        text += &format!("[[rule]]\nrole = {}\ntable = {}\n", quoted(&r.role), quoted(&r.table.to_string()));
        let may: Vec<String> = r.may.words().map(quoted).collect();
        text += &format!("may = [{}]\n", may.join(", "));
        if let Some(rows) = &r.rows {
            text += &format!("rows = {}\n", quoted(rows));
        }
        if let Some(columns) = &r.columns {
            let all: Vec<String> = columns.iter().map(|c| quoted(c)).collect();
            let line = all.join(", ");
            text += &match line.len() > WIDE {
                true => format!("columns = [\n    {},\n]\n", all.join(",\n    ")),
                false => format!("columns = [{line}]\n"),
            };
        }
        if !r.masks.is_empty() {
            text += "masks = { ";
            let each = |(c, m): (&String, &String)| format!("{} = {}", toml_edit::Key::new(c), quoted(m));
            text += &r.masks.iter().map(each).collect::<Vec<_>>().join(", ");
            text += " }\n";
        }
    }
    text
}

/// Starts or resumes editing the selected cell.
pub fn edit(s: &mut State) {
    let Some((role, table)) = chosen(s) else { return };
    let same = |e: &Edited| e.role == role && e.table == table;
    if !s.rules.edited.as_ref().is_some_and(same) {
        let before = of(s, &role, &table);
        let text = match before.is_empty() {
            true => written(&[RuleText { role: role.clone(), table: table.clone(), ..RuleText::default() }]),
            false => written(&before),
        };
        let mut editor = TextArea::new(text.lines().map(String::from).collect());
        editor.move_cursor(CursorMove::Bottom);
        editor.move_cursor(CursorMove::End);
        let made = Ok(before.clone());
        let edited = Edited {
            role,
            table,
            editor,
            before,
            made,
            outcomes: BTreeMap::new(),
            over: None,
            saving: false,
            asked: (0, 0),
            again: false,
        };
        s.rules.edited = Some(edited);
        s.rules.scroll = 0;
    }
    s.rules.editing = true;
}

/// A key while the text is edited.
pub fn key(s: &mut State, key: KeyEvent) -> Vec<Effect> {
    let Some(e) = &mut s.rules.edited else { return vec![] };
    let before = e.editor.lines().to_vec();
    let size: usize = before.iter().map(String::len).sum();
    match key.code {
        KeyCode::Esc => {
            s.rules.editing = false;
            // Close the editor if nothing was changed.
            let unchanged = e.made.as_ref().is_ok_and(|made| alike(made, &e.before));
            if unchanged {
                s.rules.edited = None;
            }
            return vec![];
        }
        KeyCode::Char(_) | KeyCode::Enter if size >= LONGEST => {}
        KeyCode::Char('u') if key.modifiers.contains(KeyModifiers::CONTROL) => drop(e.editor.delete_line_by_head()),
        KeyCode::Tab => drop(e.editor.insert_str("    ")),
        KeyCode::PageDown => return scroll(s, 5),
        KeyCode::PageUp => return scroll(s, -5),
        _ => drop(e.editor.input(key)),
    }
    if e.editor.lines() == before { vec![] } else { check(s) }
}

/// Scrolls the differences.
pub fn scroll(s: &mut State, by: isize) -> Vec<Effect> {
    let n = differences(s).len();
    s.rules.scroll = s.rules.scroll.saturating_add_signed(by).min(n.saturating_sub(1));
    vec![]
}

/// Parses the text, checks it against the tables, and sends a what-if.
fn check(s: &mut State) -> Vec<Effect> {
    let catalog = catalog(s);
    let Some(e) = &mut s.rules.edited else { return vec![] };
    e.made = read_rules(&e.editor.lines().join("\n")).and_then(|rules| {
        let astray = rules.iter().find(|r| r.role != e.role || r.table != e.table);
        if let Some(r) = astray {
            let (line, role, table) = (r.line, &e.role, &e.table);
            return Err(vec![format!("line {line}: here is what {role} may do with {table}; choose another cell")]);
        }
        let problems = RuleSet::new(rules.clone()).check(&catalog);
        let say = |p: gossip_core::rule::RuleProblem| format!("rule in line {}: {}", p.line, p.message);
        if problems.is_empty() { Ok(rules) } else { Err(problems.into_iter().map(say).collect()) }
    });
    if e.made.is_err() {
        // Earlier answers are about another text.
        (e.asked, e.again) = ((0, 0), false);
        e.over = None;
        e.outcomes.clear();
        return vec![];
    }
    if e.waits() {
        // One what-if at a time, however fast the user types.
        e.again = true;
        return vec![];
    }
    ask(s)
}

/// All rules, with the edited ones in place.
pub fn all(s: &State) -> Vec<RuleText> {
    let Some(Edited { role, table, made: Ok(made), .. }) = &s.rules.edited else { return s.tables.rules.clone() };
    replaced(&s.tables.rules, role, table, made)
}

/// Holds the recording that is shown against the edited rules.
fn rehearse(s: &mut State) -> Vec<Effect> {
    let (catalog, then) = (catalog(s), all(s));
    if let Some(player) = &s.player
        && s.rules.recorded.of != player.applied
    {
        s.rules.recorded = Arc::new(Recorded::of(&player.events[..player.applied], &catalog));
    }
    s.rules.next += 1;
    let number = s.rules.next;
    // Without its claims nobody knows what somebody may hear.
    let known = |w: &&WatcherState| s.personas.contains_key(&w.persona);
    let tried: Vec<&WatcherState> = s.watchers.iter().filter(known).take(MOST).collect();
    let watchers: Vec<WatcherId> = tried.iter().map(|w| w.id).collect();
    let asked = tried.iter().map(|w| (w.query.clone(), s.personas[&w.persona].clone())).collect();
    let (now, recorded) = (s.tables.rules.clone(), s.rules.recorded.clone());
    let question = Box::new(Question { catalog, now, then, asked, recorded });
    if let Some(e) = &mut s.rules.edited {
        (e.asked, e.again) = ((number, 1), false);
    }
    vec![Effect::Rehearse { number, watchers, question }]
}

/// Sends a what-if with the edited rules to the instances.
fn ask(s: &mut State) -> Vec<Effect> {
    if s.recorded {
        return rehearse(s);
    }
    let rules = all(s);
    s.rules.next += 1;
    let number = s.rules.next;
    let mut effects = Vec::new();
    for place in 0..s.places.len() {
        let mut watchers = Vec::new();
        let mut asked = Vec::new();
        for w in s.watchers.iter().filter(|w| w.place == place).take(MOST) {
            let whom = match (w.subscription.filter(|_| w.refused.is_none()), s.personas.get(&w.persona)) {
                (Some(subscription), _) => QuestionTarget::Subscription { subscription },
                (None, Some(p)) => QuestionTarget::Anybody {
                    query: w.query.clone(),
                    claims: facts(&w.persona, p),
                    roles: Some(roles_of(p)),
                    params: Map::new(),
                },
                (None, None) => continue,
            };
            watchers.push(w.id);
            asked.push(whom);
        }
        if !watchers.is_empty() {
            effects.push(Effect::Try { number, place, watchers, asked, rules: rules.clone() });
        }
    }
    if let Some(e) = &mut s.rules.edited {
        (e.asked, e.again) = ((number, effects.len()), false);
    }
    effects
}

/// The claims of a persona as in its token.
fn facts(name: &str, p: &Persona) -> Map<String, Json> {
    let mut facts = p.claims.clone();
    if !p.roles.is_empty() {
        facts.entry("sub").or_insert_with(|| name.into());
    }
    facts
}

/// Applies an answer to a what-if.
pub fn tried(s: &mut State, number: u64, watchers: Vec<WatcherId>, answer: Result<Answer, String>) -> Vec<Effect> {
    let Some(e) = s.rules.edited.as_mut().filter(|e| e.asked.0 == number) else { return vec![] };
    e.asked.1 = e.asked.1.saturating_sub(1);
    match answer {
        Err(why) => e.outcomes.extend(watchers.into_iter().map(|w| (w, Err(why.clone())))),
        Ok(a) => {
            let since = a.since.and_then(|t| t.parse::<jiff::Timestamp>().ok()).map(|t| t.as_microsecond());
            e.over = Some(Over { transactions: a.transactions, since, unknown: a.unknown, left_out: a.left_out });
            e.outcomes.extend(watchers.into_iter().zip(a.asked.into_iter().map(Ok)));
        }
    }
    let again = e.again && !e.waits();
    s.rules.scroll = 0;
    if again { ask(s) } else { vec![] }
}

/// All differences, newest first.
pub fn differences(s: &State) -> Vec<(WatcherId, &Different)> {
    let Some(e) = &s.rules.edited else { return vec![] };
    let ok = e.outcomes.iter().filter_map(|(w, o)| Some((*w, o.as_ref().ok()?)));
    let mut all: Vec<(WatcherId, &Different)> = ok.flat_map(|(w, o)| o.changes.iter().map(move |d| (w, d))).collect();
    all.sort_by(|a, b| b.1.at.cmp(&a.1.at));
    all
}

/// Saves the edited rules, and puts them in force.
pub fn save(s: &mut State) -> Vec<Effect> {
    if !s.rules.can_save() {
        return vec![];
    }
    let Some(e) = &mut s.rules.edited else { return vec![] };
    let Ok(new) = e.made.clone() else { return vec![] };
    e.saving = true;
    let text = e.editor.lines().join("\n") + "\n";
    vec![Effect::KeepRules { role: e.role.clone(), table: e.table.clone(), before: e.before.clone(), text, new }]
}

/// Applies the outcome of saving; after a failure the edited text stays.
pub fn kept(s: &mut State, outcome: Result<String, String>) {
    let Some(e) = &mut s.rules.edited else { return };
    let which = format!("{} on {}", e.role, e.table);
    e.saving = false;
    let text = match outcome {
        Ok(place) => {
            undo(s);
            format!("{which}: {place}")
        }
        Err(why) => format!("{which}: not saved: {why}"),
    };
    s.notice = Some((s.now, text));
}

/// Discards unsaved edits.
pub fn undo(s: &mut State) {
    s.rules.edited = None;
    s.rules.editing = false;
}

/// Moves the selection.
pub fn step(s: &mut State, down: isize, right: isize) {
    let (tables, roles) = (s.rules.seen.tables.len(), s.rules.seen.roles.len());
    let (table, role) = s.rules.chosen;
    let moved = |at: usize, by: isize, n: usize| at.saturating_add_signed(by).min(n.saturating_sub(1));
    choose(s, (moved(table, down, tables), moved(role, right, roles)));
}

/// Selects a table and a role, unless there are unsaved edits.
pub fn choose(s: &mut State, place: (usize, usize)) {
    match &s.rules.edited {
        Some(e) if place != s.rules.chosen => {
            let text = format!("{} on {} was edited: s saves it, u reverts it", e.role, e.table);
            s.notice = Some((s.now, text));
        }
        _ => s.rules.chosen = place,
    }
}
