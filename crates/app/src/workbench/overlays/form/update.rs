//! Forms: key handling and submission.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;
use serde_json::{Map, Value as Json};

use crate::local::has_password;
use crate::personas::Persona;
use crate::recording::Masks;
use crate::workbench::input::Input;
use crate::workbench::message::Effect;
use crate::workbench::overlays::form::state::{Form, FormKind, field, form, proposed};
use crate::workbench::overlays::form::{change, open};
use crate::workbench::rail::View;
use crate::workbench::state::{Link, Overlay, State};
use crate::workbench::watchers::{add_watcher, watchers_to_save};

/// The form for a rule.
pub(crate) fn grant(s: &State) -> Form {
    let tables: Vec<String> = s.tables.known.keys().cloned().collect();
    let chosen = crate::workbench::views::tables::update::chosen(s)
        .filter(|t| tables.contains(t))
        .or_else(|| tables.first().cloned());
    let role = s.personas.values().flat_map(|p| p.roles.first()).next().cloned().unwrap_or_else(|| "reader".into());
    form(
        FormKind::Grant,
        vec![
            proposed("role", &role),
            field("may read", &chosen.unwrap_or_default(), tables),
            field("only rows where", "", vec![]),
            field("only columns", "", vec![]),
        ],
    )
}

pub(crate) fn in_form(s: &mut State, key: KeyEvent) -> Vec<Effect> {
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
        KeyCode::PageUp | KeyCode::PageDown if !f.offers.is_empty() => {
            let n = f.offers.len();
            let at = f.offers.iter().position(|o| o == f.input.text());
            let next = match (at, key.code == KeyCode::PageDown) {
                (None, true) => 0,
                (None, false) => n - 1,
                (Some(at), down) => (at + if down { 1 } else { n - 1 }) % n,
            };
            f.input = Input::new(f.offers[next].clone());
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
    fit(s)
}

/// Updates the form for a change to its current choices.
pub(crate) fn fit(s: &mut State) -> Vec<Effect> {
    let Overlay::Form(form) = &s.overlay else { return vec![] };
    let mut form = form.clone();
    if form.kind == FormKind::Publish {
        // Another topic has other data.
        let topic = form.fields.get(1).map(|f| f.input.text().to_string()).unwrap_or_default();
        if topic != form.about
            && let Some(data) = form.fields.get_mut(2)
        {
            data.input = Input::proposed(open::data_of(s, &topic));
            form.about = topic;
            s.overlay = Overlay::Form(form);
        }
        return vec![];
    }
    if form.kind != FormKind::Change {
        return vec![];
    }
    let effects = change::refit(s, &mut form);
    s.overlay = Overlay::Form(form);
    effects
}

fn submit(s: &mut State) -> Vec<Effect> {
    let Overlay::Form(form) = &s.overlay else { return vec![] };
    let (kind, whole) = (form.kind, form.clone());
    let texts: Vec<String> = form.fields.iter().map(|f| f.input.text().trim().to_string()).collect();
    let fulfilled = match kind {
        FormKind::Change => change::submit(s, &whole),
        _ => fulfil(s, kind, &texts),
    };
    match fulfilled {
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
            filter(s, text);
            Ok(vec![])
        }
        (FormKind::Grant, [role, table, rows, columns]) => grant_rule(s, role, table, rows, columns),
        (FormKind::Record, [file, mask]) => {
            if file.is_empty() {
                return Err("name the file".into());
            }
            let masks = Masks::parse(mask)?;
            Ok(vec![Effect::SaveRecording(file.clone(), masks, s.recording())])
        }
        (FormKind::KeepQuery, [name]) => {
            let fits = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == '-';
            if name.is_empty() || name.len() > 60 || !name.chars().all(fits) {
                return Err("give it a name of letters, digits, _ and -".into());
            }
            let query = s.ask.running.clone().unwrap_or_default();
            Ok(vec![Effect::KeepQuery(name.clone(), query)])
        }
        (FormKind::Watcher, [persona, query, place]) => {
            if query.split_whitespace().count() < 4 {
                return Err("write the whole query, like SELECT * FROM calls".into());
            }
            let place = s.places.iter().position(|p| p.name == *place).unwrap_or(0);
            let mut effects = add_watcher(s, persona, query, place);
            effects.push(Effect::KeepWatchers(watchers_to_save(s)));
            s.column = s.watchers.len().saturating_sub(1);
            Ok(effects)
        }
        (FormKind::Broker, [url, prefix]) => {
            if has_password(url) {
                return Err(
                    "a password would stand in the file: leave it out, and write it there yourself if it may".into()
                );
            }
            let fits = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == '-';
            if prefix.is_empty() || prefix.len() > 60 || !prefix.chars().all(fits) {
                return Err("names begin with letters, digits, _ and -".into());
            }
            Ok(vec![Effect::TryBroker { url: url.clone(), prefix: prefix.clone() }])
        }
        (FormKind::Publish, [persona, topic, data]) => {
            let data: Json = serde_json::from_str(data).map_err(|e| format!("data: {e}"))?;
            let identity = s.personas.get(persona).cloned().ok_or("choose who publishes it")?;
            if topic.is_empty() {
                return Err("there is no topic: [topic.NAME] in the configuration declares one".into());
            }
            let place = s.watchers.get(s.column).map_or(0, |w| w.place);
            Ok(vec![Effect::Publish { persona: persona.clone(), identity, topic: topic.clone(), data, place }])
        }
        (FormKind::Persona, [name, roles, claims]) => save_persona(s, name, roles, claims),
        _ => Ok(vec![]),
    }
}

/// Sets the view's filter.
fn filter(s: &mut State, text: &str) {
    match s.view {
        View::Ask => {
            s.ask.find = text.into();
            s.ask.scroll = 0;
        }
        View::Tables => {
            s.tables.find = text.into();
            s.tables.chosen = 0;
        }
        View::Clients => {
            s.clients.find = text.into();
            s.clients.chosen = None;
        }
        View::Earshot | View::Rules | View::Relay | View::Charts | View::Steps => {
            s.filter = text.into();
            s.held = None;
            s.chosen = None;
        }
    }
}

/// The items of a comma-separated list.
fn listed(text: &str) -> Vec<String> {
    text.split(',').map(str::trim).filter(|part| !part.is_empty()).map(String::from).collect()
}

fn grant_rule(s: &mut State, role: &str, table: &str, rows: &str, columns: &str) -> Result<Vec<Effect>, String> {
    if role.is_empty() {
        return Err("name the role; anonymous is for clients without a token".into());
    }
    let columns = listed(columns);
    let rule = RuleText {
        role: role.into(),
        table: TableName::plain(table),
        rows: (!rows.is_empty()).then(|| rows.into()),
        columns: (!columns.is_empty()).then_some(columns),
        ..RuleText::default()
    };
    crate::workbench::views::tables::update::check(s, &rule)?;
    s.tables.rules.push(rule.clone());
    Ok(vec![Effect::Grant(rule)])
}

fn save_persona(s: &mut State, name: &str, roles: &str, claims: &str) -> Result<Vec<Effect>, String> {
    if name.is_empty() || name.len() > 40 {
        return Err("give it a name of at most 40 characters".into());
    }
    let claims: Map<String, Json> = serde_json::from_str(claims)
        .map_err(|_| "claims: expected a JSON object, like {\"agency\": \"Brightwater\"}")?;
    let persona = Persona { roles: listed(roles), claims };
    s.personas.insert(name.into(), persona.clone());
    s.newest_persona = Some(name.into());
    if s.ask.who.len() < crate::workbench::views::ask::state::MOST && !s.ask.who.iter().any(|who| who == name) {
        s.ask.who.push(name.into());
    }
    let mut effects = vec![Effect::KeepPersona(name.into(), persona.clone())];
    // Restart its watchers with the new identity.
    for w in s.watchers.iter_mut().filter(|w| w.persona == name) {
        w.role = persona.roles.first().cloned().unwrap_or_else(|| "anyone".into());
        w.link = Link::Connecting;
        effects.push(Effect::Hush(w.id));
        effects.push(Effect::Listen {
            watcher: w.id,
            persona: name.into(),
            identity: persona.clone(),
            query: w.query.clone(),
            place: w.place,
            frames: w.frames.clone(),
        });
    }
    Ok(effects)
}
