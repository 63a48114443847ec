//! Puts rules in force and saves them to the configuration.

use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;

use super::{Tasks, saving};
use crate::workbench::message::Message;

impl Tasks {
    /// Saves a new rule to the configuration, and puts it in force.
    pub(super) fn grant(&self, rule: RuleText) {
        let (Some(path), Some(cluster)) = (self.access.config.clone(), self.access.cluster.clone()) else { return };
        let messages = self.messages.clone();
        tokio::spawn(async move {
            let RuleText { role, table, .. } = &rule;
            let text = match saving::save_rule(&path, &rule) {
                Ok(()) => format!("{role} may read {table}"),
                Err(e) => format!("{role} may read {table} until the instances stop, but the rule was not saved: {e}"),
            };
            if let Some(cluster) = cluster.lock().await.as_mut() {
                cluster.add_rule(rule).await;
            }
            let _ = messages.send(Message::Notice(text)).await;
        });
    }

    /// Saves the rules of one role on one table to the configuration, and then puts them in force.
    pub(super) fn save_rules(
        &self,
        (role, table): (String, TableName),
        before: Vec<RuleText>,
        text: String,
        new: Vec<RuleText>,
    ) {
        let (config, cluster) = (self.access.config.clone(), self.access.cluster.clone());
        let messages = self.messages.clone();
        tokio::spawn(async move {
            let mut cluster = match &cluster {
                Some(cluster) => Some(cluster.lock().await),
                None => None,
            };
            let mut running = cluster.as_mut().and_then(|cluster| cluster.as_mut());
            let kept = match &config {
                _ if running.as_ref().is_some_and(|c| !c.has_rules(&role, &table, &before)) => {
                    Err("other rules are in force there by now: undo, and look at them".into())
                }
                Some(path) => saving::save_rules(path, &role, &table, &before, &text)
                    .map(|()| format!("kept in {}", path.display())),
                None => saving::rules_to_share(&role, &table, &text),
            };
            if let (Ok(_), Some(running)) = (&kept, &mut running) {
                running.replace_rules(&role, &table, &new).await;
            }
            let _ = messages.send(Message::RulesKept(kept)).await;
        });
    }
}
