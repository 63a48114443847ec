//! Explanations for operators: why somebody may publish something, or may not; and what is decided elsewhere.

use gossip_core::cluster::message::presence_row;
use gossip_core::cluster::topics::from_cloudevent;
use gossip_core::explain::{Passed, Step};
use gossip_core::publication::{Publication, nobody};
use gossip_core::rule::Claims;
use gossip_core::schema::{PRESENCE, Row, TableName};
use gossip_protocol::cloudevent::{CloudEvent, SENDER};
use gossip_protocol::system::{Moment, PresenceRow};
use gossip_protocol::timestamp::rfc3339;
use serde_json::{Value as Json, json};

use super::presence::chosen;
use super::state::Node;
use crate::now;

impl Node {
    /// Whether somebody may publish this, and the steps by which that is decided.
    pub(super) fn explain_publication(&self, to: &str, data: &Json, claims: &Claims) -> Json {
        let steps = self.publication_steps(to, data, claims);
        // Any of several rules is enough.
        let stopped = |step: &Step| step.step != "rule" && step.verdict == Passed::No;
        let granted = steps.iter().any(|step| step.step == "rule" && step.verdict == Passed::Yes);
        json!({"may": granted && !steps.iter().any(stopped), "steps": steps})
    }

    fn publication_steps(&self, to: &str, data: &Json, claims: &Claims) -> Vec<Step> {
        let (rules, catalog) = (self.engine.rules(), self.engine.catalog());
        let presence = TableName::system(PRESENCE);
        if to == presence.to_string() {
            let Some(table) = catalog.get(&presence) else { return vec![] };
            let row = self.row_of_member(data, claims);
            let wanted = Publication { table, row: &row, chosen: &chosen(), claims };
            return wanted.steps(rules, catalog);
        }
        let Some(topic) = self.cluster.topics().get(to) else {
            let names: Vec<&str> = self.cluster.topics().iter().map(|(name, ..)| name).collect();
            let text = format!("there is no topic {}", to.chars().take(60).collect::<String>());
            return vec![Step::new("topic", Passed::No, text, vec![format!("these are: {}", names.join(", "))])];
        };
        let table = topic.table.table();
        if !rules.may_publish_to(table, claims) {
            return vec![nobody(table, claims, rules)];
        }
        let mut event = CloudEvent::new(to, "", String::new(), rfc3339(now()), data.clone());
        if let Some(subject) = claims.subject() {
            event.more.insert(SENDER.into(), subject.into());
        }
        let row = match from_cloudevent(&event, topic, Some(now())).and_then(|event| topic.row(&event)) {
            Ok(row) => row,
            Err(why) => return vec![Step::new("event", Passed::No, why, vec![])],
        };
        let mut steps = vec![Step::new("event", Passed::Yes, format!("it is one of {to}"), vec![])];
        steps.extend(Publication { table, row: &row, chosen: &topic.chosen(), claims }.steps(rules, catalog));
        steps
    }

    fn row_of_member(&self, said: &Json, claims: &Claims) -> Row {
        presence_row(PresenceRow {
            place: said["place"].as_str().unwrap_or_default().into(),
            instance: self.start.name.clone(),
            client: 0,
            subject: claims.subject().map(String::from),
            data: said["data"].clone(),
            since: Moment(rfc3339(now())),
        })
    }
}
