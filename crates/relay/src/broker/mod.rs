//! What a message broker does for the relay: it takes messages under a name and brings them to everybody who listens.
//!
//! Each broker is spoken to by its ecosystem's own client. All of them say when a message was taken, carry a few
//! properties beside its bytes, and bring the messages of one sender in order as long as the connection stands. What a
//! connection lost is lost: the relay above notices. Some keep messages for those who come later, others do not.

pub mod address;
pub mod amqp;
pub mod mqtt;
pub mod nats;
pub mod redis;

use std::fmt;
use std::str::FromStr;
use std::time::Duration;

use async_trait::async_trait;
use bytes::Bytes;
use gossip_core::position::Position;
use parking_lot::Mutex;
use rand::Rng;
use tokio::sync::mpsc;

use crate::RelayError;
use crate::parts::Part;

/// Longest wait for a broker's acknowledgement.
pub const TIMEOUT: Duration = Duration::from_secs(5);

/// Messages that may wait between a broker's client and the relay.
pub const WAITING: usize = 1_024;

/// Most that is fetched to close one gap: beyond that a snapshot is cheaper.
pub const MOST_FETCHED: usize = 4_096;

/// Under what a message stands, behind the cluster's prefix.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Path {
    /// Changes of a source.
    Rows(String),
    /// Heartbeats of a source's reader.
    Beat(String),
    /// Events of a topic.
    Topic(String),
    /// What an instance tells the others.
    Member(String),
}

impl Path {
    /// Its two words.
    pub fn words(&self) -> (&'static str, &str) {
        match self {
            Path::Rows(name) => ("rows", name),
            Path::Beat(name) => ("beat", name),
            Path::Topic(name) => ("topic", name),
            Path::Member(name) => ("member", name),
        }
    }

    /// The two words with something between them.
    pub fn joined(&self, between: &str) -> String {
        let (class, name) = self.words();
        format!("{class}{between}{name}")
    }

    /// Reads what [`Path::joined`] wrote.
    pub fn parse(text: &str, between: char) -> Option<Path> {
        let (class, name) = text.split_once(between)?;
        if name.is_empty() || name != token(name) {
            return None;
        }
        let name = name.to_string();
        Some(match class {
            "rows" => Path::Rows(name),
            "beat" => Path::Beat(name),
            "topic" => Path::Topic(name),
            "member" => Path::Member(name),
            _ => return None,
        })
    }
}

impl fmt::Display for Path {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.joined("."))
    }
}

/// A name as one word of a broker's names.
pub fn token(name: &str) -> String {
    name.chars().map(|c| if c.is_ascii_alphanumeric() || c == '-' { c } else { '_' }).collect()
}

/// A message.
#[derive(Clone, Debug)]
pub struct Message {
    /// Under what it stands.
    pub path: Path,
    /// Which part of a whole it is.
    pub part: Part,
    /// Of changes: where their interval ends.
    pub to: Option<Position>,
    /// Of changes: a name under which the broker may notice that it has them already.
    pub id: String,
    /// By what it is known to be an instance's, if it is one's.
    pub code: Option<String>,
    /// The bytes.
    pub bytes: Bytes,
}

/// What stands beside a message's bytes, by name: which part it is.
const PART: &str = "Gossip-Part";
/// Where its interval ends.
const TO: &str = "Gossip-To";
/// By what it is known to be an instance's.
const CODE: &str = "Gossip-Code";

impl Message {
    /// What stands beside the bytes.
    pub fn properties(&self) -> impl Iterator<Item = (&'static str, String)> {
        let to = self.to.map(|to| (TO, to.to_string()));
        let code = self.code.clone().map(|code| (CODE, code));
        [(PART, self.part.to_string())].into_iter().chain(to).chain(code)
    }

    /// Reads what [`Message::properties`] wrote. What is not there says nothing.
    pub fn read(path: Path, bytes: Bytes, find: impl Fn(&str) -> Option<String>) -> Message {
        let part = find(PART).map_or(Some(Part::WHOLE), |p| Part::from_str(&p).ok());
        // A part that cannot be read is one that never becomes a whole.
        let part = part.unwrap_or(Part { index: 1, of: 2 });
        let to = find(TO).and_then(|t| t.parse().ok());
        Message { path, part, to, id: String::new(), code: find(CODE), bytes }
    }
}

/// A broker.
#[async_trait]
pub trait Broker: Send + Sync + 'static {
    /// What it is called: the scheme of its addresses.
    fn kind(&self) -> &'static str;

    /// Most bytes of a message.
    fn most(&self) -> usize;

    /// Whether it can be reached at the moment.
    fn is_connected(&self) -> bool;

    /// Gives it changes of a source. Returns when it has acknowledged all of them.
    async fn keep(&self, source: &str, messages: Vec<Message>) -> Result<(), RelayError>;

    /// Gives it a message for those who listen now.
    async fn say(&self, message: Message) -> Result<(), RelayError>;

    /// Everything under the prefix from now on, one's own messages included. It goes on by itself after the connection
    /// was lost, and ends with the receiver.
    async fn listen(&self) -> Result<mpsc::Receiver<Message>, RelayError>;

    /// The messages that are kept of a source and end after a position, oldest first; at most [`MOST_FETCHED`], else
    /// `None`. `None` too where nothing is kept.
    async fn kept(&self, _source: &str, _after: Position) -> Result<Option<Vec<Message>>, RelayError> {
        Ok(None)
    }

    /// The messages of the newest interval that is kept of a source.
    async fn newest(&self, _source: &str) -> Result<Vec<Message>, RelayError> {
        Ok(vec![])
    }

    /// What it uses on the broker, by what is done there.
    fn names(&self) -> Vec<(&'static str, String)>;
}

/// Those who listen to a broker that speaks to all of them over one connection.
#[derive(Default)]
pub struct Listeners(Mutex<Vec<mpsc::Sender<Message>>>);

impl Listeners {
    /// Another one.
    pub fn add(&self) -> mpsc::Receiver<Message> {
        let (sender, heard) = mpsc::channel(WAITING);
        self.0.lock().push(sender);
        heard
    }

    /// Hands a message to all. Nothing may hold the connection up: what somebody has no room for is lost to them, and
    /// noticed.
    pub fn hand_out(&self, message: &Message) {
        let stays = |l: &mpsc::Sender<Message>| {
            !matches!(l.try_send(message.clone()), Err(mpsc::error::TrySendError::Closed(_)))
        };
        self.0.lock().retain(stays);
    }
}

/// How long to wait before the next attempt: longer and longer, and never the same for everybody.
pub struct Backoff(Duration);

impl Backoff {
    /// Begins anew.
    pub fn new() -> Backoff {
        Backoff(Duration::from_millis(100))
    }

    /// Waits.
    pub async fn wait(&mut self) {
        let wait = self.0.mul_f64(rand::rng().random_range(0.5..1.0));
        self.0 = (self.0 * 2).min(Duration::from_secs(5));
        tokio::time::sleep(wait).await;
    }
}

impl Default for Backoff {
    fn default() -> Self {
        Backoff::new()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_lead_back_and_others_are_none() {
        for path in
            [Path::Rows("a-b_1".into()), Path::Beat("x".into()), Path::Topic("t".into()), Path::Member("n".into())]
        {
            for between in ['.', '/'] {
                assert_eq!(Path::parse(&path.joined(&between.to_string()), between), Some(path.clone()));
            }
        }
        for bad in ["rows", "rows.", "rows.a.b", "other.a", "", "rows.a b", "topic.ä"] {
            assert_eq!(Path::parse(bad, '.'), None, "{bad}");
        }
    }
}
