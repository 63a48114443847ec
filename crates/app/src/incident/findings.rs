//! What happened that somebody should know, and its cause, out of operators' events.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use gossip_core::explain::{Passed, Step};
use gossip_protocol::system::{
    AlarmRow, ClientRow, ConnectionRow, InstanceRow, LinkRow, RuleRow, SystemRow, VerdictRow,
};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json};

use crate::recording::Event;
use crate::workbench::ids::{Micros, Timestamp};
use crate::workbench::words::{counted, span, time};

/// A finding of one kind about one thing ends when it has not been seen for so long.
const APART: Micros = 5_000_000;

/// Rules that arrive within this time of each other were changed at once.
const AT_ONCE: Micros = 1_500_000;

/// An instance that is behind by more than this is found to be.
const BEHIND_MS: u64 = 2_000;

/// Bytes that wait for a client that is found to be slow.
const SLOW_BYTES: u64 = 64 * 1024;

/// Findings that are kept; further ones are counted.
const MOST: usize = 500;

/// Different causes that are told of one finding.
const CAUSES: usize = 4;

/// Why a transaction did or did not reach an observed client, asked while it was recorded.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Explanation {
    /// The transaction, as `source:position`.
    pub position: String,
    /// The subscription's label.
    pub label: String,
    /// The steps.
    pub steps: Vec<Step>,
}

impl Explanation {
    /// Reads the row of an event.
    pub fn read(row: &Map<String, Json>) -> Option<Explanation> {
        serde_json::from_value(Json::Object(row.clone())).ok()
    }
}

/// Something that happened.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// From when on.
    pub from: Timestamp,
    /// Until when; the same for what happened at once, `None` if it had not ended.
    pub to: Option<Timestamp>,
    /// What.
    pub what: String,
    /// Why, and what is known of it.
    pub causes: Vec<String>,
}

/// What a finding is about, so that what goes on is one finding.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum About {
    CutOff(String),
    Silent(String),
    Behind(String),
    Lost(String),
    Slow(String, u64),
    Alarm(String, String, String),
    Withheld(String, String),
}

#[derive(Clone, Debug)]
struct Open {
    from: Timestamp,
    seen: Timestamp,
    ended: Option<Timestamp>,
    count: u64,
    most: u64,
    causes: BTreeMap<String, u64>,
}

/// A rule without its number.
type Rule = String;

/// Reads events one after the other.
#[derive(Default)]
pub struct Findings {
    /// When the first event was.
    begin: Timestamp,
    open: BTreeMap<About, Open>,
    done: Vec<Finding>,
    left_out: usize,
    links: HashMap<String, LinkRow>,
    instances: BTreeMap<String, InstanceRow>,
    clients: HashMap<(String, u64), ClientRow>,
    rules: BTreeMap<u64, Rule>,
    /// The rules as they were before a change that is still going on, and when it was seen last.
    before: Option<(Vec<Rule>, Timestamp, Timestamp)>,
    /// Who stands behind a label.
    who: HashMap<String, String>,
    /// Withheld verdicts that have not been explained yet.
    unexplained: BTreeMap<(String, String), Timestamp>,
}

impl Findings {
    /// Everything that events tell, in the order in which it began.
    pub fn of(events: &[Event]) -> (Vec<Finding>, usize) {
        let mut f = Findings { begin: events.first().map_or(0, |event| event.at), ..Findings::default() };
        // Who is who, first: a verdict may come before its client is told of.
        for event in events.iter().filter(|e| e.table == "clients") {
            f.name(&read(event));
        }
        events.iter().for_each(|event| f.event(event));
        f.finish()
    }

    /// The instances as they were told of last.
    pub fn instances(events: &[Event]) -> Vec<InstanceRow> {
        let mut last: BTreeMap<String, InstanceRow> = BTreeMap::new();
        for event in events.iter().filter(|e| e.table == "instances") {
            let row: InstanceRow = read(event);
            last.insert(row.name.clone(), row);
        }
        last.into_values().collect()
    }

    fn event(&mut self, event: &Event) {
        let at = event.at;
        let gone = event.row.get("gone") == Some(&Json::Bool(true));
        match event.table {
            "links" if !gone => self.link(at, read(event)),
            "instances" if gone => {
                let name = read::<InstanceRow>(event).name;
                self.see(About::Silent(name), at).causes.insert("it ended, or its messages did not come".into(), 1);
            }
            "instances" => self.instance(at, read(event)),
            "clients" if gone => self.client_gone(at, &event.instance, &read(event)),
            "clients" => self.client(at, &event.instance, read(event)),
            "connections" => self.connection(&read(event)),
            "alarms" => self.alarm(at, &read(event), gone),
            "rules" => self.rule(at, &read(event), gone),
            "verdicts" => self.verdict(&read(event)),
            "explanations" => {
                if let Some(told) = Explanation::read(&event.row) {
                    self.explained(&told);
                }
            }
            _ => {}
        }
        self.rules_settled(at);
    }

    fn see(&mut self, about: About, at: Timestamp) -> &mut Open {
        if self.open.get(&about).is_some_and(|o| o.ended.is_some() && at.saturating_sub(o.seen) > APART)
            && let Some(over) = self.open.remove(&about)
        {
            self.close(&about, over);
        }
        let new = || Open { from: at, seen: at, ended: None, count: 0, most: 0, causes: BTreeMap::new() };
        let open = self.open.entry(about).or_insert_with(new);
        (open.from, open.seen, open.ended) = (open.from.min(at), open.seen.max(at), None);
        open
    }

    fn end(&mut self, about: &About, at: Timestamp) {
        if let Some(open) = self.open.get_mut(about).filter(|open| open.ended.is_none()) {
            open.seen = open.seen.max(at);
            open.ended = Some(at);
        }
    }

    fn link(&mut self, at: Timestamp, row: LinkRow) {
        let before = self.links.get(&row.instance).cloned();
        let about = About::CutOff(row.instance.clone());
        if !row.connected {
            self.see(about, at).causes.insert(format!("its connection to the relay ({}) was lost", row.kind), 1);
        } else if before.as_ref().is_some_and(|b| !b.connected) {
            self.end(&about, at);
        }
        let lost = before.map_or(0, |b| row.lost.saturating_sub(b.lost));
        if lost > 0 {
            let about = About::Lost(row.instance.clone());
            let open = self.see(about.clone(), at);
            open.count = open.count.saturating_add(lost);
            self.end(&about, at);
        }
        self.links.insert(row.instance.clone(), row);
    }

    fn instance(&mut self, at: Timestamp, row: InstanceRow) {
        self.end(&About::Silent(row.name.clone()), at);
        let about = About::Behind(row.name.clone());
        if row.behind_ms >= BEHIND_MS {
            let open = self.see(about, at);
            open.most = open.most.max(row.behind_ms);
            open.causes.insert(format!("its reading of the source: {}", row.state), 1);
        } else if self.open.contains_key(&about) {
            self.end(&about, at);
        }
        let before = self.instances.values().find(|i| i.reads).map(|i| i.name.clone());
        if row.reads
            && let Some(before) = before.filter(|name| *name != row.name)
        {
            let causes = vec![format!("reader number {} since the source was first read", row.epoch)];
            self.push(Finding {
                from: at,
                to: Some(at),
                what: format!("{} reads the source, in place of {before}", row.name),
                causes,
            });
            self.instances.values_mut().for_each(|i| i.reads = false);
        }
        self.instances.insert(row.name.clone(), row);
    }

    fn name(&mut self, row: &ClientRow) {
        let who = row.subject.clone().unwrap_or_else(|| "anyone".into());
        let named = if row.roles.is_empty() { who } else { format!("{who} ({})", row.roles) };
        for observed in row.subscriptions.0.iter().filter_map(|s| s.observed.as_ref()) {
            self.who.insert(observed.clone(), named.clone());
        }
    }

    fn client(&mut self, at: Timestamp, instance: &str, row: ClientRow) {
        self.name(&row);
        let key = (instance.to_string(), row.id);
        // What happened to a client before the first event is not of this time; who came since began with nothing.
        let unknown = if at.saturating_sub(self.begin) > AT_ONCE { 0 } else { row.caught_up };
        let before = self.clients.get(&key).map_or(unknown, |b| b.caught_up);
        let (caught_up, about) = (row.caught_up.saturating_sub(before), About::Slow(key.0.clone(), key.1));
        let slow = row.waiting_bytes >= SLOW_BYTES || caught_up > 0;
        if slow || row.held_ms > 0 {
            let open = self.see(about, at);
            open.count = open.count.saturating_add(caught_up);
            open.most = open.most.max(row.waiting_bytes);
            if row.held_ms > 0 {
                open.causes.insert("an operator held what was to be written to it".into(), 1);
            }
        } else if row.waiting == 0 && self.open.contains_key(&about) {
            self.end(&about, at);
        }
        self.clients.insert(key, row);
    }

    fn client_gone(&mut self, at: Timestamp, instance: &str, row: &ClientRow) {
        self.end(&About::Slow(instance.to_string(), row.id), at);
    }

    fn connection(&mut self, row: &ConnectionRow) {
        let Some(why) = row.why.as_ref().filter(|_| row.what == "disconnected") else { return };
        // Whoever leaves by itself is nothing to be found.
        if row.operator || why.starts_with("the client has closed it") {
            return;
        }
        let who = row.subject.as_deref().unwrap_or("anyone");
        let what = format!("{who}, client {} at {}, was disconnected", row.client, row.instance);
        self.push(Finding { from: row.at, to: Some(row.at), what, causes: vec![why.clone()] });
        self.end(&About::Slow(row.instance.clone(), row.client), row.at);
    }

    fn alarm(&mut self, at: Timestamp, row: &AlarmRow, gone: bool) {
        let about = About::Alarm(row.instance.clone(), row.kind.clone(), row.about.clone());
        if gone {
            return self.end(&about, at);
        }
        let open = self.see(about, at);
        open.count = open.count.max(row.count);
        open.causes.insert(row.text.clone(), row.count);
    }

    fn rule(&mut self, at: Timestamp, row: &RuleRow, gone: bool) {
        let all = || self.rules.values().cloned().collect::<Vec<_>>();
        let (before, since) = self.before.take().map_or_else(|| (all(), at), |(before, since, _)| (before, since));
        match gone {
            true => drop(self.rules.remove(&row.number)),
            false => drop(self.rules.insert(row.number, in_words(row))),
        }
        self.before = Some((before, since, at));
    }

    /// Says what a change of the rules has changed, once no more of it comes.
    fn rules_settled(&mut self, at: Timestamp) {
        let Some((before, since, _)) = self.before.take_if(|(.., last)| at.saturating_sub(*last) > AT_ONCE) else {
            return;
        };
        let now: Vec<Rule> = self.rules.values().cloned().collect();
        let less = |of: &[Rule], by: &[Rule]| {
            let mut left = by.to_vec();
            let mut more = Vec::new();
            for rule in of {
                match left.iter().position(|other| other == rule) {
                    Some(i) => drop(left.swap_remove(i)),
                    None => more.push(rule.clone()),
                }
            }
            more
        };
        let (gone, new) = (less(&before, &now), less(&now, &before));
        // The first that are told of are those that were in force.
        if before.is_empty() || (gone.is_empty() && new.is_empty()) {
            return;
        }
        let causes =
            gone.iter().map(|r| format!("before: {r}")).chain(new.iter().map(|r| format!("since: {r}"))).collect();
        self.push(Finding { from: since, to: Some(since), what: "the rules changed".into(), causes });
    }

    fn verdict(&mut self, row: &VerdictRow) {
        if row.verdict == "withheld" {
            self.unexplained.insert((row.position.clone(), row.label.clone()), row.at);
        }
    }

    fn explained(&mut self, told: &Explanation) {
        let Some(at) = self.unexplained.remove(&(told.position.clone(), told.label.clone())) else { return };
        let stopped = told.steps.iter().find(|step| step.verdict == Passed::No);
        let why = stopped.map_or_else(|| "a rule".into(), |step| step.text.clone());
        let values = stopped.map(|step| step.values.join(", ")).filter(|values| !values.is_empty());
        self.withheld(at, told.label.clone(), why, values);
    }

    fn withheld(&mut self, at: Timestamp, label: String, why: String, values: Option<String>) {
        let who = self.who.get(&label).cloned().unwrap_or(label);
        let about = About::Withheld(who, why);
        let open = self.see(about.clone(), at);
        open.count += 1;
        if let Some(values) = values {
            *open.causes.entry(values).or_default() += 1;
        }
        self.end(&about, at);
    }

    fn push(&mut self, finding: Finding) {
        match self.done.len() < MOST {
            true => self.done.push(finding),
            false => self.left_out += 1,
        }
    }

    fn close(&mut self, about: &About, open: Open) {
        let Open { from, ended, count, most, .. } = open;
        let mut causes: Vec<(String, u64)> = open.causes.into_iter().collect();
        causes.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        let others = causes.len().saturating_sub(CAUSES);
        let mut told: Vec<String> = causes.into_iter().take(CAUSES).map(|(cause, _)| cause).collect();
        if others > 0 {
            told.push(format!("and {others} more"));
        }
        let what = match about {
            About::CutOff(name) => format!("{name} was cut off from the relay"),
            About::Silent(name) => format!("nothing was heard of {name}"),
            About::Behind(name) => format!(
                "{name} was behind, by up to {}",
                span(i64::try_from(most).unwrap_or(i64::MAX).saturating_mul(1_000))
            ),
            About::Lost(name) => format!(
                "{} lost on the way to {name}, and fetched again",
                counted(count as usize, "message was", "messages were")
            ),
            About::Slow(instance, id) => {
                let who = self.clients.get(&(instance.clone(), *id)).and_then(|c| c.subject.clone());
                if most > 0 {
                    told.insert(0, format!("up to {} KiB waited for it", most.div_ceil(1_024)));
                }
                if count > 0 {
                    let times = counted(count as usize, "time", "times");
                    told.push(format!("{times} more waited for it than is kept: it gets a snapshot when it reads on"));
                }
                format!("{}, client {id} at {instance}, read slowly", who.unwrap_or_else(|| "anyone".into()))
            }
            About::Alarm(instance, kind, of) => format!("alarm of {instance}: {kind} {of}"),
            About::Withheld(who, why) => {
                format!(
                    "{} withheld from {who}: {why}",
                    counted(count as usize, "transaction was", "transactions were")
                )
            }
        };
        self.push(Finding { from, to: ended, what, causes: told });
    }

    fn finish(mut self) -> (Vec<Finding>, usize) {
        self.rules_settled(Timestamp::MAX);
        for ((_, label), at) in std::mem::take(&mut self.unexplained) {
            self.withheld(at, label, "by a rule; nobody asked which".into(), None);
        }
        for (about, open) in std::mem::take(&mut self.open) {
            self.close(&about, open);
        }
        let hashes: BTreeSet<&str> = self.instances.values().map(|i| i.rules.as_str()).collect();
        if hashes.len() > 1 {
            let causes = self.instances.values().map(|i| format!("{}: {}", i.name, i.rules)).collect();
            let at = self.done.iter().filter_map(|f| f.to).max().unwrap_or_default();
            self.push(Finding { from: at, to: None, what: "instances have different rules".into(), causes });
        }
        self.done.sort_by_key(|f| f.from);
        (self.done, self.left_out)
    }
}

impl Finding {
    /// When it was.
    pub fn when(&self) -> String {
        match self.to {
            Some(to) if to.saturating_sub(self.from) < 1_000_000 => time(self.from),
            Some(to) => format!("{} for {}", time(self.from), span(to.saturating_sub(self.from))),
            None => format!("{} on", time(self.from)),
        }
    }
}

/// A row of a recording; what it does not say is as nothing.
fn read<R: SystemRow + Default>(event: &Event) -> R {
    R::read(&event.row).unwrap_or_default()
}

/// A rule in one line.
fn in_words(row: &RuleRow) -> Rule {
    let rows = row.rows.as_ref().map_or(String::new(), |rows| format!(" where {rows}"));
    let columns = row.columns.as_ref().map_or(String::new(), |columns| format!(", columns {}", columns.0.join(", ")));
    let masks: Vec<String> = row.masks.0.iter().map(|(column, with)| format!("{column} shown as {with}")).collect();
    let masks = if masks.is_empty() { String::new() } else { format!(", {}", masks.join(", ")) };
    format!("{} may {} {}{rows}{columns}{masks}", row.role, row.may, row.table)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    const S: i64 = 1_000_000;

    fn event(at: i64, instance: &str, table: &'static str, row: Json) -> Event {
        Event { instance: instance.into(), table, at: at * S, row: row.as_object().cloned().unwrap_or_default() }
    }

    fn link(at: i64, connected: bool, lost: u64) -> Event {
        event(at, "south", "links", json!({"instance": "south", "kind": "nats", "connected": connected, "lost": lost}))
    }

    fn rule(at: i64, number: u64, rows: &str) -> Event {
        event(
            at,
            "north",
            "rules",
            json!({"number": number, "role": "agent", "table": "calls", "may": "read", "rows": rows}),
        )
    }

    fn client(at: i64, waiting_bytes: u64, caught_up: u64) -> Event {
        let subscriptions = json!([{"id": 1, "number": 1, "query": "q", "observed": "a-1"}]).to_string();
        event(
            at,
            "north",
            "clients",
            json!({"id": 4, "subject": "Tove", "roles": "agent", "subscriptions": subscriptions,
            "waiting": waiting_bytes.min(1), "waiting_bytes": waiting_bytes, "caught_up": caught_up}),
        )
    }

    #[test]
    fn each_cause_is_one_finding_with_its_time() {
        let step = json!({"step": "rule", "verdict": "no", "text": "agent on calls: agency = claim.agency", "values": ["'B' = 'N'"]});
        let withheld = |at: i64, n: u64| {
            event(
                at,
                "north",
                "verdicts",
                json!({"position": format!("h:{n}"), "label": "a-1", "verdict": "withheld", "at": at * S}),
            )
        };
        let why = |at: i64, n: u64| {
            event(at, "north", "explanations", json!({"position": format!("h:{n}"), "label": "a-1", "steps": [step]}))
        };
        let events = vec![
            rule(0, 1, "agency = claim.agency"),
            rule(0, 2, "true"),
            client(1, 0, 0),
            link(2, true, 3),
            link(10, false, 3),
            link(12, false, 3),
            link(25, true, 5),
            withheld(30, 1),
            withheld(31, 2),
            why(31, 1),
            why(31, 2),
            withheld(32, 3),
            event(40, "north", "rules", json!({"number": 2, "gone": true})),
            rule(40, 1, "agency = 'N'"),
            client(50, 0, 0),
            client(51, 900_000, 0),
            client(52, 10, 2),
            client(60, 0, 2),
            event(
                70,
                "north",
                "connections",
                json!({"at": 70 * S, "instance": "north", "client": 4, "subject": "Tove",
                "what": "disconnected", "why": "it read nothing for 60 s"}),
            ),
            event(
                71,
                "north",
                "connections",
                json!({"at": 71 * S, "instance": "north", "client": 5, "what": "disconnected",
                "why": "the client has closed it, or is gone"}),
            ),
            event(
                80,
                "north",
                "alarms",
                json!({"instance": "north", "kind": "audit", "about": "calls", "text": "a difference", "count": 2}),
            ),
        ];
        let (found, left_out) = Findings::of(&events);
        let what: Vec<(i64, Option<i64>, &str)> =
            found.iter().map(|f| (f.from / S, f.to.map(|t| t / S), f.what.as_str())).collect();
        assert_eq!(
            what,
            [
                (10, Some(25), "south was cut off from the relay"),
                (25, Some(25), "2 messages were lost on the way to south, and fetched again"),
                (30, Some(31), "2 transactions were withheld from Tove (agent): agent on calls: agency = claim.agency"),
                (32, Some(32), "1 transaction was withheld from Tove (agent): by a rule; nobody asked which"),
                (40, Some(40), "the rules changed"),
                (51, Some(60), "Tove, client 4 at north, read slowly"),
                (70, Some(70), "Tove, client 4 at north, was disconnected"),
                (80, None, "alarm of north: audit calls"),
            ]
        );
        assert_eq!(left_out, 0);
        assert_eq!(found[2].causes, ["'B' = 'N'"]);
        assert_eq!(
            found[4].causes,
            [
                "before: agent may read calls where agency = claim.agency",
                "before: agent may read calls where true",
                "since: agent may read calls where agency = 'N'",
            ]
        );
        assert_eq!(
            found[5].causes,
            [
                "up to 879 KiB waited for it",
                "2 times more waited for it than is kept: it gets a snapshot when it reads on"
            ]
        );
    }

    #[test]
    fn what_comes_again_much_later_is_another_finding_and_there_are_not_too_many() {
        let two: Vec<Event> = [(1, false), (2, true), (60, false), (61, true)].map(|(at, up)| link(at, up, 0)).into();
        assert_eq!(Findings::of(&two).0.len(), 2);
        let many: Vec<Event> = (0..2_000).map(|i| link(10 * i, i % 2 == 0, 0)).collect();
        let (found, left_out) = Findings::of(&many);
        assert_eq!((found.len(), found.len() + left_out), (MOST, 1_000));
    }
}
