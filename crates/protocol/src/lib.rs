//! What goes over the wire, defined once for reading and for writing.
//!
//! The protocol is JSON-RPC 2.0 in text messages over a WebSocket (subprotocol [`SUBPROTOCOL`]); `docs/protocol.md` is the
//! text for users. A client sends a [`Call`], in the envelope that [`message`] makes; an instance answers with what the
//! call's documentation says or with an [`RpcError`], and tells what it was not asked for as a [`Notification`]. What an
//! instance says of itself are rows of the tables in [`system`]. Events, on HTTP and on a broker, are [`CloudEvent`]s.
//!
//! There is no I/O here, and nothing of what a query means: a client links this crate and no engine. The text of rows and
//! deltas, which is written once for all subscribers of a feed, is made where rows are known (`gossip_core::wire`).
//!
//! Start at [`call`], then [`notification`].
//!
//! ```
//! use gossip_protocol::call::Subscribe;
//! use gossip_protocol::{Call, message};
//!
//! let sent = message::request(1, &Call::Subscribe(Box::new(Subscribe::from("SELECT * FROM calls"))));
//! let received = message::Request::read(&sent).unwrap().expect("not a notification");
//! let Call::Subscribe(asked) = Call::read(&received.method, received.params).unwrap() else { panic!("another call") };
//! assert_eq!(asked.query.as_deref(), Some("SELECT * FROM calls"));
//! ```

#![cfg_attr(not(test), warn(clippy::too_many_lines))]

pub mod call;
pub mod close;
pub mod cloudevent;
pub mod error;
pub mod message;
pub mod notification;
pub mod params;
pub mod spelling;
pub mod system;
pub mod timestamp;

pub use call::Call;
pub use cloudevent::CloudEvent;
pub use error::{RpcError, code};
pub use notification::{ChangeEntry, ColumnInfo, Notification, RowEntry, Shape, Subscribed};

/// The WebSocket subprotocol.
pub const SUBPROTOCOL: &str = "gossip.v1";

/// Most bytes of one event: its data, and what stands around it.
pub use cloudevent::MAX_EVENT;
