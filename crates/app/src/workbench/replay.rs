//! Opens and plays a recording: its events are processed like those of instances, by the recording's clock.

use std::collections::HashMap;

use gossip_core::query::queried_table;
use gossip_core::rule::ANONYMOUS;
use gossip_protocol::system::{AlarmRow, ClientRow, InstanceRow, LinkRow, RuleRow, SystemRow, TableRow, VerdictRow};

use crate::incident::findings::Explanation;
use crate::personas::Persona;
use crate::recording::{EXPLANATIONS, Event};
use crate::workbench::access::Access;
use crate::workbench::alarms;
use crate::workbench::ids::{Micros, Timestamp, WatcherId};
use crate::workbench::line::At;
use crate::workbench::message::Message;
use crate::workbench::player::{Player, SPEEDS};
use crate::workbench::state::{Link, PlaceState, State};
use crate::workbench::theme::Theme;
use crate::workbench::update::update;
use crate::workbench::views::clients::update as clients;
use crate::workbench::views::relay::update as relay;
use crate::workbench::watchers::add_watcher;

/// Who has no name.
const NOBODY: &str = "Anyone";

/// The state after all events.
pub fn state(events: Vec<Event>, title: String, theme: Theme) -> State {
    let mut s = begin(Player::new(events), title, theme);
    let end = s.player.as_ref().and_then(|player| player.events.last()).map_or(0, |event| event.at);
    advance(&mut s, end, usize::MAX);
    s
}

/// The state before the first event.
fn begin(player: Player, title: String, theme: Theme) -> State {
    let mut s = State::new(&Access { title, ..Access::default() }, theme, player.clock);
    (s.recorded, s.player) = (true, Some(player));
    s
}

/// Plays what is due by our clock.
pub fn play(s: &mut State, now: Timestamp) {
    let Some(player) = s.player.as_mut() else { return };
    let passed = now - player.looked.replace(now).unwrap_or(now);
    if player.rewind {
        let (playing, speed, steps) = (player.playing, player.speed, player.steps);
        let player =
            Player { playing, speed, steps, looked: Some(now), ..Player::new(std::mem::take(&mut player.events)) };
        let mut fresh = begin(player, s.title.clone(), s.theme);
        (fresh.view, fresh.filter) = (s.view, std::mem::take(&mut s.filter));
        *s = fresh;
        return;
    }
    let steps = std::mem::take(&mut player.steps);
    let (playing, speed, clock) = (player.playing, SPEEDS[player.speed.min(SPEEDS.len() - 1)], player.clock);
    if steps > 0 {
        advance(s, Timestamp::MAX, steps);
    }
    if playing {
        advance(s, clock + (passed as f64 * speed) as Micros, usize::MAX);
    }
}

/// Applies events up to a time of the recording, or until so many transactions have been applied.
fn advance(s: &mut State, until: Timestamp, transactions: usize) {
    let first = s.player.as_ref().and_then(|player| player.events.first()).map_or(0, |event| event.at);
    let mut left = transactions;
    while left > 0 {
        let Some(player) = s.player.as_mut() else { return };
        let Some(event) = player.events.get(player.applied).filter(|event| event.at <= until).cloned() else { break };
        player.applied += 1;
        player.clock = player.clock.max(event.at);
        s.now = s.now.max(event.at);
        left -= usize::from(matches!(event.table, "changes" | "events"));
        let mut watchers = std::mem::take(&mut player.watchers);
        let place = place(s, &event.instance, first);
        s.charts.series.event(&event);
        apply(s, &mut watchers, event, place);
        if let Some(player) = s.player.as_mut() {
            player.watchers = watchers;
        }
    }
    if let Some(player) = s.player.as_mut() {
        if until < Timestamp::MAX {
            player.clock = player.clock.max(until);
        }
        player.playing &= !player.is_over();
        s.now = s.now.max(player.clock);
    }
    s.troubles = alarms::all(s);
}

/// What an event says.
fn apply(s: &mut State, watchers: &mut HashMap<String, WatcherId>, event: Event, place: usize) {
    if event.row.get("gone") == Some(&true.into()) {
        return gone(s, &event, place);
    }
    match event.table {
        EXPLANATIONS => {
            if let Some(told) = Explanation::read(&event.row)
                && let Some(at) = At::reported(&told.position, &event.instance)
            {
                let id = watcher(s, watchers, &told.label, place);
                s.explained.insert((at, id), told.steps);
            }
        }
        "rules" => {
            let row: RuleRow = read(&event);
            update(s, Message::Rule(row.number, Some(row)));
        }
        "alarms" => {
            let row: AlarmRow = read(&event);
            s.alarms.insert((row.instance.clone(), row.kind.clone(), row.about.clone()), row);
        }
        "links" => {
            let row: LinkRow = read(&event);
            relay::link(s, row.instance.clone(), Some(row));
        }
        "connections" => clients::came(s, read(&event)),
        "instances" => drop(update(s, Message::Instance(place, Box::new(read(&event))))),
        "tables" => {
            let row: TableRow = read(&event);
            update(s, Message::Table(row.name.clone(), Some(Box::new(row))));
        }
        "changes" => drop(update(s, Message::Change(place, Box::new(read(&event))))),
        "events" => drop(update(s, Message::Event(place, Box::new(read(&event))))),
        "clients" => {
            let row: ClientRow = read(&event);
            clients::told(s, place, row.id, Some(row.clone()));
            for listed in row.subscriptions.0 {
                let Some(label) = &listed.observed else { continue };
                if let Some(claims) = listed.claims {
                    let named = |role: &&str| !role.is_empty() && *role != ANONYMOUS;
                    let roles = row.roles.split(", ").filter(named).map(String::from).collect();
                    let name = row.subject.clone().unwrap_or_else(|| NOBODY.into());
                    s.personas.insert(name, Persona { roles, claims });
                }
                let id = watcher(s, watchers, label, place);
                if let Some(w) = s.watcher_mut(id) {
                    w.persona = row.subject.clone().unwrap_or_else(|| NOBODY.into());
                    w.role = row.roles.split(", ").next().unwrap_or("").into();
                    w.table = queried_table(&listed.query).map(|name| name.to_string()).unwrap_or_default();
                    w.query = listed.query;
                }
            }
        }
        _ => {
            let mut row: VerdictRow = read(&event);
            let id = watcher(s, watchers, &row.label, place);
            row.label = format!("recorded-{id}");
            update(s, Message::Verdict(Box::new(row)));
        }
    }
}

/// A row that was there no more.
fn gone(s: &mut State, event: &Event, place: usize) {
    match event.table {
        "clients" => clients::told(s, place, read::<ClientRow>(event).id, None),
        "rules" => drop(update(s, Message::Rule(read::<RuleRow>(event).number, None))),
        "alarms" => {
            let row: AlarmRow = read(event);
            s.alarms.remove(&(row.instance, row.kind, row.about));
        }
        "links" => relay::link(s, read::<LinkRow>(event).instance, None),
        _ => {}
    }
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
    s.personas.remove(&name);
    let id = s.watchers.last_mut().map_or(0, |w| {
        w.link = Link::Up(0);
        w.id
    });
    known.insert(label.to_string(), id);
    id
}
