//! Publishes events as somebody, as any client would; and asks why, where that is refused.

use gossip_client::{ClientError, Session};
use gossip_core::explain::Step;
use gossip_protocol::call::{Explain, QuestionTarget};
use gossip_protocol::{Call, code};
use serde_json::{Value as Json, json};

use super::Tasks;
use super::calls::PATIENCE;
use super::listening::Identity;
use crate::workbench::message::Message;

impl Tasks {
    /// Publishes an event; if it is refused, asks the instance why.
    pub(super) fn publish(&self, place: usize, who: Identity, topic: String, data: Json) {
        let Some(url) = self.access.places.get(place).map(|p| p.url.clone()) else { return };
        let roles = Some(who.identity.roles.clone()).filter(|roles| !roles.is_empty());
        let claims = who.identity.claims.clone();
        let whom = QuestionTarget::Publisher { publish_to: topic.clone(), data: data.clone(), claims, roles };
        let why = self.ask(place, Call::Explain(Box::new(Explain { instance: None, position: None, whom })));
        let messages = self.messages.clone();
        tokio::spawn(async move {
            let persona = who.persona.clone();
            let told = match publish(&url, &who, &topic, &data).await {
                Ok(()) => Message::Notice(format!("{persona} published to {topic}")),
                Err(ClientError::Refused(e)) if e.code == code::NOT_KNOWN => {
                    let steps = why.await.and_then(|mut answer| {
                        serde_json::from_value::<Vec<Step>>(answer["steps"].take()).map_err(|e| e.to_string())
                    });
                    match steps {
                        Ok(steps) => Message::NotPublished(persona, topic, steps),
                        Err(_) => Message::Notice(format!("not published: {}", e.message)),
                    }
                }
                Err(e) => Message::Notice(format!("not published: {e}")),
            };
            let _ = messages.send(told).await;
        });
    }
}

/// Publishes one event, on a connection of its own.
async fn publish(url: &str, who: &Identity, topic: &str, data: &Json) -> Result<(), ClientError> {
    let once = async {
        let mut session = Session::connect(url, who.token().as_deref()).await?;
        let event = json!({"topic": topic, "data": data}).as_object().cloned().unwrap_or_default();
        session.make(&Call::read("publish", event).map_err(ClientError::Refused)?).await.map(drop)
    };
    let late = |_| Err(ClientError::Ended(format!("{url} did not answer in time")));
    tokio::time::timeout(PATIENCE, once).await.unwrap_or_else(late)
}
