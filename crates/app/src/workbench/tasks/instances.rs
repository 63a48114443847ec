//! Actions on the instances of this process.

use super::Tasks;
use crate::workbench::access::Place;
use crate::workbench::message::{InstanceAction, Message};

impl Tasks {
    pub(super) fn instance(&self, i: usize, action: InstanceAction) {
        let Some(cluster) = self.access.cluster.clone() else { return };
        let messages = self.messages.clone();
        tokio::spawn(async move {
            let mut cluster = cluster.lock().await;
            let Some(cluster) = cluster.as_mut() else { return };
            let text = match action {
                InstanceAction::Add => match cluster.add().await {
                    Ok((name, address)) => {
                        let text = format!("{name} runs as well, at {address}");
                        let place = Place { name, url: address.to_string() };
                        let _ = messages.send(Message::Added(place)).await;
                        text
                    }
                    Err(why) => format!("no instance could be added: {why}"),
                },
                action => instance_action(cluster, i, action).await,
            };
            let running = (0..cluster.places().len()).map(|i| cluster.is_running(i)).collect();
            let _ = messages.send(Message::Running(running)).await;
            let _ = messages.send(Message::Notice(text)).await;
        });
    }
}

async fn instance_action(cluster: &mut crate::local::Cluster, i: usize, action: InstanceAction) -> String {
    use std::sync::atomic::Ordering::Relaxed;
    let name = cluster.places().get(i).map(|(name, _)| name.clone()).unwrap_or_default();
    match action {
        InstanceAction::EndOrStart if cluster.is_running(i) => {
            cluster.kill(i);
            format!("{name} has been ended, as by a crash")
        }
        InstanceAction::EndOrStart => match cluster.start_one(i).await {
            Ok(()) => format!("{name} runs again"),
            Err(e) => format!("{name} does not start: {e}"),
        },
        InstanceAction::Drain => {
            cluster.drain(i).await;
            format!("{name} has been drained: its clients were asked to reconnect elsewhere")
        }
        InstanceAction::Add => String::new(),
        InstanceAction::LoseNext => {
            cluster.faults(i).drop_next.fetch_add(1, Relaxed);
            format!("the next change on its way to {name} will be lost")
        }
        InstanceAction::CutOrMend => {
            let cut = !cluster.faults(i).cut.fetch_xor(true, Relaxed);
            format!("{name} is {} the relay", if cut { "cut off from" } else { "back on" })
        }
    }
}
