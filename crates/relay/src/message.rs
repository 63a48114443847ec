//! A message as all brokers carry it: its name, its bytes, and what stands beside them.

use std::fmt;
use std::str::FromStr;

use bytes::Bytes;
use gossip_core::position::Position;

use crate::parts::Part;

/// Under what a message stands, behind the cluster's prefix.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Path {
    /// Changes of a source.
    Rows(String),
    /// Heartbeats of a source's reader.
    Beat(String),
    /// Events of a topic.
    Topic(String),
    /// A message between instances.
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
