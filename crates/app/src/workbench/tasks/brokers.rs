//! Tries a broker, and writes it to the configuration.

use std::time::Duration;

use gossip_relay::Settings;

use super::{Tasks, saving};
use crate::workbench::message::Message;

/// Longest wait for a broker.
const PATIENCE: Duration = Duration::from_secs(10);

impl Tasks {
    /// Connects to a broker as an instance would; if that can be done, the configuration says so from then on.
    pub(super) fn try_broker(&self, url: String, prefix: String) {
        let Some(path) = self.access.config.clone() else { return };
        let messages = self.messages.clone();
        self.notice("connecting to the broker …".into());
        tokio::spawn(async move {
            let settings = Settings { url: url.clone(), prefix: prefix.clone(), ..Settings::default() };
            let connected =
                tokio::time::timeout(PATIENCE, gossip_relay::connect(&settings, "gossip-first-steps")).await;
            let text = match connected {
                Err(_) => "the broker did not answer in time; nothing was written".to_string(),
                Ok(Err(e)) => format!("{e}; nothing was written"),
                Ok(Ok(relay)) => {
                    let standing = relay.standing();
                    let broker = standing.broker.unwrap_or_else(|| standing.kind.to_string());
                    match saving::save_relay(&path, &url, &prefix) {
                        Ok(()) => format!("{broker} answers; written to {}, for the next start", path.display()),
                        Err(e) => format!("{broker} answers, but it was not written: {e}"),
                    }
                }
            };
            let _ = messages.send(Message::Notice(text)).await;
        });
    }
}
