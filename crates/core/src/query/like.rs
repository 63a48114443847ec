//! `LIKE` as PostgreSQL defines it: `%` is any run of characters, `_` any one character, and an escape character,
//! backslash unless another is named, takes the next one as it is.
//!
//! Matching takes time linear in the text, whatever the pattern: each piece between two runs is searched once, from left
//! to right, without backtracking. A piece of plain characters is found by substring search; one with `_` in it by shift-and
//! (Baeza-Yates and Gonnet, 1992), which keeps all partial matches as bits, 64 of them in a word.

use super::function;
use std::cmp::Ordering;
use std::collections::HashMap;
use std::fmt;
use std::hash::{Hash, Hasher};

use crate::canonical::{Canonical, Encoder};

/// Longest pattern, in characters.
pub const MAX_PATTERN: usize = 1_024;

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
enum Part {
    /// This character.
    Exactly(char),
    /// Any one character.
    One,
    /// Any run of characters, also none.
    Run,
}

impl Part {
    fn is(self, c: char) -> bool {
        match self {
            Part::Exactly(x) => x == c,
            Part::One => true,
            Part::Run => false,
        }
    }
}

/// A piece of a pattern between two runs.
#[derive(Clone, Debug)]
enum Piece {
    Plain(Box<str>),
    Masked(ShiftAnd),
}

/// Finds a piece of fixed length that contains wildcards.
#[derive(Clone, Debug)]
struct ShiftAnd {
    /// Characters of the piece.
    length: usize,
    /// For each character of the piece, its positions as bits.
    fits: HashMap<char, Box<[u64]>>,
    /// The positions of wildcards.
    any: Box<[u64]>,
}

impl ShiftAnd {
    fn new(parts: &[Part]) -> ShiftAnd {
        let mut any = vec![0_u64; parts.len().div_ceil(64)];
        for (i, _) in parts.iter().enumerate().filter(|(_, p)| **p == Part::One) {
            any[i / 64] |= 1 << (i % 64);
        }
        let mut fits: HashMap<char, Box<[u64]>> = HashMap::new();
        for (i, part) in parts.iter().enumerate() {
            if let Part::Exactly(c) = part {
                fits.entry(*c).or_insert_with(|| any.clone().into())[i / 64] |= 1 << (i % 64);
            }
        }
        ShiftAnd { length: parts.len(), fits, any: any.into() }
    }

    /// Where the first match ends, in bytes.
    fn end_of_first(&self, text: &str) -> Option<usize> {
        let mut partial = vec![0_u64; self.any.len()];
        let (last_word, last_bit) = ((self.length - 1) / 64, (self.length - 1) % 64);
        for (at, c) in text.char_indices() {
            let fits = self.fits.get(&c).unwrap_or(&self.any);
            // A match may begin at every character.
            let mut carry = 1;
            for (word, fits) in partial.iter_mut().zip(fits) {
                let out = *word >> 63;
                *word = (*word << 1 | carry) & fits;
                carry = out;
            }
            if partial[last_word] >> last_bit & 1 == 1 {
                return Some(at + c.len_utf8());
            }
        }
        None
    }
}

impl Piece {
    fn new(parts: &[Part]) -> Piece {
        let plain = |p: &Part| if let Part::Exactly(c) = p { Some(*c) } else { None };
        match parts.iter().map(plain).collect::<Option<String>>() {
            Some(text) => Piece::Plain(text.into()),
            None => Piece::Masked(ShiftAnd::new(parts)),
        }
    }

    fn end_of_first(&self, text: &str) -> Option<usize> {
        match self {
            Piece::Plain(piece) => text.find(&**piece).map(|at| at + piece.len()),
            Piece::Masked(piece) => piece.end_of_first(text),
        }
    }
}

/// A compiled pattern.
#[derive(Clone, Debug)]
pub struct LikePattern {
    parts: Box<[Part]>,
    /// Parts before the first run, and after the last; all of them in `head` if there is no run.
    head: usize,
    tail: usize,
    /// The pieces between runs, in order.
    middle: Box<[Piece]>,
}

impl LikePattern {
    /// What every text that matches begins with; empty if that may be anything.
    pub fn prefix(&self) -> String {
        let literal = |part: &Part| if let Part::Exactly(c) = part { Some(*c) } else { None };
        self.parts[..self.head].iter().map_while(literal).collect()
    }

    /// Compiles a pattern. `escape` is `None` if escaping was switched off by `ESCAPE ''`.
    ///
    /// # Errors
    /// What is wrong with it, to be read after "the pattern".
    pub fn new(text: &str, escape: Option<char>) -> Result<LikePattern, String> {
        let mut parts = Vec::new();
        let mut chars = text.chars();
        while let Some(c) = chars.next() {
            let part = match c {
                c if Some(c) == escape => Part::Exactly(chars.next().ok_or("must not end with its escape character")?),
                '%' => Part::Run,
                '_' => Part::One,
                c => Part::Exactly(c),
            };
            if part != Part::Run || parts.last() != Some(&Part::Run) {
                parts.push(part);
            }
            if parts.len() > MAX_PATTERN {
                return Err(format!("has more than {MAX_PATTERN} characters"));
            }
        }
        Ok(LikePattern::of(parts))
    }

    fn of(parts: Vec<Part>) -> LikePattern {
        let pieces: Vec<&[Part]> = parts.split(|p| *p == Part::Run).collect();
        let (head, tail, middle) = match &pieces[..] {
            [first, middle @ .., last] => (first.len(), last.len(), middle.iter().map(|p| Piece::new(p)).collect()),
            _ => (parts.len(), 0, Box::default()),
        };
        LikePattern { parts: parts.into(), head, tail, middle }
    }

    /// Compiles a pattern; for `ILIKE`, which is matched against text in lower case, in lower case too.
    ///
    /// # Errors
    /// As [`LikePattern::new`].
    pub fn with_case(text: &str, escape: Option<char>, ignores_case: bool) -> Result<LikePattern, String> {
        let mut pattern = LikePattern::new(text, escape)?;
        if !ignores_case {
            return Ok(pattern);
        }
        for part in &mut pattern.parts {
            if let Part::Exactly(c) = part {
                *c = function::lower(*c);
            }
        }
        Ok(LikePattern::of(pattern.parts.into_vec()))
    }

    /// Whether the whole of `text` matches.
    pub fn matches(&self, text: &str) -> bool {
        let mut rest = text.chars();
        if !self.parts[..self.head].iter().all(|p| rest.next().is_some_and(|c| p.is(c))) {
            return false;
        }
        if self.head == self.parts.len() {
            return rest.as_str().is_empty();
        }
        let tail = &self.parts[self.parts.len() - self.tail..];
        if !tail.iter().rev().all(|p| rest.next_back().is_some_and(|c| p.is(c))) {
            return false;
        }
        let mut rest = rest.as_str();
        for piece in &self.middle {
            match piece.end_of_first(rest) {
                Some(end) => rest = &rest[end..],
                None => return false,
            }
        }
        true
    }
}

// The parts define the pattern; the rest is derived from them.

impl PartialEq for LikePattern {
    fn eq(&self, other: &Self) -> bool {
        self.parts == other.parts
    }
}

impl Eq for LikePattern {}

impl Hash for LikePattern {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.parts.hash(state);
    }
}

impl PartialOrd for LikePattern {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for LikePattern {
    fn cmp(&self, other: &Self) -> Ordering {
        self.parts.cmp(&other.parts)
    }
}

impl Canonical for LikePattern {
    fn encode(&self, to: &mut Encoder) {
        to.number(self.parts.len() as u64);
        for part in &self.parts {
            match part {
                Part::Run => to.tag(0),
                Part::One => to.tag(1),
                Part::Exactly(c) => {
                    to.tag(2);
                    to.number(u32::from(*c).into());
                }
            }
        }
    }
}

impl fmt::Display for LikePattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("'")?;
        for part in &self.parts {
            match part {
                Part::Run => f.write_str("%")?,
                Part::One => f.write_str("_")?,
                Part::Exactly('\'') => f.write_str("''")?,
                Part::Exactly(c @ ('%' | '_' | '\\')) => write!(f, "\\{c}")?,
                Part::Exactly(c) => write!(f, "{c}")?,
            }
        }
        f.write_str("'")
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// By the definition, trying everything.
    fn fits(parts: &[Part], text: &[char]) -> bool {
        match (parts, text) {
            ([], text) => text.is_empty(),
            ([Part::Run, rest @ ..], text) => (0..=text.len()).any(|n| fits(rest, &text[n..])),
            ([part, parts @ ..], [c, text @ ..]) => part.is(*c) && fits(parts, text),
            _ => false,
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 4_000, failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn matches_as_the_definition_says(pattern in "[ab_%ä]{0,9}", text in "[abä]{0,12}") {
            let like = LikePattern::new(&pattern, Some('\\')).unwrap();
            let chars: Vec<char> = text.chars().collect();
            prop_assert_eq!(like.matches(&text), fits(&like.parts, &chars), "{} LIKE {}", text, pattern);
        }

        #[test]
        fn pieces_longer_than_a_word_are_found(before in 0..200_usize, shift in 0..45_usize, after in 0..90_usize) {
            let piece = |hole: &str| format!("{}{hole}{}", "ab".repeat(shift), "ba".repeat(40));
            let text = format!("{}{}{}", "ab".repeat(before), piece("x"), "b".repeat(after));
            let (found, missed) = (format!("%{}%", piece("_")), format!("%{}c%", piece("_")));
            prop_assert!(LikePattern::new(&found, None).unwrap().matches(&text));
            prop_assert!(!LikePattern::new(&missed, None).unwrap().matches(&text));
        }
    }

    #[test]
    fn matches_like_sql() {
        let like = |text, pattern| LikePattern::new(pattern, Some('\\')).unwrap().matches(text);
        assert!(like("50%", "50\\%") && !like("50x", "50\\%"));
        assert!(like("", "%") && like("", "") && !like("", "_"));
        assert!(like("aaab", "%a_b") && !like("ab", "%a_b"), "a head and a tail do not overlap");
        assert!(LikePattern::new("x\\", Some('\\')).is_err());
        let runs = "%".repeat(70_000);
        assert!(like("x", &runs), "runs beside each other are one");
        assert!(LikePattern::new(&"a".repeat(MAX_PATTERN + 1), None).is_err());
    }
}
