//! The cluster's state machine, driven: what is heard goes in, what follows is carried out.

use std::sync::Arc;

use gossip_core::cluster::message::Message;
use gossip_core::cluster::presence::Moved;
use gossip_core::cluster::{Note, Output};
use gossip_core::engine::Input;
use gossip_core::schema::PRESENCE;
use gossip_protocol::CloudEvent;
use gossip_protocol::system::{AlarmRow, InstanceRow, LinkRow};
use gossip_relay::{About, Event};
use tokio::sync::oneshot;

use super::state::Node;
use super::telling::new_id;
use crate::now;

impl Node {
    /// Says how this instance stands; every second.
    pub(super) fn stand(&mut self, instance: InstanceRow, link: LinkRow, alarms: Vec<AlarmRow>) {
        let outputs = self.cluster.stand(instance, link, alarms, now());
        self.follow(outputs);
    }

    /// Takes what another instance says, or this one has said.
    pub(super) fn told_of_member(&mut self, event: &CloudEvent) {
        if let Some((from, message)) = Message::read(event) {
            let outputs = self.cluster.hear(from, &event.id, message, now());
            self.follow(outputs);
        }
    }

    /// This instance stops: the others are told.
    pub(super) fn take_leave(&mut self) {
        let outputs = self.cluster.stop();
        self.follow(outputs);
    }

    /// Carries out what follows in the cluster.
    pub(super) fn follow(&mut self, outputs: Vec<Output>) {
        let mut moved = false;
        let mut at_leisure = Vec::new();
        for output in outputs {
            match output {
                // They are many at a time, and worth waiting for.
                Output::Tell(message @ Message::History { .. }) => at_leisure.push(self.said(&message)),
                // What the relay has no room for now is not told: it is said again, or asked for again.
                Output::Tell(message) => drop(self.events.tell.try_send(self.said(&message))),
                Output::Speak(version) => self.start.relay.speak(version),
                Output::Moved(one) => {
                    moved = true;
                    match one {
                        Moved::Came(row) => self.system.put(PRESENCE, row),
                        Moved::Went(row) => self.system.remove(PRESENCE, &row),
                    }
                }
                Output::Interval(interval) => {
                    self.received = now();
                    self.handle(Input::Interval(Arc::new(interval)));
                }
                Output::Operate { id, call } => {
                    let (answer, answered) = oneshot::channel();
                    self.operate_here(call, answer);
                    let (tell, name) = (self.events.tell.clone(), self.start.name.clone());
                    tokio::spawn(async move {
                        let Ok(outcome) = answered.await else { return };
                        let _ = tell.send(said(&name, &Message::Answer { id, outcome })).await;
                    });
                }
                Output::Answered { id, outcome } => {
                    if let Some(answer) = self.calls.remove(&id) {
                        let _ = answer.send(outcome);
                    }
                }
                Output::Note(note) => noted(&self.start.name, &note),
            }
        }
        if moved {
            self.flush_system();
        }
        if !at_leisure.is_empty() {
            let tell = self.events.tell.clone();
            tokio::spawn(async move {
                for event in at_leisure {
                    if tell.send(event).await.is_err() {
                        return;
                    }
                }
            });
        }
    }

    fn said(&self, message: &Message) -> Arc<Event> {
        said(&self.start.name, message)
    }
}

/// A message as the relay carries it.
fn said(name: &str, message: &Message) -> Arc<Event> {
    Arc::new(Event { about: About::Members, event: message.to_event(name, new_id(), now()) })
}

fn noted(name: &str, note: &Note) {
    match note {
        Note::Silent(other) => tracing::warn!("instance {other} is silent; it counts as gone"),
        Note::SameName => {
            tracing::warn!("another instance is called {name} as well; give each a name of its own (instance.name)");
        }
        Note::AtOdds => tracing::error!(
            "there is no version of the relay's format that all instances read; replace the oldest of them"
        ),
        Note::Differs(other, topics) => {
            tracing::info!("instance {other} holds something else of {}; asking it", topics.join(", "));
        }
    }
}
