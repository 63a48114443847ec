//! Forms: what they ask for, how they are filled in, and what follows.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use gossip_server::config::Persona;
use serde_json::{Map, Value as Json};

use super::flow::insert;
use super::input::Input;
use super::message::Effect;
use super::state::{Field, Form, FormKind, Line, Link, Overlay, RowShown, Stage, State};
use super::update::add_watcher;

pub(super) fn form(kind: FormKind, fields: Vec<Field>) -> Form {
    Form { kind, fields, focus: 0, problem: None }
}

pub(super) fn field(label: &'static str, text: &str, choices: Vec<String>) -> Field {
    Field { label, input: Input::new(text), choices }
}

/// SQL that changes the row of the chosen line, to begin with.
pub(super) fn suggest(s: &State) -> String {
    let row = s.chosen_line().and_then(|l| l.rows.first());
    match row {
        Some(RowShown { table, new: Some(new), .. }) => {
            let literal = |v: &Json| match v {
                Json::String(s) => format!("'{}'", s.replace('\'', "''")),
                Json::Null => "NULL".into(),
                other => other.to_string(),
            };
            let mut cells = new.iter();
            let key = cells.next().map(|(k, v)| format!("{k} = {}", literal(v))).unwrap_or_default();
            let set = cells.next().map(|(k, v)| format!("{k} = {}", literal(v))).unwrap_or_default();
            format!("UPDATE {table} SET {set} WHERE {key}")
        }
        _ => "UPDATE ".into(),
    }
}

pub(super) fn in_form(s: &mut State, key: KeyEvent) -> Vec<Effect> {
    let Overlay::Form(form) = &mut s.overlay else { return vec![] };
    let n = form.fields.len();
    let focus = form.focus;
    let f = &mut form.fields[focus];
    match key.code {
        KeyCode::Esc => s.overlay = Overlay::None,
        KeyCode::Enter => return submit(s),
        KeyCode::Tab | KeyCode::Down => form.focus = (focus + 1) % n,
        KeyCode::BackTab | KeyCode::Up => form.focus = (focus + n - 1) % n,
        KeyCode::Left | KeyCode::Right if !f.choices.is_empty() => {
            let at = f.choices.iter().position(|c| c == f.input.text()).unwrap_or(0);
            let step = if key.code == KeyCode::Right { 1 } else { f.choices.len() - 1 };
            f.input = Input::new(f.choices[(at + step) % f.choices.len()].clone());
        }
        _ if !f.choices.is_empty() => {}
        KeyCode::Left => f.input.step(false),
        KeyCode::Right => f.input.step(true),
        KeyCode::Home => f.input.to_end(false),
        KeyCode::End => f.input.to_end(true),
        KeyCode::Backspace => f.input.backspace(),
        KeyCode::Delete => f.input.delete(),
        KeyCode::Char('u') if key.modifiers.contains(KeyModifiers::CONTROL) => f.input.clear(),
        KeyCode::Char(c) if !key.modifiers.intersects(KeyModifiers::CONTROL | KeyModifiers::ALT) => f.input.insert(c),
        _ => {}
    }
    vec![]
}

fn submit(s: &mut State) -> Vec<Effect> {
    let Overlay::Form(form) = &s.overlay else { return vec![] };
    let kind = form.kind;
    let texts: Vec<String> = form.fields.iter().map(|f| f.input.text().trim().to_string()).collect();
    match fulfil(s, kind, &texts) {
        Ok(effects) => {
            s.overlay = Overlay::None;
            effects
        }
        Err(problem) => {
            if let Overlay::Form(form) = &mut s.overlay {
                form.problem = Some(problem);
            }
            vec![]
        }
    }
}

fn fulfil(s: &mut State, kind: FormKind, texts: &[String]) -> Result<Vec<Effect>, String> {
    match (kind, texts) {
        (FormKind::Filter, [text]) => {
            s.filter.clone_from(text);
            s.held = None;
            s.chosen = None;
            Ok(vec![])
        }
        (FormKind::KeepQuery, [name]) => {
            let fits = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == '-';
            if name.is_empty() || name.len() > 60 || !name.chars().all(fits) {
                return Err("give it a name of letters, digits, _ and -".into());
            }
            let query = s.ask.running.clone().unwrap_or_default();
            Ok(vec![Effect::KeepQuery(name.clone(), query)])
        }
        (FormKind::Change, [sql]) => {
            if sql.is_empty() {
                return Err("write the SQL that makes the change".into());
            }
            let id = s.line_id();
            let now = s.now;
            insert(
                s,
                Line {
                    id,
                    at: None,
                    after: None,
                    committed: (now, now),
                    read_at: now,
                    reader: String::new(),
                    received: Default::default(),
                    rows: vec![],
                    row_count: 0,
                    cells: Default::default(),
                    made: Some((sql.clone(), Stage::Running)),
                    unfolded: false,
                },
            );
            // One wants to see what becomes of it.
            s.held = None;
            s.chosen = Some(id);
            Ok(vec![Effect::Make(id, sql.clone())])
        }
        (FormKind::Watcher, [persona, query, place]) => {
            if query.split_whitespace().count() < 4 {
                return Err("write the whole query, like SELECT * FROM calls".into());
            }
            let place = s.places.iter().position(|p| p.name == *place).unwrap_or(0);
            let effects = add_watcher(s, persona, query, place);
            s.column = s.watchers.len().saturating_sub(1);
            Ok(effects)
        }
        (FormKind::Persona, [name, roles, claims]) => {
            if name.is_empty() || name.len() > 40 {
                return Err("give it a name of at most 40 characters".into());
            }
            let claims: Map<String, Json> = serde_json::from_str(claims)
                .map_err(|_| "claims: expected a JSON object, like {\"agency\": \"Brightwater\"}")?;
            let roles: Vec<String> =
                roles.split(',').map(str::trim).filter(|r| !r.is_empty()).map(String::from).collect();
            let persona = Persona { roles, claims };
            s.personas.insert(name.clone(), persona.clone());
            let mut effects = vec![Effect::KeepPersona(name.clone(), persona.clone())];
            // Its watchers come again as who they are now.
            for w in s.watchers.iter_mut().filter(|w| w.persona == *name) {
                w.role = persona.roles.first().cloned().unwrap_or_else(|| "anyone".into());
                w.link = Link::Connecting;
                effects.push(Effect::Hush(w.id));
                effects.push(Effect::Listen {
                    watcher: w.id,
                    persona: name.clone(),
                    identity: persona.clone(),
                    query: w.query.clone(),
                    place: w.place,
                });
            }
            Ok(effects)
        }
        _ => Ok(vec![]),
    }
}
