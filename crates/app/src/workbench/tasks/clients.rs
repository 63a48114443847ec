//! Follows who is connected, and the frames of one client: while somebody looks.

use gossip_client::{ClientError, Incoming, Session};
use gossip_protocol::call::Subscribe;
use gossip_protocol::system::{ClientRow, FrameRow, SystemRow};
use gossip_protocol::{Call, ChangeEntry, Notification, RowEntry};

use super::Tasks;
use crate::workbench::message::Message;
use crate::workbench::tasks::again::{AGAIN, Messages};
use crate::workbench::views::clients::state::ClientId;

impl Tasks {
    /// Asks every instance who is connected, or no more.
    pub(super) fn follow_clients(&mut self, on: bool) {
        self.following.drain(..).for_each(|task| task.abort());
        if on {
            for (place, at) in self.access.places.iter().enumerate() {
                let (url, token, messages) = (at.url.clone(), self.access.operator.clone(), self.messages.clone());
                self.following.push(tokio::spawn(async move {
                    loop {
                        let _ = clients(place, &url, &token, &messages).await;
                        if messages.send(Message::OnlyClients(place, vec![])).await.is_err() {
                            return;
                        }
                        tokio::time::sleep(AGAIN).await;
                    }
                }));
            }
        }
    }

    /// Follows the frames of one client instead of another's.
    pub(super) fn follow_frames(&mut self, whose: Option<ClientId>) {
        if let Some(task) = self.frames.take() {
            task.abort();
        }
        let Some((place, client)) = whose else { return };
        let Some(url) = self.access.places.get(place).map(|p| p.url.clone()) else { return };
        let (token, messages) = (self.access.operator.clone(), self.messages.clone());
        self.frames = Some(tokio::spawn(async move {
            while frames(place, client, &url, &token, &messages).await.is_err() {
                tokio::time::sleep(AGAIN).await;
            }
        }));
    }

    /// Holds what is written to a client, or lets it go on.
    pub(super) fn hold_client(&self, place: usize, client: u64, ms: u64) {
        let call = Call::Hold { instance: None, client, ms };
        self.tell(place, call, move |answer| {
            Message::Notice(match answer {
                Ok(_) if ms == 0 => "it is written to again".into(),
                Ok(_) => format!("nothing is written to it for {} s, as if it were slow", ms / 1_000),
                Err(why) => format!("not held: {why}"),
            })
        });
    }

    /// Ends a client's connection.
    pub(super) fn disconnect(&self, (place, client): ClientId) {
        self.tell(place, Call::Disconnect { instance: None, client }, move |answer| {
            Message::Notice(match answer {
                Ok(_) => "its connection has ended".into(),
                Err(why) => format!("not disconnected: {why}"),
            })
        });
    }
}

fn closed() -> ClientError {
    ClientError::Ended("the workbench has closed".into())
}

async fn clients(place: usize, url: &str, token: &str, messages: &Messages) -> Result<(), ClientError> {
    let mut session = Session::connect(url, Some(token)).await?;
    let answer = session.subscribe("SELECT * FROM gossip.clients").await?;
    let (mut rows, mut more) = (answer.rows, answer.more);
    if !more {
        messages.send(all(place, &std::mem::take(&mut rows))).await.map_err(|_| closed())?;
    }
    loop {
        let Incoming::Notification(told) = session.next().await?.0 else { continue };
        let now = match told {
            Notification::Rows { rows: part, more: further, .. } => {
                rows.extend(part);
                more = further;
                if more { vec![] } else { vec![all(place, &std::mem::take(&mut rows))] }
            }
            Notification::Snapshot { rows: part, more: further, .. } => {
                (rows, more) = (part, further);
                if more { vec![] } else { vec![all(place, &std::mem::take(&mut rows))] }
            }
            Notification::Delta { changes, .. } => changes.into_iter().filter_map(|c| change(place, c)).collect(),
            _ => vec![],
        };
        for message in now {
            messages.send(message).await.map_err(|_| closed())?;
        }
    }
}

/// All who are connected.
fn all(place: usize, rows: &[RowEntry]) -> Message {
    Message::OnlyClients(place, rows.iter().filter_map(|entry| ClientRow::read(&entry.row).ok()).collect())
}

fn change(place: usize, change: ChangeEntry) -> Option<Message> {
    match change {
        ChangeEntry::Add { row, .. } | ChangeEntry::Replace { row, .. } => {
            let row = ClientRow::read(&row).ok()?;
            Some(Message::Client(place, row.id, Some(Box::new(row))))
        }
        ChangeEntry::Remove { key, .. } => Some(Message::Client(place, key[0].as_u64()?, None)),
    }
}

async fn frames(place: usize, client: u64, url: &str, token: &str, messages: &Messages) -> Result<(), ClientError> {
    let mut session = Session::connect(url, Some(token)).await?;
    // What went over the connection earlier, while somebody else looked, is not asked for.
    let query = format!("SELECT * FROM gossip.frames WHERE client = {client}");
    session.subscribe(Subscribe { changes_only: true, ..Subscribe::from(&query) }).await?;
    loop {
        let Incoming::Notification(Notification::Delta { changes, .. }) = session.next().await?.0 else { continue };
        for change in changes {
            let ChangeEntry::Add { row, .. } = change else { continue };
            let Ok(row) = FrameRow::read(&row) else { continue };
            messages.send(Message::ClientFrame(place, Box::new(row))).await.map_err(|_| closed())?;
        }
    }
}
