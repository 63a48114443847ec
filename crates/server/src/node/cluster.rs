//! Drives the cluster's state machine: hands it messages and the time, and does what it says.

use std::sync::Arc;

use gossip_core::cluster::message::Message;
use gossip_core::cluster::presence::PresenceChange;
use gossip_core::cluster::{Notice, Output};
use gossip_core::engine::Input;
use gossip_core::schema::PRESENCE;
use gossip_protocol::CloudEvent;
use gossip_relay::{About, Event};
use tokio::sync::oneshot;

use super::outgoing::new_id;
use super::state::Node;
use crate::now;

impl Node {
    /// Takes a message of another instance, or one of this instance's own that has come back.
    pub(super) fn member_message(&mut self, event: &CloudEvent) {
        if let Some((from, message)) = Message::read(event) {
            let outputs = self.cluster.receive(from, &event.id, message, now());
            self.cluster_outputs(outputs);
        }
    }

    /// This instance shuts down: the others learn of it.
    pub(super) fn leave_cluster(&mut self) {
        let outputs = self.cluster.stop();
        self.cluster_outputs(outputs);
    }

    /// Does what the cluster's state machine says.
    pub(super) fn cluster_outputs(&mut self, outputs: Vec<Output>) {
        let mut presence_changed = false;
        for output in outputs {
            match output {
                // What there is no room for is dropped: it is repeated, or requested again.
                Output::Broadcast(message) => {
                    let queue = match message {
                        Message::HistoryResponse { .. } => &self.events.history,
                        _ => &self.events.queue,
                    };
                    let _ = queue.try_send(event_of(&self.start.name, &message));
                }
                Output::UseVersion(version) => self.start.relay.speak(version),
                Output::Presence(change) => {
                    presence_changed = true;
                    match change {
                        PresenceChange::Joined(row) => self.system.put(PRESENCE, row),
                        PresenceChange::Left(row) => self.system.remove(PRESENCE, &row),
                    }
                }
                Output::Interval(interval) => {
                    self.received = now();
                    self.handle(Input::Interval(Arc::new(interval)));
                }
                Output::Operate { id, call } => {
                    let (answer, answered) = oneshot::channel();
                    self.operate_here(call, answer);
                    let (queue, name) = (self.events.queue.clone(), self.start.name.clone());
                    tokio::spawn(async move {
                        let Ok(outcome) = answered.await else { return };
                        let _ = queue.send(event_of(&name, &Message::CallResponse { id, outcome })).await;
                    });
                }
                Output::Answered { id, outcome } => {
                    if let Some(answer) = self.forwarded.remove(&id) {
                        let _ = answer.send(outcome);
                    }
                }
                Output::Log(notice) => log(&self.start.name, &notice),
            }
        }
        if presence_changed {
            self.flush_system();
        }
    }
}

/// A message as the relay carries it.
fn event_of(name: &str, message: &Message) -> Arc<Event> {
    Arc::new(Event { about: About::Members, event: message.to_event(name, new_id(), now()) })
}

fn log(name: &str, notice: &Notice) {
    match notice {
        Notice::Silent(other) => tracing::warn!("instance {other} has been silent too long; treating it as stopped"),
        Notice::SameName => {
            tracing::warn!("another instance is called {name} as well; give each a different instance.name");
        }
        Notice::NoCommonVersion => tracing::error!(
            "there is no version of the relay's format that all instances read; replace the oldest of them"
        ),
        Notice::TopicsDiffer(other, topics) => {
            tracing::info!("instance {other} has different contents for {}; comparing", topics.join(", "));
        }
    }
}
