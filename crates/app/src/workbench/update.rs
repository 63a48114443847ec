//! What a message does to the state.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use gossip_protocol::system::SystemRow;
use gossip_server::config::Persona;
use serde_json::Value as Json;

use super::actions::{self, Action};
use super::flow::{arrived, change, listening, newest_position, trim, verdict, was_made};
use super::forms::{FormKind, field, fit, form, in_form};
use super::frames::{self, Log, Looking};
use super::input::Input;
use super::line::{At, Stage};
use super::message::{Effect, InstanceAction, Message};
use super::palette::in_palette;
use super::rail::View;
use super::state::{Click, Link, Overlay, PlaceState, State, WatcherState, Why};
use super::{ask, relay, rules, tables};

/// Cursors and early frames that are remembered.
pub(super) const MAX_REMEMBERED: usize = 20_000;

/// Takes a message and returns what is to be done.
pub fn update(s: &mut State, message: Message) -> Vec<Effect> {
    // What streams in while somebody reads is nothing to Rules.
    let streams = matches!(message, Message::Change(..) | Message::Verdict(_) | Message::Delta { .. });
    let effects = take(s, message);
    if s.view == View::Rules && !streams {
        rules::look(s);
    }
    effects
}

fn take(s: &mut State, message: Message) -> Vec<Effect> {
    match message {
        Message::Key(key) => return key_pressed(s, key),
        Message::Resized => {}
        Message::Mouse(event) => return mouse(s, event),
        Message::Tick(_) if s.recorded => {}
        Message::Tick(now) => {
            s.now = now;
            s.shown_rates = s.rates.now(now);
            if s.notice.as_ref().is_some_and(|(at, _)| now - at > 6_000_000) {
                s.notice = None;
            }
            let mut effects = ask::tick(s);
            effects.extend(tables::tick(s));
            return effects;
        }
        Message::Asked(id, told) => ask::told(s, id, told),
        Message::Table(name, row) => tables::told(s, name, row.map(|row| *row)),
        Message::Looked(table, look) => {
            s.looks.insert(table, look);
            return fit(s);
        }
        Message::OnlyTables(names) => s.tables.known.retain(|name, _| names.contains(name)),
        Message::Inspected(found) => tables::inspected(s, found),
        Message::Proposed(Ok(proposal)) => s.overlay = Overlay::Proposal(proposal),
        Message::Proposed(Err(why)) => s.notice = Some((s.now, why)),
        Message::Place(i, at, Ok(())) => s.places[i].link = Link::Up(at),
        Message::Place(i, at, Err(why)) => {
            // Tried again and again: what counts is since when.
            if !matches!(s.places[i].link, Link::Down(..)) {
                s.places[i].link = Link::Down(at, why);
            }
        }
        Message::Member(i, name, row) => {
            // One that is connected to says itself when it is gone.
            if row.is_some() || !s.places.iter().any(|p| p.name == name) || s.places[i].name == name {
                relay::instance(s, &name, row.as_deref());
            }
        }
        Message::RelayLink(name, row) => relay::link(s, name, row.map(|row| *row)),
        Message::Passing(place, row) => relay::passed(s, place, row),
        Message::Instance(i, row) => {
            s.places[i].name = row.name.clone();
            relay::instance(s, &row.name, Some(&row));
            s.places[i].info = *row;
        }
        Message::Change(place, row) => {
            change(s, place, &row);
            s.keep("changes", place, row.to_json());
        }
        Message::Verdict(row) => {
            verdict(s, &row);
            let place = s.place_named(&row.instance);
            s.keep("verdicts", place, row.to_json());
        }
        Message::Listening(id, at, rows) => listening(s, id, at, rows),
        Message::WatcherLost(id, at, why) => {
            if let Some(w) = s.watcher_mut(id)
                && !matches!(w.link, Link::Down(..))
            {
                w.link = Link::Down(at, why);
                w.subscription = None;
                w.absent.push((at, None));
                trim(&mut w.absent);
            }
        }
        Message::Refused(id, why) => {
            if let Some(w) = s.watcher_mut(id) {
                w.refused = Some(why);
            }
        }
        Message::Delta { watcher, at, cursor, frame, rows } => {
            if let Some(w) = s.watcher_mut(watcher) {
                w.heard += 1;
                w.rows = rows;
            }
            let key = (watcher, cursor);
            match s.by_cursor.remove(&key) {
                Some(position) => arrived(s, watcher, &position, at, frame),
                None => {
                    if s.early.len() >= MAX_REMEMBERED {
                        s.early.clear();
                    }
                    s.early.insert(key, (at, frame));
                }
            }
        }
        Message::Snapshot(id, why, rows) => {
            let newest = newest_position(s);
            if let Some(w) = s.watcher_mut(id) {
                w.rows = rows;
                w.snapshots.push((newest, why));
                trim(&mut w.snapshots);
            }
        }
        Message::Current(id, position) => {
            if let Some(w) = s.watcher_mut(id) {
                w.current = At::parse(&position).or(w.current.take());
            }
        }
        Message::Explained(line, watcher, steps) => {
            if let Some(why) = s.why.as_mut().filter(|w| w.line == line && w.watcher == watcher) {
                why.steps = Some(steps);
            }
        }
        Message::Made(line, made) => return was_made(s, line, made),
        Message::Repeated(text) => {
            s.repeating = false;
            s.notice = Some((s.now, text));
        }
        Message::Rule(number, row) => rules::told(s, number, row),
        Message::OnlyRules(rows) => rules::told_all(s, rows),
        Message::Tried(number, watchers, answer) => return rules::tried(s, number, watchers, answer),
        Message::RulesKept(outcome) => rules::kept(s, outcome),
        Message::Running(running) => s.running = running,
        Message::Added(place) => {
            s.places.push(PlaceState::new(&place));
            s.running.push(true);
            return vec![Effect::Reach(place)];
        }
        Message::Notice(text) => s.notice = Some((s.now, text)),
    }
    Vec::new()
}

/// Adds a watcher and lets it listen.
pub fn add_watcher(s: &mut State, persona: &str, query: &str, place: usize) -> Vec<Effect> {
    let Some(identity) = s.personas.get(persona).cloned() else { return vec![] };
    let id = s.watcher_id();
    let frames = Log::default();
    s.watchers.push(WatcherState {
        id,
        persona: persona.to_string(),
        role: identity.roles.first().cloned().unwrap_or_else(|| "anyone".into()),
        query: query.to_string(),
        place,
        link: Link::Connecting,
        refused: None,
        current: None,
        listens_after: None,
        subscription: None,
        rows: 0,
        heard: 0,
        snapshots: vec![],
        absent: vec![],
        frames: frames.clone(),
    });
    vec![Effect::Listen { watcher: id, persona: persona.into(), identity, query: query.into(), place, frames }]
}

fn key_pressed(s: &mut State, key: KeyEvent) -> Vec<Effect> {
    if key.modifiers.contains(KeyModifiers::CONTROL) && key.code == KeyCode::Char('c') {
        s.leaving = true;
        return vec![];
    }
    // A terminal tells of Alt by an escape before the key, so escape and a key right after it, as over a slow line,
    // look the same. Nothing is done by Alt but a new line in a query: the rest are two keys.
    let new_line = key.code == KeyCode::Enter && s.view == View::Ask && s.ask.editing && s.overlay == Overlay::None;
    if key.modifiers.contains(KeyModifiers::ALT) && !new_line {
        let mut effects = key_pressed(s, KeyCode::Esc.into());
        effects.extend(key_pressed(s, KeyEvent::new(key.code, key.modifiers - KeyModifiers::ALT)));
        return effects;
    }
    match &mut s.overlay {
        Overlay::Form(_) => return in_form(s, key),
        Overlay::Instances(chosen) => {
            let chosen = *chosen;
            return in_instances(s, key, chosen);
        }
        Overlay::Help(from) => {
            let from = *from;
            let last = actions::here(s).count().saturating_sub(1);
            s.overlay = match key.code {
                KeyCode::Down => Overlay::Help((from + 1).min(last)),
                KeyCode::PageDown => Overlay::Help((from + 10).min(last)),
                KeyCode::Up => Overlay::Help(from.saturating_sub(1)),
                KeyCode::PageUp => Overlay::Help(from.saturating_sub(10)),
                _ => Overlay::None,
            };
            return vec![];
        }
        Overlay::Frames(looking) => {
            let looking = looking.clone();
            return frames::key(s, key, looking);
        }
        Overlay::Who(at) => {
            let at = *at;
            return ask::choose(s, key, at);
        }
        Overlay::Proposal(proposal) => {
            let proposal = proposal.clone();
            match key.code {
                KeyCode::Enter => {
                    s.overlay = Overlay::None;
                    return vec![Effect::CarryOut(proposal)];
                }
                KeyCode::Esc => s.overlay = Overlay::None,
                _ => {}
            }
            return vec![];
        }
        Overlay::Palette(..) => return in_palette(s, key),
        Overlay::None if s.view == View::Ask && s.ask.editing => return ask::edit(s, key),
        Overlay::None if s.view == View::Rules && s.rules.editing => return rules::key(s, key),
        Overlay::None | Overlay::Journey { .. } => {}
    }
    match actions::find(key, s) {
        Some(action) => act(s, action),
        None => vec![],
    }
}

/// Turning the wheel is walking, a click chooses. What lies over the view is for keys alone.
fn mouse(s: &mut State, event: MouseEvent) -> Vec<Effect> {
    if s.overlay != Overlay::None {
        return vec![];
    }
    let at = ratatui::layout::Position { x: event.column, y: event.row };
    match event.kind {
        MouseEventKind::ScrollUp => step(s, -3),
        MouseEventKind::ScrollDown => step(s, 3),
        MouseEventKind::Down(MouseButton::Left) => {
            let hit: Vec<Click> =
                s.places_on_screen.iter().filter(|(place, _)| place.contains(at)).map(|(_, c)| *c).collect();
            let mut effects = Vec::new();
            for click in hit {
                match click {
                    Click::View(view) => effects.extend(act(s, Action::Go(view))),
                    Click::Line(id) => {
                        hold(s);
                        s.chosen = Some(id);
                        s.why = None;
                    }
                    Click::Watcher(column) => effects.extend(choose_column(s, column)),
                    Click::Table(i) => s.tables.chosen = i,
                    Click::Rules(table, role) => rules::choose(s, (table, role)),
                }
            }
            return effects;
        }
        _ => {}
    }
    vec![]
}

pub(super) fn act(s: &mut State, action: Action) -> Vec<Effect> {
    match action {
        Action::Quit => s.leaving = true,
        Action::Help => s.overlay = Overlay::Help(0),
        Action::Hold if s.view == View::Relay => relay::hold(s),
        Action::Hold => match s.held.take() {
            Some(_) => s.chosen = None,
            None => hold(s),
        },
        Action::Go(view) => {
            s.view = view;
            s.overlay = Overlay::None;
            if view == View::Tables {
                return tables::look(s);
            }
        }
        Action::Palette => s.overlay = Overlay::Palette(Input::default(), 0),
        Action::Edit if s.view == View::Rules => rules::edit(s),
        Action::Edit => s.ask.editing = true,
        Action::SaveRules => return rules::save(s),
        Action::UndoRules => rules::undo(s),
        Action::NextRole => rules::step(s, 0, 1),
        Action::PreviousRole => rules::step(s, 0, -1),
        Action::PageUp | Action::PageDown if s.view == View::Rules => {
            return rules::scroll(s, if action == Action::PageDown { 5 } else { -5 });
        }
        Action::Run => return ask::run(s),
        Action::MoreColumns => {
            let columns = s.ask.panes.iter().filter_map(|p| p.columns.as_ref()).map(Vec::len).max().unwrap_or(1);
            s.ask.aside = (s.ask.aside + 1).min(columns.saturating_sub(1));
        }
        Action::FewerColumns => s.ask.aside = s.ask.aside.saturating_sub(1),
        Action::Who => s.overlay = Overlay::Who(0),
        Action::Keep => s.overlay = Overlay::Form(form(FormKind::KeepQuery, vec![field("name", "", vec![])])),
        Action::Stream => return tables::switch(s),
        Action::Record => {
            let fields = vec![field("file", "gossip-recording.jsonl", vec![]), field("mask columns", "", vec![])];
            s.overlay = Overlay::Form(form(FormKind::Record, fields));
        }
        Action::Copy => {
            let Some(line) = s.chosen_line() else { return vec![] };
            let text = line.made.as_ref().map_or_else(|| super::view::words::whole(line), |(sql, _)| sql.clone());
            s.notice = Some((s.now, format!("copied: {text}")));
            return vec![Effect::Copy(text)];
        }
        Action::Frames => {
            if let Some(w) = s.watchers.get(s.column) {
                s.overlay =
                    Overlay::Frames(Looking { watcher: w.id, chosen: None, find: Input::default(), finding: false });
            }
        }
        Action::Export if s.view == View::Relay => return vec![Effect::Export(Box::new(relay::export(s)))],
        Action::Export => {
            let of_line = match s.overlay {
                Overlay::Journey { line, .. } => s.line(line),
                _ => None,
            };
            let page = of_line.map_or_else(|| super::export::earshot(s), |line| super::export::journey(s, line));
            return vec![Effect::Export(Box::new(page))];
        }
        Action::Grant => s.overlay = Overlay::Form(super::forms::grant(s)),
        Action::NextStep => {
            let step = super::steps::next(s).and_then(|i| super::steps::steps(s).into_iter().nth(i));
            return step.map_or(vec![], |step| act(s, step.action));
        }
        Action::Mend => return tables::mend(s),
        Action::NextFinding => s.tables.finding += 1,
        Action::Up => step(s, -1),
        Action::Down => step(s, 1),
        Action::PageUp => step(s, -(s.page.max(2) as isize - 1)),
        Action::PageDown => step(s, s.page.max(2) as isize - 1),
        Action::Newest if s.view != View::Earshot => step(s, isize::MIN),
        Action::Newest => {
            s.held = None;
            s.chosen = None;
        }
        Action::NextWatcher => return choose_column(s, (s.column + 1) % s.watchers.len().max(1)),
        Action::PreviousWatcher => {
            let n = s.watchers.len().max(1);
            return choose_column(s, (s.column + n - 1) % n);
        }
        Action::Unfold | Action::Fold => {
            hold(s);
            let id = s.chosen_line().map(|l| l.id);
            if let Some(line) = id.and_then(|id| s.line_mut(id)) {
                line.unfolded = action == Action::Unfold;
            }
        }
        Action::Why => {
            if s.why.take().is_none() {
                hold(s);
                return ask_why(s);
            }
        }
        Action::Journey => {
            hold(s);
            if let Some(line) = s.chosen_line().map(|l| l.id) {
                s.overlay = Overlay::Journey { line, frame: false };
            }
        }
        Action::Frame => {
            if let Overlay::Journey { frame, .. } = &mut s.overlay {
                *frame = !*frame;
            }
        }
        Action::Change => {
            let (form, effects) = super::change::form(s);
            s.overlay = Overlay::Form(form);
            return effects;
        }
        Action::StopChanges => return vec![Effect::StopRepeating],
        Action::NewWatcher => {
            let personas = choosable(s);
            let places: Vec<String> = s.places.iter().map(|p| p.name.clone()).collect();
            let first = |v: &[String]| v.first().cloned().unwrap_or_default();
            // The last persona has most likely just been made; a table that streams is meant, most likely the first.
            let newest = s.newest_persona.clone().filter(|p| personas.contains(p)).unwrap_or_else(|| first(&personas));
            let table = s.tables.granted().unwrap_or_default();
            let fields = vec![
                field("persona", &newest, personas.clone()),
                field("query", &format!("SELECT * FROM {table}"), vec![]),
                field("instance", &first(&places), places.clone()),
            ];
            s.overlay = Overlay::Form(form(FormKind::Watcher, fields));
        }
        Action::DropWatcher => {
            if s.column < s.watchers.len() {
                let gone = s.watchers.remove(s.column);
                s.column = s.column.min(s.watchers.len().saturating_sub(1));
                s.why = s.why.take().filter(|w| w.watcher != gone.id);
                let effects = vec![Effect::Hush(gone.id), Effect::KeepWatchers(kept_watchers(s))];
                return effects;
            }
        }
        Action::NewPersona => {
            let names = ["Ada", "Ben", "Cleo", "Dara", "Emil", "Fay"];
            let free = names.iter().find(|n| !s.personas.contains_key(**n)).unwrap_or(&"");
            let role = s.tables.rules.first().map_or("", |r| r.role.as_str()).to_string();
            let fields =
                vec![field("name", free, vec![]), field("roles", &role, vec![]), field("claims", "{}", vec![])];
            s.overlay = Overlay::Form(form(FormKind::Persona, fields));
        }
        Action::Personas => {
            let watcher = s.watchers.get(s.column).map(|w| w.persona.clone()).unwrap_or_default();
            let p = s.personas.get(&watcher).cloned().unwrap_or_default();
            let claims = Json::Object(p.claims.clone()).to_string();
            let fields = vec![
                field("name", &watcher, vec![]),
                field("roles", &p.roles.join(", "), vec![]),
                field("claims", &claims, vec![]),
            ];
            s.overlay = Overlay::Form(form(FormKind::Persona, fields));
        }
        Action::Instances => s.overlay = Overlay::Instances(0),
        Action::Filter => {
            let (label, now) = match s.view {
                View::Ask => ("only rows with", s.ask.find.clone()),
                View::Tables => ("only tables with", s.tables.find.clone()),
                View::Earshot | View::Rules | View::Relay | View::Steps => ("only lines with", s.filter.clone()),
            };
            s.overlay = Overlay::Form(form(FormKind::Filter, vec![field(label, &now, vec![])]));
        }
        Action::Back => {
            if s.overlay != Overlay::None {
                s.overlay = Overlay::None;
            } else if s.view != View::Earshot {
                s.ask.find.clear();
                s.tables.find.clear();
            } else if s.why.take().is_none() {
                if s.filter.is_empty() {
                    s.held = None;
                    s.chosen = None;
                }
                s.filter.clear();
            }
        }
    }
    vec![]
}

/// Holds the flow with the newest line on top.
pub(super) fn hold(s: &mut State) {
    if s.held.is_none() {
        let top = s.visible().next().map(|l| l.id);
        s.held = top;
        s.chosen = s.chosen.or(top);
    }
}

fn step(s: &mut State, by: isize) {
    match s.view {
        View::Earshot => step_line(s, by),
        View::Tables => tables::step(s, by),
        View::Rules => rules::step(s, by, 0),
        View::Relay => relay::step(s, by),
        View::Steps => {}
        View::Ask => {
            let most = s.ask.panes.iter().map(|p| p.rows.len()).max().unwrap_or(0);
            s.ask.scroll = s.ask.scroll.saturating_add_signed(by).min(most.saturating_sub(1));
        }
    }
}

/// The personas as whom something can be asked from here.
pub fn choosable(s: &State) -> Vec<String> {
    let can = |(name, p): &(&String, &Persona)| s.can_mint || p.roles.is_empty() || s.given.contains(*name);
    s.personas.iter().filter(can).map(|(n, _)| n.clone()).collect()
}

/// The watchers as the configuration has them.
pub(super) fn kept_watchers(s: &State) -> Vec<gossip_server::config::Watcher> {
    let kept = |w: &WatcherState| gossip_server::config::Watcher {
        persona: w.persona.clone(),
        query: w.query.clone(),
        instance: s.places.get(w.place).filter(|_| s.places.len() > 1).map(|p| p.name.clone()),
    };
    s.watchers.iter().map(kept).collect()
}

fn step_line(s: &mut State, by: isize) {
    hold(s);
    let ids: Vec<u64> = s.visible().map(|l| l.id).collect();
    if ids.is_empty() {
        return;
    }
    let place = |id: Option<u64>| ids.iter().position(|i| Some(*i) == id);
    let at = place(s.chosen).unwrap_or(0).saturating_add_signed(by).min(ids.len() - 1);
    s.chosen = Some(ids[at]);
    let top = place(s.held).unwrap_or(0);
    // The chosen line stays on the screen.
    let page = s.page.max(1);
    let top = if at < top { at } else { top.max((at + 1).saturating_sub(page)) };
    s.held = Some(ids[top]);
    if s.why.is_some() {
        s.why = None;
    }
}

fn choose_column(s: &mut State, column: usize) -> Vec<Effect> {
    s.column = column;
    if s.why.is_some() { ask_why(s) } else { vec![] }
}

fn ask_why(s: &mut State) -> Vec<Effect> {
    let (Some(line), Some(w)) = (s.chosen_line(), s.watchers.get(s.column)) else { return vec![] };
    let (id, watcher, place, at) = (line.id, w.id, w.place, line.at.clone());
    let subscription = w.subscription;
    let judged = line.cells.contains_key(&watcher);
    let mark = s.mark(line, w).word();
    let unanswerable = match (&at, &line.made) {
        _ if s.recorded => Some(format!("{mark}; a recording has no instance that could be asked for the steps")),
        (None, Some((_, Stage::NeverComes(why)))) => Some(why.clone()),
        (None, _) => Some("it has not been seen in the stream yet".to_string()),
        _ if w.refused.is_some() => w.refused.clone(),
        // What its instance has judged for it, it was listening to, whatever else was known when its result came.
        (Some(at), _) if !judged && w.listens_after.as_ref().is_none_or(|after| at <= after) => {
            Some("it was not listening yet when this was committed".to_string())
        }
        _ if subscription.is_none() => Some("its instance has not told of anything for it yet".to_string()),
        _ => None,
    };
    s.why = Some(Why { line: id, watcher, steps: unanswerable.clone().map(Err) });
    match (at, subscription) {
        (Some(at), Some(subscription)) if unanswerable.is_none() => {
            vec![Effect::Explain { line: id, watcher, subscription, at, place }]
        }
        _ => vec![],
    }
}

fn in_instances(s: &mut State, key: KeyEvent, chosen: usize) -> Vec<Effect> {
    let last = s.places.len().saturating_sub(1);
    let action = match key.code {
        KeyCode::Up => {
            s.overlay = Overlay::Instances(chosen.saturating_sub(1));
            return vec![];
        }
        KeyCode::Down => {
            s.overlay = Overlay::Instances((chosen + 1).min(last));
            return vec![];
        }
        KeyCode::Char('e') if s.has_cluster => InstanceAction::EndOrStart,
        KeyCode::Char('l') if s.has_cluster => InstanceAction::LoseNext,
        KeyCode::Char('c') if s.has_cluster => InstanceAction::CutOrMend,
        KeyCode::Char('a') if s.has_cluster => InstanceAction::Add,
        KeyCode::Char('d') if s.has_cluster => InstanceAction::Drain,
        // Of another process: asked over the cluster, of whoever can be reached.
        KeyCode::Char('d') => {
            let reachable = |(i, p): &(usize, &PlaceState)| *i != chosen && matches!(p.link, Link::Up(_));
            let through = s.places.iter().enumerate().find(reachable).map_or(chosen, |(i, _)| i);
            return s.places.get(chosen).map(|p| Effect::Drain(through, p.name.clone())).into_iter().collect();
        }
        KeyCode::Esc | KeyCode::Char('q' | 'i') => {
            s.overlay = Overlay::None;
            return vec![];
        }
        _ => return vec![],
    };
    vec![Effect::Instance(chosen, action)]
}
