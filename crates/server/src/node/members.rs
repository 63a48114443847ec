//! The other instances: which there are, how they stand, and who is where.
//!
//! Every instance says every second how it stands, and every few seconds who is present at it; changes of that it says
//! at once. Whoever is silent for a while is gone, with all that were present there. Nothing of this is kept anywhere:
//! an instance that starts knows the others after a second or two.

use std::collections::{BTreeMap, HashMap};
use std::ops::RangeInclusive;

use gossip_core::anti_entropy::Alike;
use gossip_core::position::Micros;
use gossip_core::presence::{MAX_PEOPLE, Moved, Presence, Told, Where};
use gossip_core::schema::{ColumnSet, PRESENCE, Row, TableName};
use gossip_core::value::Value;
use gossip_protocol::system::{AlarmRow, InstanceRow, LinkRow, Moment, PresenceRow, SystemRow, TopicRow};
use gossip_protocol::timestamp::rfc3339;
use gossip_protocol::{CloudEvent, RpcError, code, message};
use gossip_relay::event;
use serde_json::{Map, Value as Json, json};

use super::Node;
use crate::now;
use crate::system::values;

/// How an instance stands; who is present at it, all or what changed.
pub(super) const STANDS: &str = "gossip.instance.v1";
const PEOPLE: &str = "gossip.presence.v1";

/// Silence after which an instance is gone.
pub const GONE_AFTER: Micros = 4_000_000;

/// After so many seconds it is said again who is present.
const PEOPLE_EVERY: u64 = 2;

/// Other instances that are known at a time.
const MAX_MEMBERS: usize = 1_000;

/// Alarms that one instance tells the others.
const MAX_ALARMS: usize = 20;

/// Places of one client, bytes of a place's name and of what somebody says of themselves there.
const MAX_PLACES: usize = 100;
const MAX_PLACE: usize = 200;
const MAX_DATA: usize = 4 * 1024;

/// Another instance.
struct Member {
    run: u64,
    heard: Micros,
    instance: InstanceRow,
    link: LinkRow,
    topics: Vec<TopicRow>,
    alarms: Vec<AlarmRow>,
    /// The versions of the relay's format that it reads.
    reads: RangeInclusive<u32>,
}

/// Who is there.
pub(super) struct Members {
    others: BTreeMap<String, Member>,
    presence: Presence,
    alike: Alike,
    places: HashMap<u64, usize>,
    seconds: u64,
    /// How long the last message to all took to come back.
    pub(super) round_trip: Option<Micros>,
    warned: bool,
    /// It has said that it stops.
    leaving: bool,
    /// Somebody reads no version that all others read.
    at_odds: bool,
}

impl Members {
    pub(super) fn new() -> Members {
        Members {
            others: BTreeMap::new(),
            presence: Presence::new(now().unsigned_abs()),
            alike: Alike::default(),
            places: HashMap::new(),
            seconds: 0,
            round_trip: None,
            warned: false,
            leaving: false,
            at_odds: false,
        }
    }

    /// Whether there is an instance of this name, other than this one.
    pub(super) fn has(&self, name: &str) -> bool {
        self.others.contains_key(name)
    }

    /// The names of the others.
    pub(super) fn names(&self) -> impl Iterator<Item = &str> {
        self.others.keys().map(String::as_str)
    }

    /// How the others stand, for one of the system tables.
    pub(super) fn instances(&self) -> impl Iterator<Item = InstanceRow> + '_ {
        self.others.values().map(|m| m.instance.clone())
    }

    pub(super) fn links(&self) -> impl Iterator<Item = LinkRow> + '_ {
        self.others.values().map(|m| m.link.clone())
    }

    pub(super) fn topics(&self) -> impl Iterator<Item = TopicRow> + '_ {
        self.others.values().flat_map(|m| m.topics.iter().cloned())
    }

    pub(super) fn alarms(&self) -> impl Iterator<Item = AlarmRow> + '_ {
        self.others.values().flat_map(|m| m.alarms.iter().cloned())
    }
}

/// A row as another instance has told it; `None` if it does not fit.
fn row<R: SystemRow>(told: &Json) -> Option<R> {
    R::read(told.as_object()?).ok()
}

fn rows<R: SystemRow>(told: &Json, most: usize) -> Vec<R> {
    told.as_array().into_iter().flatten().take(most).filter_map(row).collect()
}

/// The place of a column in the rows that presence keeps.
fn column(name: &str) -> usize {
    PresenceRow::SHAPE.column(name).unwrap_or_default()
}

/// What somebody says themselves when they come to a place; all else an instance knows.
fn chosen() -> ColumnSet {
    [column("place"), column("data")].into_iter().collect()
}

/// Somebody who is present, as other instances are told.
fn person_json(row: &Row) -> Json {
    let named = PresenceRow::SHAPE.columns.iter().zip(row.iter());
    named.map(|((name, _), value)| (name.to_string(), value.to_json())).collect::<Map<_, _>>().into()
}

impl Node {
    /// Says how this instance stands; every second.
    pub(super) fn tell_how_it_stands(
        &mut self,
        instance: &InstanceRow,
        link: &LinkRow,
        topics: &[TopicRow],
        alarms: &[AlarmRow],
    ) {
        if self.members.leaving {
            return;
        }
        let topics: Vec<_> = topics.iter().map(SystemRow::to_json).collect();
        let alarms: Vec<_> = alarms.iter().take(MAX_ALARMS).map(SystemRow::to_json).collect();
        let mut digests = BTreeMap::new();
        for (name, state, _) in self.topics.iter() {
            self.members.alike.tell(name, state.digest());
            digests.insert(name, state.digest().to_string());
        }
        let data = json!({
            "run": self.members.presence.run(), "sent": now(),
            "instance": instance.to_json(), "link": link.to_json(),
            "topics": topics, "alarms": alarms, "digests": digests, "reads": [event::READS.start(), event::READS.end()],
        });
        self.tell_members(STANDS, data);
        self.members.seconds += 1;
        if self.members.seconds.is_multiple_of(PEOPLE_EVERY) {
            for told in self.members.presence.round() {
                self.tell_people(&told);
            }
        }
        self.let_members_go();
        match event::spoken(self.members.others.values().map(|m| m.reads.clone())) {
            Some(version) => {
                self.members.at_odds = false;
                self.start.relay.speak(version);
            }
            None if std::mem::replace(&mut self.members.at_odds, true) => {}
            None => tracing::error!(
                "there is no version of the relay's format that all instances read; replace the oldest of them"
            ),
        }
    }

    fn tell_people(&self, told: &Told) {
        let one = |(at, row): &(Where, Option<Row>)| match row {
            Some(row) => person_json(row),
            None => json!({"place": &*at.0, "client": at.1, "gone": true}),
        };
        let people: Vec<Json> = told.people.iter().map(one).collect();
        let mut data = json!({"run": told.run, "number": told.number, "people": people});
        if let Some((index, of)) = told.share {
            data["index"] = index.into();
            data["of"] = of.into();
        }
        self.tell_members(PEOPLE, data);
    }

    fn let_members_go(&mut self) {
        let time = now();
        let silent = |m: &Member| time - m.heard > GONE_AFTER;
        let gone: Vec<String> =
            self.members.others.iter().filter(|(_, m)| silent(m)).map(|(name, _)| name.clone()).collect();
        for name in gone {
            tracing::warn!("instance {name} is silent; it counts as gone");
            self.forget_member(&name);
        }
    }

    /// An instance is gone, and whoever was present there.
    fn forget_member(&mut self, name: &str) {
        self.members.others.remove(name);
        self.members.alike.forget(name);
        let moved = self.members.presence.forget(name);
        self.moved(moved);
    }

    /// Shows who has come and gone.
    fn moved(&mut self, moved: Vec<Moved>) {
        for one in moved {
            match one {
                Moved::Came(row) => self.system.put(PRESENCE, row),
                Moved::Went(row) => self.system.remove(PRESENCE, &row),
            }
        }
        self.flush_system();
    }

    /// Takes what another instance says.
    pub(super) fn told_of_member(&mut self, event: &CloudEvent) {
        if self.told_history(event) || self.told_call(event) {
            return;
        }
        let Some(name) = event.source.strip_prefix("/gossip/").map(String::from) else { return };
        let Some(run) = event.data["run"].as_u64() else { return };
        if name == self.start.name {
            if run == self.members.presence.run() {
                let sent = event.data["sent"].as_i64();
                self.members.round_trip = sent.map(|sent| now() - sent).or(self.members.round_trip);
            } else if !std::mem::replace(&mut self.members.warned, true) {
                tracing::warn!(
                    "another instance is called {name} as well; give each a name of its own (instance.name)"
                );
            }
            return;
        }
        match event.kind.as_str() {
            STANDS => self.told_how_it_stands(name, run, &event.data),
            PEOPLE => self.told_people(&name, run, &event.data),
            _ => {}
        }
    }

    fn told_how_it_stands(&mut self, name: String, run: u64, data: &Json) {
        if data["leaves"] == Json::Bool(true) {
            if self.members.others.get(&name).is_some_and(|m| m.run == run) {
                self.forget_member(&name);
            }
            return;
        }
        let (Some(instance), Some(link)) = (row(&data["instance"]), row(&data["link"])) else { return };
        // It said so of itself.
        let instance = InstanceRow { here: false, ..instance };
        let topics = rows(&data["topics"], usize::MAX);
        let alarms = rows(&data["alarms"], MAX_ALARMS).into_iter().filter(|a: &AlarmRow| a.instance == name).collect();
        if instance.name != name {
            return;
        }
        match self.members.others.get(&name) {
            // One that has been started anew since.
            Some(m) if m.run > run => return,
            None if self.members.others.len() >= MAX_MEMBERS => return,
            Some(m) if m.run < run => {
                // Nobody is there any more who was.
                self.forget_member(&name);
            }
            _ => {}
        }
        let mut lacking = Vec::new();
        for (topic, digest) in data["digests"].as_object().into_iter().flatten() {
            let digest = digest.as_str().and_then(|d| d.parse().ok());
            if digest.is_some_and(|digest| self.members.alike.hear(&name, topic, digest, now())) {
                lacking.push(topic.clone());
            }
        }
        self.ask_history_of(&name, &lacking);
        let reads = |i: usize| data["reads"][i].as_u64().and_then(|v| u32::try_from(v).ok()).unwrap_or(1);
        let reads = reads(0)..=reads(1);
        self.members.others.insert(name, Member { run, heard: now(), instance, link, topics, alarms, reads });
    }

    fn told_people(&mut self, name: &str, run: u64, data: &Json) {
        // Only of those who count as being there: who is gone takes everybody along.
        if self.members.others.get(name).is_none_or(|m| m.run != run) {
            return;
        }
        let mut people = Vec::new();
        for one in data["people"].as_array().into_iter().flatten().filter_map(Json::as_object) {
            if one.get("gone") == Some(&Json::Bool(true)) {
                let (Some(place), Some(client)) =
                    (one.get("place").and_then(Json::as_str), one.get("client").and_then(Json::as_u64))
                else {
                    return;
                };
                people.push(((place.into(), client), None));
                continue;
            }
            let Some(row) = PresenceRow::read(one).ok().filter(|r| r.instance == name) else { return };
            people.push(((row.place.as_str().into(), row.client), Some(values(row))));
        }
        let number = |of: &str| data[of].as_u64().and_then(|n| usize::try_from(n).ok());
        let share = number("index").zip(number("of"));
        let told = Told { run, number: data["number"].as_u64().unwrap_or_default(), share, people };
        let moved = self.members.presence.hear(name, told);
        self.moved(moved);
    }

    /// Somebody comes to a place, or says something else there.
    pub(super) fn join(&mut self, client: u64, place: String, data: Json) -> Result<Json, RpcError> {
        let Some((c, _)) = self.clients.get(&client) else { return Ok(json!({})) };
        let claims = c.claims.lock().clone();
        let refused = || RpcError::new(code::NOT_KNOWN, "this place is not known or not permitted");
        let table = self.engine.catalog().get(&TableName::system(PRESENCE)).cloned().ok_or_else(refused)?;
        let limit =
            |what: &str, most: usize| RpcError::new(code::LIMIT, format!("limit reached: {what}, at most {most}"));
        if place.is_empty() || place.len() > MAX_PLACE {
            return Err(RpcError::new(code::INVALID_PARAMS, format!("place: expected 1 to {MAX_PLACE} bytes")));
        }
        if data.to_string().len() > MAX_DATA {
            return Err(limit("bytes of data", MAX_DATA));
        }
        let at: Where = (place.as_str().into(), client);
        let since = self
            .members
            .presence
            .own()
            .get(&at)
            .and_then(|row| row[column("since")].to_json().as_str().map(String::from));
        let row = values(PresenceRow {
            place,
            instance: self.start.name.clone(),
            client,
            subject: claims.subject().map(String::from),
            data,
            since: Moment(since.unwrap_or_else(|| rfc3339(now()))),
        });
        let chosen = chosen();
        if !self.engine.rules().may_publish(&table, &row, &chosen, &claims, self.engine.catalog()) {
            return Err(refused());
        }
        if !self.members.presence.own().contains_key(&at) {
            if self.members.presence.own().len() >= MAX_PEOPLE {
                return Err(limit("people at one instance", MAX_PEOPLE));
            }
            let places = self.members.places.entry(client).or_default();
            if *places >= MAX_PLACES {
                return Err(limit("places of one client", MAX_PLACES));
            }
            *places += 1;
        }
        let told = self.members.presence.join(at, row.clone());
        self.tell_people(&told);
        self.system.put(PRESENCE, row);
        self.flush_system();
        Ok(json!({}))
    }

    /// Somebody leaves a place.
    pub(super) fn leave(&mut self, client: u64, place: &str) -> Result<Json, RpcError> {
        if !self.gone(&(place.into(), client)) {
            let shown: String = place.chars().take(60).collect();
            return Err(RpcError::new(code::UNKNOWN_NAME, format!("this connection has not joined {shown}")));
        }
        self.flush_system();
        Ok(json!({}))
    }

    /// A client has gone, from wherever it was.
    pub(super) fn leave_everywhere(&mut self, client: u64) {
        if self.members.places.remove(&client).is_none() {
            return;
        }
        let own = self.members.presence.own();
        let places: Vec<Where> = own.keys().filter(|(_, c)| *c == client).cloned().collect();
        for at in places {
            self.gone(&at);
        }
        self.flush_system();
    }

    /// Whoever may not be where it is any more, under the rules and claims of now, leaves. Of one client, or of all.
    pub(super) fn leave_where_not_permitted(&mut self, of: Option<u64>) {
        let Some(table) = self.engine.catalog().get(&TableName::system(PRESENCE)).cloned() else { return };
        let (chosen, subject) = (chosen(), column("subject"));
        let mut leaving = Vec::new();
        for (at, row) in self.members.presence.own().iter().filter(|((_, c), _)| of.is_none_or(|of| of == *c)) {
            let claims = self.clients.get(&at.1).map(|(c, _)| c.claims.lock().clone());
            let may = claims.is_some_and(|claims| {
                // Under another name it would have to come anew.
                let named = claims.subject().map_or(Value::Null, Value::from) == row[subject];
                named && self.engine.rules().may_publish(&table, row, &chosen, &claims, self.engine.catalog())
            });
            if !may {
                leaving.push(at.clone());
            }
        }
        if leaving.is_empty() {
            return;
        }
        for at in &leaving {
            self.gone(at);
        }
        self.flush_system();
    }

    /// Whether somebody was there who is not any more.
    fn gone(&mut self, at: &Where) -> bool {
        let Some((row, told)) = self.members.presence.leave(at) else { return false };
        if let Some(places) = self.members.places.get_mut(&at.1) {
            *places = places.saturating_sub(1);
        }
        self.system.remove(PRESENCE, &row);
        self.tell_people(&told);
        true
    }

    /// This instance stops: whoever was present at it is not any more, and the others need not wait for it.
    pub(super) fn take_leave(&mut self) {
        let told = self.members.presence.leave_all();
        self.tell_people(&told);
        self.tell_members(STANDS, json!({"run": self.members.presence.run(), "leaves": true}));
        self.members.leaving = true;
    }

    /// What somebody asks of a place is answered at once.
    pub(super) fn presence(&mut self, client: u64, call: &Json, outcome: Result<Json, RpcError>) {
        let Some((client, _)) = self.clients.get(&client) else { return };
        client.outbox.say(&outcome.map_or_else(|e| message::refuse(call, &e), |done| message::reply(call, done)));
        self.writers.due(client);
    }
}
