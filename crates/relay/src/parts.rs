//! Messages that are larger than a broker takes, in parts.

use std::collections::HashMap;
use std::fmt;
use std::str::FromStr;

use bytes::{Bytes, BytesMut};

/// Most parts of one message.
pub const MAX_PARTS: usize = 1_024;

/// Most bytes of a message, and of all that are not whole yet.
pub const MAX_WHOLE: usize = 256 << 20;

/// Messages that are put together at the same time.
const MAX_BEGUN: usize = 64;

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

/// Puts messages together. Parts of one sender come in order; where one is missing, the whole is given up.
#[derive(Default)]
pub struct Parts {
    begun: HashMap<String, (Part, BytesMut)>,
    /// Bytes in them.
    held: usize,
}

impl Parts {
    /// Takes a part, and gives the whole if it was the last.
    pub fn add(&mut self, from: &str, part: Part, bytes: Bytes) -> Option<Bytes> {
        let begun = self.begun.remove(from);
        self.held -= begun.as_ref().map_or(0, |(_, whole)| whole.len());
        if part.of == 1 {
            return Some(bytes);
        }
        let mut whole = match begun {
            _ if part.index == 0 && self.begun.len() < MAX_BEGUN => BytesMut::new(),
            Some((last, whole)) if last.of == part.of && last.index + 1 == part.index => whole,
            _ => return None,
        };
        if self.held + whole.len() + bytes.len() > MAX_WHOLE {
            return None;
        }
        whole.extend_from_slice(&bytes);
        if part.index + 1 == part.of {
            return Some(whole.freeze());
        }
        self.held += whole.len();
        self.begun.insert(from.into(), (part, whole));
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
            let whole = parts.add("a", part.parse().unwrap(), Bytes::copy_from_slice(text.as_bytes()));
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
}
