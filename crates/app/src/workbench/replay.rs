//! Opens a recording: its events are processed like those of instances, and the clock stops at its end.

use std::collections::HashMap;

use gossip_protocol::system::{ClientRow, InstanceRow, SystemRow, TableRow, VerdictRow};

use crate::personas::Persona;
use crate::recording::Event;
use crate::workbench::access::Access;
use crate::workbench::ids::WatcherId;
use crate::workbench::message::Message;
use crate::workbench::state::{Link, PlaceState, State};
use crate::workbench::theme::Theme;
use crate::workbench::update::update;
use crate::workbench::watchers::add_watcher;

/// The state after all events.
pub fn state(events: Vec<Event>, title: String, theme: Theme) -> State {
    let (first, last) = (events.first().map_or(0, |e| e.at), events.last().map_or(0, |e| e.at));
    let mut s = State::new(&Access { title, ..Access::default() }, theme, last);
    s.recorded = true;
    let mut watchers: HashMap<String, WatcherId> = HashMap::new();
    for event in events {
        let place = place(&mut s, &event.instance, first);
        match event.table {
            "instances" => drop(update(&mut s, Message::Instance(place, Box::new(read(&event))))),
            "tables" => {
                let row: TableRow = read(&event);
                update(&mut s, Message::Table(row.name.clone(), Some(Box::new(row))));
            }
            "changes" => drop(update(&mut s, Message::Change(place, Box::new(read(&event))))),
            "clients" => {
                let row: ClientRow = read(&event);
                for listed in row.subscriptions.0 {
                    let Some(label) = &listed.observed else { continue };
                    let id = watcher(&mut s, &mut watchers, label, place);
                    if let Some(w) = s.watcher_mut(id) {
                        w.persona = row.subject.clone().unwrap_or_else(|| "Anyone".into());
                        w.role = row.roles.split(", ").next().unwrap_or("").into();
                        w.query = listed.query;
                    }
                }
            }
            _ => {
                let mut row: VerdictRow = read(&event);
                let id = watcher(&mut s, &mut watchers, &row.label, place);
                row.label = format!("recorded-{id}");
                update(&mut s, Message::Verdict(Box::new(row)));
            }
        }
    }
    s
}

/// A row of a recording. Invalid fields are ignored: the file may have been edited.
fn read<R: SystemRow + Default>(event: &Event) -> R {
    R::read(&event.row).unwrap_or_default()
}

fn place(s: &mut State, instance: &str, since: i64) -> usize {
    let known = s.places.iter().position(|p| p.name == instance);
    known.unwrap_or_else(|| {
        let (name, url, link) = (instance.to_string(), String::new(), Link::Up(since));
        s.places.push(PlaceState { name, url, link, info: InstanceRow::default() });
        s.places.len() - 1
    })
}

fn watcher(s: &mut State, known: &mut HashMap<String, WatcherId>, label: &str, place: usize) -> WatcherId {
    if let Some(id) = known.get(label) {
        return *id;
    }
    let name = format!("watcher {}", known.len() + 1);
    s.personas.insert(name.clone(), Persona::default());
    // The effects are dropped: nothing is connected.
    add_watcher(s, &name, "", place);
    s.personas.clear();
    let id = s.watchers.last_mut().map_or(0, |w| {
        w.link = Link::Up(0);
        w.id
    });
    known.insert(label.to_string(), id);
    id
}
