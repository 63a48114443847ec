//! Carries out proposals: starts or stops streaming tables.

use std::path::PathBuf;
use std::sync::Arc;

use gossip_source::Source;

use super::{Tasks, database, inspect, saving};
use crate::local::Cluster;
use crate::workbench::message::Message;
use crate::workbench::views::tables::state::{Proposal, Proposed};

impl Tasks {
    /// Carries out a proposal: on the database first, then in the configuration, then in the instances of this process.
    pub(super) fn carry_out_proposal(&mut self, proposal: Proposal) {
        if let Proposed::Disconnect(client) = proposal.what {
            return self.disconnect(client);
        }
        let Some(source) = self.database.lock().clone() else { return };
        let (messages, config, cluster) =
            (self.messages.clone(), self.access.config.clone(), self.access.cluster.clone());
        let rules = self.access.rules.clone();
        let Proposed::Stream(table, on) = proposal.what.clone() else {
            tokio::task::spawn_blocking(move || {
                let text = match source.carry_out(&proposal.sql) {
                    Ok(()) => "done".to_string(),
                    Err(e) => format!("not done: {e}"),
                };
                let _ = messages.blocking_send(Message::Notice(text));
                let _ = messages.blocking_send(Message::Inspected(inspect(&*source, &rules)));
            });
            return;
        };
        let database = self.database.clone();
        tokio::spawn(async move {
            let changed = database::with(&*source, &table, on);
            let done = switch(&source, &changed, &table, on, proposal.sql, config, cluster).await;
            if done.is_ok() {
                *database.lock() = Some(changed);
            }
            let word = if on { "streams" } else { "no longer streams" };
            let text = done.map_or_else(|e| format!("{table}: not done: {e}"), |()| format!("{table} {word}"));
            let _ = messages.send(Message::Notice(text)).await;
            let now = database.lock().clone().unwrap_or(source);
            let found = tokio::task::spawn_blocking(move || inspect(&*now, &rules)).await;
            let _ = messages.send(Message::Inspected(found.unwrap_or_else(|e| Err(e.to_string())))).await;
        });
    }
}

/// Starts or stops streaming a table: in the database, in the configuration and in the instances of this process.
async fn switch(
    source: &Arc<dyn Source>,
    changed: &Arc<dyn Source>,
    table: &str,
    on: bool,
    sql: Vec<String>,
    config: Option<PathBuf>,
    cluster: Option<Arc<tokio::sync::Mutex<Option<Cluster>>>>,
) -> Result<(), String> {
    let in_database = async |sql: Vec<String>| {
        let source = source.clone();
        let done = tokio::task::spawn_blocking(move || source.carry_out(&sql).map_err(|e| e.to_string())).await;
        done.unwrap_or_else(|e| Err(e.to_string()))
    };
    if on {
        in_database(sql.clone()).await?;
    }
    if let Some(path) = config {
        saving::save_stream(&path, source.name(), table, on)?;
    }
    if let Some(cluster) = cluster
        && let Some(cluster) = cluster.lock().await.as_mut()
    {
        cluster.set_source(changed.clone()).await.map_err(|e| e.to_string())?;
    }
    // Last, because an instance that still streams the table would recreate its triggers.
    if on { Ok(()) } else { in_database(sql).await }
}
