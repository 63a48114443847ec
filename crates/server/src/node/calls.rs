//! Operators' calls: answered here, or forwarded to another instance over the relay.
//!
//! An instance does what a member asks of it without asking for a token again: that it is one is known by the cluster's
//! secret ([`gossip_relay::vouch`]), or, without a secret, a matter of the broker's permissions.

use std::time::Duration;

use gossip_protocol::{Call, RpcError, code};
use serde_json::json;

use super::outgoing::new_id;
use super::question::{Answer, Explain, Operate, Reservation, WhatIf};
use super::state::Node;
use crate::now;

/// The answer to `drain` has to be sent before the instance stops.
const LEAVE_AFTER: Duration = Duration::from_millis(200);

impl Node {
    /// Does what an operator asks, or has it done.
    pub(super) fn operate(&mut self, o: Operate) {
        let Operate { call, answer } = o;
        let Some(instance) = call.instance().filter(|name| **name != *self.start.name).map(String::from) else {
            self.operate_here(call, answer);
            return;
        };
        let id = new_id();
        match self.cluster.forward_call(id.clone(), &instance, &call, now()) {
            Ok(outputs) => {
                self.forwarded.insert(id, answer);
                self.cluster_outputs(outputs);
            }
            Err(e) => drop(answer.send(Err(e))),
        }
    }

    pub(super) fn operate_here(&mut self, call: Call, answer: Answer) {
        match call {
            Call::Explain(asked) => match Explain::of(&asked) {
                Ok(question) => self.explain_decided(question, answer),
                Err(e) => drop(answer.send(Err(e))),
            },
            Call::WhatIf(asked) => match WhatIf::of(&asked) {
                Ok(question) => self.what_if(question, answer, Reservation::default()),
                Err(e) => drop(answer.send(Err(e))),
            },
            Call::Disconnect { client, .. } => drop(answer.send(self.disconnect(client))),
            Call::Hold { client, ms, .. } => drop(answer.send(self.hold_client(client, ms))),
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
}
