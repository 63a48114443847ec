//! Puts rules in force and saves them to the configuration.

use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;

use super::{Tasks, saving};
use crate::workbench::message::Message;

impl Tasks {
    /// Saves a new rule to the configuration, and puts all rules in force.
    pub(super) fn grant(&self, rule: RuleText, all: Vec<RuleText>) {
        let (Some(path), Some(cluster)) = (self.access.config.clone(), self.access.cluster.clone()) else { return };
        let messages = self.messages.clone();
        tokio::spawn(async move {
            let RuleText { role, table, .. } = &rule;
            let text = match saving::save_rule(&path, &rule) {
                Ok(()) => format!("{role} may read {table}"),
                Err(e) => format!("{role} may read {table} until the instances stop, but the rule was not saved: {e}"),
            };
            if let Some(cluster) = cluster.lock().await.as_mut() {
                cluster.set_rules(all).await;
            }
            let _ = messages.send(Message::Notice(text)).await;
        });
    }

    /// Saves the rules of one role on one table to the configuration, and then puts all rules in force.
    pub(super) fn save_rules(
        &self,
        role: String,
        table: TableName,
        before: Vec<RuleText>,
        text: String,
        all: Vec<RuleText>,
    ) {
        let (config, cluster) = (self.access.config.clone(), self.access.cluster.clone());
        let messages = self.messages.clone();
        tokio::spawn(async move {
            let kept = match &config {
                Some(path) => saving::save_rules(path, &role, &table, &before, &text)
                    .map(|()| format!("kept in {}", path.display())),
                None => saving::rules_to_share(&role, &table, &text),
            };
            if kept.is_ok()
                && let Some(cluster) = &cluster
                && let Some(cluster) = cluster.lock().await.as_mut()
            {
                cluster.set_rules(all).await;
            }
            let _ = messages.send(Message::RulesKept(kept)).await;
        });
    }
}
