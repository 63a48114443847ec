//! Messages that are larger than a broker takes, in parts.

use std::collections::HashMap;
use std::fmt;
use std::str::FromStr;
use std::time::{Duration, Instant};

use bytes::{Bytes, BytesMut};

/// Most parts of one message.
pub const MAX_PARTS: usize = 1_024;

/// Most bytes of a message, and of all that are not whole yet.
pub const MAX_WHOLE: usize = 256 << 20;

/// Messages that are put together at the same time.
const MAX_BEGUN: usize = 64;

/// A message whose next part has not come within this time is given up once its place is needed.
const EXPIRY: Duration = Duration::from_secs(30);

/// Which part of how many, from 0. Written `1/3` for the first of three.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Part {
    /// Its place.
    pub index: usize,
    /// How many there are.
    pub of: usize,
}

impl Part {
    /// A message that is not cut.
    pub const WHOLE: Part = Part { index: 0, of: 1 };
}

impl fmt::Display for Part {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.index + 1, self.of)
    }
}

impl FromStr for Part {
    type Err = ();

    fn from_str(s: &str) -> Result<Part, ()> {
        let (index, of) = s.split_once('/').ok_or(())?;
        let (index, of): (usize, usize) = (index.parse().map_err(drop)?, of.parse().map_err(drop)?);
        if index == 0 || index > of || of > MAX_PARTS { Err(()) } else { Ok(Part { index: index - 1, of }) }
    }
}

/// A message that is not whole yet: its last part, when that came, and all its bytes.
struct Begun {
    last: Part,
    at: Instant,
    whole: BytesMut,
}

/// Puts messages together. Parts of one sender come in order; where one is missing, the whole is given up. Whoever may
/// send one kind of message fills what holds that kind: each kind has one of these for itself.
pub struct Parts {
    begun: HashMap<String, Begun>,
    /// Bytes in them, and how many there may be.
    held: usize,
    room: usize,
}

impl Default for Parts {
    fn default() -> Parts {
        Parts::with_room(MAX_WHOLE)
    }
}

impl Parts {
    /// With room for so many bytes.
    pub fn with_room(room: usize) -> Parts {
        Parts { begun: HashMap::new(), held: 0, room }
    }

    /// Takes a part that comes now, and gives the whole if it was the last.
    pub fn add(&mut self, from: &str, part: Part, bytes: Bytes, now: Instant) -> Option<Bytes> {
        let begun = self.begun.remove(from);
        self.held -= begun.as_ref().map_or(0, |of| of.whole.len());
        if part.of == 1 {
            return Some(bytes);
        }
        let mut whole = match begun {
            _ if part.index == 0 => BytesMut::new(),
            Some(Begun { last, whole, .. }) if last.of == part.of && last.index + 1 == part.index => whole,
            _ => return None,
        };
        let needed = whole.len() + bytes.len();
        if self.begun.len() >= MAX_BEGUN || self.held + needed > self.room {
            self.begun.retain(|_, of| now.saturating_duration_since(of.at) < EXPIRY);
            self.held = self.begun.values().map(|of| of.whole.len()).sum();
        }
        if self.begun.len() >= MAX_BEGUN || self.held + needed > self.room {
            return None;
        }
        whole.extend_from_slice(&bytes);
        if part.index + 1 == part.of {
            return Some(whole.freeze());
        }
        self.held += whole.len();
        self.begun.insert(from.into(), Begun { last: part, at: now, whole });
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_all_parts_in_order_make_a_whole() {
        let mut parts = Parts::default();
        let mut add = |text: &str, part: &str| {
            let whole = parts.add("a", part.parse().unwrap(), Bytes::copy_from_slice(text.as_bytes()), Instant::now());
            whole.map(|w| String::from_utf8(w.to_vec()).unwrap())
        };
        assert_eq!(add("whole", "1/1").as_deref(), Some("whole"));
        assert_eq!((add("a", "1/3"), add("b", "2/3")), (None, None));
        assert_eq!(add("c", "3/3").as_deref(), Some("abc"));
        assert_eq!((add("a", "1/3"), add("c", "3/3"), add("b", "2/3"), add("c", "3/3")), (None, None, None, None));
        assert_eq!((add("x", "1/2"), add("a", "1/2"), add("b", "2/2").as_deref()), (None, None, Some("ab")));
        for bad in ["0/1", "2/1", "1", "1/2000", "x/y", "-1/1"] {
            assert!(bad.parse::<Part>().is_err(), "{bad}");
        }
    }

    #[test]
    fn what_was_begun_and_forgotten_gives_its_place_back() {
        let (first, second): (Part, Part) = ("1/2".parse().unwrap(), "2/2".parse().unwrap());
        let begin = Instant::now();
        let mut parts = Parts::with_room(100);
        let mut add = |from: &str, part, bytes: usize, later| {
            parts.add(from, part, Bytes::from(vec![0; bytes]), begin + later).map(|whole| whole.len())
        };
        for i in 0..MAX_BEGUN {
            add(&format!("forged {i}"), first, 1, Duration::ZERO);
        }
        add("rows", first, 10, EXPIRY / 2);
        assert_eq!(add("rows", second, 10, EXPIRY / 2), None, "every place is taken");
        add("rows", first, 10, EXPIRY);
        assert_eq!(add("rows", second, 10, EXPIRY), Some(20));
        add("large", first, 60, EXPIRY);
        add("rows", first, 60, EXPIRY);
        assert_eq!(add("rows", second, 60, EXPIRY), None, "no room beside the large one");
        add("rows", first, 60, EXPIRY * 2);
        assert_eq!(add("rows", second, 40, EXPIRY * 2), Some(100));
    }
}
