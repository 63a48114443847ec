//! A recording, looked at: its events go the same way as those of instances, and time stands where it ends.

use std::collections::HashMap;

use serde_json::{Map, Value as Json};

use super::Access;
use super::message::Message;
use super::state::{Link, PlaceState, State, WatcherId};
use super::theme::Theme;
use super::update::{add_watcher, update};
use crate::recording::Event;
use gossip_server::config::Persona;

/// The state after all events.
pub fn state(events: Vec<Event>, title: String, theme: Theme) -> State {
    let (first, last) = (events.first().map_or(0, |e| e.at), events.last().map_or(0, |e| e.at));
    let mut s = State::new(&Access { title, ..Access::default() }, theme, last);
    s.recorded = true;
    let mut watchers: HashMap<String, WatcherId> = HashMap::new();
    for event in events {
        let place = place(&mut s, &event.instance, first);
        match event.table {
            "instances" => drop(update(&mut s, Message::Instance(place, event.row))),
            "tables" => {
                let name = text(&event.row, "name");
                update(&mut s, Message::Table(name, Some(event.row)));
            }
            "changes" => drop(update(&mut s, Message::Change(place, event.row))),
            "clients" => {
                let listed: Vec<Json> = serde_json::from_str(&text(&event.row, "subscriptions")).unwrap_or_default();
                for listed in listed {
                    let Some(label) = listed["observed"].as_str() else { continue };
                    let id = watcher(&mut s, &mut watchers, label, place);
                    if let Some(w) = s.watcher_mut(id) {
                        let subject = text(&event.row, "subject");
                        w.persona = if subject.is_empty() { "Anyone".into() } else { subject };
                        w.role = text(&event.row, "roles").split(", ").next().unwrap_or("").into();
                        w.query = listed["query"].as_str().unwrap_or("").into();
                    }
                }
            }
            _ => {
                let mut row = event.row;
                let id = watcher(&mut s, &mut watchers, &text(&row, "label"), place);
                row.insert("label".into(), format!("recorded-{id}").into());
                update(&mut s, Message::Verdict(row));
            }
        }
    }
    s
}

fn text(row: &Map<String, Json>, name: &str) -> String {
    row.get(name).and_then(Json::as_str).unwrap_or("").to_string()
}

fn place(s: &mut State, instance: &str, since: i64) -> usize {
    let known = s.places.iter().position(|p| p.name == instance);
    known.unwrap_or_else(|| {
        let (name, url, link) = (instance.to_string(), String::new(), Link::Up(since));
        s.places.push(PlaceState { name, url, link, info: Map::new() });
        s.places.len() - 1
    })
}

fn watcher(s: &mut State, known: &mut HashMap<String, WatcherId>, label: &str, place: usize) -> WatcherId {
    if let Some(id) = known.get(label) {
        return *id;
    }
    let name = format!("watcher {}", known.len() + 1);
    s.personas.insert(name.clone(), Persona::default());
    // What would be done to let it listen is not done: it has listened.
    add_watcher(s, &name, "", place);
    s.personas.clear();
    let id = s.watchers.last_mut().map_or(0, |w| {
        w.link = Link::Up(0);
        w.id
    });
    known.insert(label.to_string(), id);
    id
}
