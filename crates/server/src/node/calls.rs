//! What operators call: answered here, or by another instance, which is asked over the relay and answers there.
//!
//! An instance does what a member asks of it without asking for a token again: that it is one is known by the cluster's
//! secret ([`gossip_relay::vouch`]), or, without a secret, a matter of the broker's permissions.

use std::collections::HashMap;
use std::time::Duration;

use gossip_core::position::Micros;
use gossip_protocol::{Call, CloudEvent, RpcError, code};
use serde_json::{Value as Json, json};
use tokio::sync::oneshot;

use super::events::new_id;
use super::{Held, Node};
use crate::now;
use crate::questions;

/// Asks an instance to do something; its answer.
const CALL: &str = "gossip.call.v1";
const ANSWER: &str = "gossip.call.answer.v1";

/// How long another instance has to answer.
const PATIENCE: Micros = 30_000_000;

/// Whoever has an instance drained is to hear so before it goes.
const LEAVE_AFTER: Duration = Duration::from_millis(200);

/// Calls that wait for the answers of others.
const MAX_WAITING: usize = 64;

/// Where an answer goes.
type Answer = oneshot::Sender<Result<Json, RpcError>>;

/// A call of an operator.
pub struct Operate {
    /// The call.
    pub call: Call,
    /// Where the answer goes.
    pub answer: Answer,
}

/// Calls that wait for the answers of others, by id, and until when.
#[derive(Default)]
pub(super) struct Calls(HashMap<String, (Answer, String, Micros)>);

impl Node {
    /// Does what an operator asks, or has it done.
    pub(super) fn operate(&mut self, o: Operate) {
        let Operate { call, answer } = o;
        let Some(instance) = call.instance().filter(|name| **name != *self.start.name).map(String::from) else {
            self.operate_here(call, answer);
            return;
        };
        if !self.members.has(&instance) {
            let shown: String = instance.chars().take(60).collect();
            let known: Vec<&str> = self.members.names().chain([self.start.name.as_str()]).collect();
            let text = format!("there is no instance {shown}; known: {}", known.join(", "));
            let _ = answer.send(Err(RpcError::new(code::UNKNOWN_NAME, text)));
            return;
        }
        if self.calls.0.len() >= MAX_WAITING {
            let text = format!("limit reached: calls that wait for other instances, at most {MAX_WAITING}");
            let _ = answer.send(Err(RpcError::new(code::LIMIT, text)));
            return;
        }
        let id = new_id();
        let call = json!(call);
        let told = json!({"id": id, "instance": instance, "call": call["method"], "params": call["params"]});
        self.tell_members(CALL, told);
        self.calls.0.insert(id, (answer, instance, now() + PATIENCE));
    }

    fn operate_here(&mut self, call: Call, answer: Answer) {
        match call {
            Call::Explain(asked) => {
                let _ = answer.send(questions::explain(&asked).and_then(|question| self.explain(question)));
            }
            Call::WhatIf(asked) => match questions::what_if(&asked) {
                Ok(question) => self.what_if(question, answer, Held::default()),
                Err(e) => drop(answer.send(Err(e))),
            },
            Call::Drain { .. } => {
                tracing::info!("an operator has this instance drained");
                let drain = self.start.drain.clone();
                tokio::spawn(async move {
                    tokio::time::sleep(LEAVE_AFTER).await;
                    drain.send_replace(true);
                });
                let _ = answer.send(Ok(json!({})));
            }
            _ => drop(answer.send(Err(RpcError::new(code::NO_SUCH_CALL, "this is no call of operators")))),
        }
    }

    /// Takes what concerns calls; `false` if it does not.
    pub(super) fn told_call(&mut self, event: &CloudEvent) -> bool {
        let data = &event.data;
        match event.kind.as_str() {
            CALL => {
                let (Some(id), Some(call)) = (data["id"].as_str(), data["call"].as_str()) else { return true };
                if data["instance"].as_str() != Some(&self.start.name) {
                    return true;
                }
                let (answer, answered) = oneshot::channel();
                match Call::read(call, data["params"].as_object().cloned().unwrap_or_default()) {
                    Ok(call) => self.operate_here(call, answer),
                    Err(e) => drop(answer.send(Err(e))),
                }
                let (id, teller) = (id.to_string(), self.teller());
                tokio::spawn(async move {
                    let Ok(outcome) = answered.await else { return };
                    let said = match outcome {
                        Ok(result) => json!({"id": id, "result": result}),
                        Err(e) => json!({"id": id, "error": e}),
                    };
                    teller.tell(ANSWER, said).await;
                });
                true
            }
            ANSWER => {
                let waiting = data["id"].as_str().and_then(|id| self.calls.0.remove(id));
                if let Some((answer, ..)) = waiting {
                    let error = data.get("error").map(|e| serde_json::from_value::<RpcError>(e.clone()));
                    let _ = answer.send(match error {
                        None => Ok(data["result"].clone()),
                        Some(Ok(e)) => Err(e),
                        Some(Err(_)) => {
                            Err(RpcError::new(code::UNAVAILABLE, "the instance answers what nobody can read"))
                        }
                    });
                }
                true
            }
            _ => false,
        }
    }

    /// Gives up what nobody has answered.
    pub(super) fn tend_calls(&mut self) {
        let time = now();
        let late: Vec<String> =
            self.calls.0.iter().filter(|(_, (.., until))| *until < time).map(|(id, _)| id.clone()).collect();
        for (answer, instance, _) in late.into_iter().filter_map(|id| self.calls.0.remove(&id)) {
            let text = format!("not available now: instance {instance} does not answer");
            let _ = answer.send(Err(RpcError::new(code::UNAVAILABLE, text)));
        }
    }
}
