//! Applies messages to the state.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use gossip_protocol::system::SystemRow;
use serde_json::json;

use crate::workbench::action::Action;
use crate::workbench::alarms;
use crate::workbench::ids::Timestamp;
use crate::workbench::keymap;
use crate::workbench::message::{Effect, InstanceAction, Message};
use crate::workbench::overlays::form::update::{fit, in_form};
use crate::workbench::overlays::frames::update as frames;
use crate::workbench::overlays::palette::in_palette;
use crate::workbench::perform::{act, choose_column, step};
use crate::workbench::rail::View;
use crate::workbench::state::{Click, Link, Overlay, PlaceState, State};
use crate::workbench::views::ask::update as ask;
use crate::workbench::views::clients::update as clients;
use crate::workbench::views::earshot::flow;
use crate::workbench::views::earshot::sight::{self, hold};
use crate::workbench::views::relay::update as relay;
use crate::workbench::views::rules::{people, update as rules};
use crate::workbench::views::tables::update as tables;

/// Applies a message and returns effects to carry out.
pub fn update(s: &mut State, message: Message) -> Vec<Effect> {
    // Rules does not depend on what streams in.
    let streams =
        matches!(message, Message::Change(..) | Message::Event(..) | Message::Verdict(_) | Message::Delta { .. });
    let mut effects = take(s, message);
    if s.view == View::Rules && !streams {
        rules::look(s);
    }
    if !streams {
        effects.extend(clients::look(s));
    }
    effects
}

#[expect(clippy::too_many_lines, reason = "one arm per message")]
fn take(s: &mut State, message: Message) -> Vec<Effect> {
    match message {
        Message::Key(key) => return key_pressed(s, key),
        Message::Resized => {}
        Message::Mouse(event) => return mouse(s, event),
        Message::Tick(_) if s.recorded => {}
        Message::Tick(now) => return tick(s, now),
        Message::Asked(id, told) if people::told(s, id, &told) => {}
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
        // A repeated failure: keep the time of the first.
        Message::Place(i, ..) if matches!(s.places[i].link, Link::Down(..)) => {}
        Message::Place(i, at, Err(why)) => s.places[i].link = Link::Down(at, why),
        Message::Member(i, name, row) => {
            // An instance with its own connection is not judged by what others say.
            if row.is_some() || !s.places.iter().any(|p| p.name == name) || s.places[i].name == name {
                relay::instance(s, &name, row.as_deref());
                // What it says itself counts, where it is connected.
                let itself = s.places.iter().any(|p| p.name == name);
                match row.as_deref().filter(|_| !itself) {
                    Some(row) => {
                        s.charts.series.instance(s.now, row);
                        s.keep_of("instances", name, row.to_json());
                    }
                    None if !itself => s.charts.series.gone(&name),
                    None => {}
                }
            }
        }
        Message::RelayLink(name, row) => {
            match &row {
                Some(row) => {
                    s.charts.series.link(s.now, row);
                    s.keep_of("links", name.clone(), row.to_json());
                }
                None => s.charts.series.gone(&name),
            }
            relay::link(s, name, row.map(|row| *row));
        }
        Message::Client(place, number, row) => {
            if let Some(row) = row.as_ref().filter(|row| !row.operator) {
                s.keep("clients", place, row.to_json());
            }
            clients::told(s, place, number, row.map(|row| *row));
        }
        Message::OnlyClients(place, rows) => clients::told_all(s, place, rows),
        Message::Alarm(place, key, row) => {
            match &row {
                Some(row) => s.keep("alarms", place, row.to_json()),
                None => {
                    let row = json!({"instance": key.0, "kind": key.1, "about": key.2, "gone": true});
                    s.keep("alarms", place, row.as_object().cloned().unwrap_or_default());
                }
            }
            match row {
                Some(row) => drop(s.alarms.insert(key, *row)),
                None => drop(s.alarms.remove(&key)),
            }
        }
        Message::Came(place, row) => {
            s.keep("connections", place, row.to_json());
            clients::came(s, *row);
        }
        Message::ClientFrame(place, row) => clients::frame(s, place, &row),
        Message::Passing(place, row) => relay::passed(s, place, row),
        Message::Instance(i, row) => {
            s.places[i].name = row.name.clone();
            relay::instance(s, &row.name, Some(&row));
            if !s.recorded {
                s.charts.series.instance(s.now, &row);
                s.keep("instances", i, row.to_json());
            }
            s.places[i].info = *row;
        }
        Message::Change(place, row) => {
            flow::change(s, place, &row);
            s.keep("changes", place, row.to_json());
        }
        Message::Event(place, row) => {
            flow::event(s, place, &row);
            s.keep("events", place, row.to_json());
        }
        Message::Verdict(row) => {
            flow::verdict(s, &row);
            let place = s.place_named(&row.instance);
            s.keep("verdicts", place, row.to_json());
        }
        Message::Listening(id, at, rows) => flow::listening(s, id, at, rows),
        Message::WatcherLost(id, at, why) => flow::lost(s, id, at, why),
        Message::Refused(id, why) => flow::refused(s, id, why),
        Message::Delta { watcher, at, cursor, frame, rows } => flow::heard(s, watcher, at, cursor, frame, rows),
        Message::Snapshot(id, why, rows) => flow::shown(s, id, why, rows),
        Message::Current(id, position) => flow::current(s, id, &position),
        Message::Explained(line, watcher, steps) => {
            if let Ok(steps) = &steps {
                s.keep_steps(line, watcher, steps);
            }
            if let Some(why) = s.why.as_mut().filter(|w| w.line == line && w.watcher == watcher) {
                why.steps = Some(steps);
            }
        }
        Message::NotPublished(persona, topic, steps) => {
            s.overlay = Overlay::Refused(format!("Why {persona} may not publish to {topic}"), steps);
        }
        Message::Made(line, made) => return flow::was_made(s, line, made),
        Message::Repeated(text) => {
            s.repeating = false;
            s.notice = Some((s.now, text));
        }
        Message::Rule(number, row) => {
            let told = row.as_ref().map_or_else(
                || json!({"number": number, "gone": true}).as_object().cloned().unwrap_or_default(),
                SystemRow::to_json,
            );
            s.keep("rules", 0, told);
            rules::told(s, number, row);
        }
        Message::OnlyRules(rows) => {
            rows.iter().for_each(|row| s.keep("rules", 0, row.to_json()));
            rules::told_all(s, rows);
        }
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

fn tick(s: &mut State, now: Timestamp) -> Vec<Effect> {
    s.now = now;
    s.shown_rates = s.rates.now(now);
    s.troubles = alarms::all(s);
    s.sums.tick(now);
    sight::stop(s);
    if s.notice.as_ref().is_some_and(|(at, _)| now - at > 6_000_000) {
        s.notice = None;
    }
    let mut effects = ask::tick(s);
    effects.extend(tables::tick(s));
    effects.extend(people::tick(s));
    effects
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
    match s.overlay {
        Overlay::None if s.view == View::Ask && s.ask.editing => ask::edit(s, key),
        Overlay::None if s.view == View::Rules && s.rules.editing => rules::key(s, key),
        Overlay::None | Overlay::Journey { .. } => match keymap::find(key, s) {
            Some(action) => act(s, action),
            None => vec![],
        },
        _ => in_overlay(s, key),
    }
}

/// A key while something lies over the view.
fn in_overlay(s: &mut State, key: KeyEvent) -> Vec<Effect> {
    match s.overlay.clone() {
        Overlay::Form(_) => return in_form(s, key),
        Overlay::Instances(chosen) => return in_instances(s, key, chosen),
        Overlay::Frames(looking) => return frames::key(s, key, looking),
        Overlay::Who(at) => return ask::choose(s, key, at),
        Overlay::Palette(..) => return in_palette(s, key),
        Overlay::Proposal(proposal) => match key.code {
            KeyCode::Enter => {
                s.overlay = Overlay::None;
                return vec![Effect::CarryOut(proposal)];
            }
            KeyCode::Esc => s.overlay = Overlay::None,
            _ => {}
        },
        Overlay::Help(from) => s.overlay = in_help(s, key, from),
        Overlay::Alarms(from) => {
            let last = s.troubles.len().saturating_sub(1);
            s.overlay = match key.code {
                KeyCode::Down => Overlay::Alarms((from + 1).min(last)),
                KeyCode::Up => Overlay::Alarms(from.saturating_sub(1)),
                _ => Overlay::None,
            };
        }
        Overlay::Kinds(at) if s.view == View::Relay => relay::choose_kinds(s, key, at),
        Overlay::Kinds(at) => sight::choose_kinds(s, key, at),
        Overlay::StopAt(at) => sight::choose_stop(s, key, at),
        Overlay::Refused(..) => s.overlay = Overlay::None,
        Overlay::None | Overlay::Journey { .. } => {}
    }
    vec![]
}

fn in_help(s: &State, key: KeyEvent, from: usize) -> Overlay {
    let last = keymap::here(s).count().saturating_sub(1);
    match key.code {
        KeyCode::Down => Overlay::Help((from + 1).min(last)),
        KeyCode::PageDown => Overlay::Help((from + 10).min(last)),
        KeyCode::Up => Overlay::Help(from.saturating_sub(1)),
        KeyCode::PageUp => Overlay::Help(from.saturating_sub(10)),
        _ => Overlay::None,
    }
}

/// The wheel moves, a click selects. Overlays take keys only.
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
                    Click::Client(id) => s.clients.chosen = Some(id),
                }
            }
            return effects;
        }
        _ => {}
    }
    vec![]
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
        // An instance of another process: drained through any that is connected.
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
