//! Shared by all connections of the workbench.

use std::time::Duration;

use tokio::sync::mpsc;

use crate::workbench::message::Message;

/// Time between two attempts to connect.
pub(super) const AGAIN: Duration = Duration::from_millis(700);

/// Where messages go.
pub(super) type Messages = mpsc::Sender<Message>;
