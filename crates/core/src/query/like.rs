//! `LIKE` as PostgreSQL defines it: `%` is any run of characters, `_` any one character, and an escape character,
//! backslash unless another is named, takes the next one as it is.

use std::fmt;

#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
enum Part {
    /// This character.
    Exactly(char),
    /// Any one character.
    One,
    /// Any run of characters, also none.
    Run,
}

/// A pattern that is ready to match.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct LikePattern {
    parts: Vec<Part>,
}

impl LikePattern {
    /// Reads a pattern. `escape` is `None` where escaping was switched off by `ESCAPE ''`.
    pub fn new(text: &str, escape: Option<char>) -> Result<LikePattern, String> {
        let mut parts = Vec::with_capacity(text.len());
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
        }
        Ok(LikePattern { parts })
    }

    /// Whether the whole of `text` fits. Takes time in the product of the two lengths at worst.
    pub fn matches(&self, text: &str) -> bool {
        // The usual two-pointer match: on a mismatch, let the last run swallow one more character.
        let (mut p, mut rest) = (0, text.chars());
        let mut retry: Option<(usize, std::str::Chars<'_>)> = None;
        loop {
            match self.parts.get(p) {
                Some(Part::Run) => {
                    p += 1;
                    retry = Some((p, rest.clone()));
                    continue;
                }
                None if rest.as_str().is_empty() => return true,
                Some(part) => {
                    let mut ahead = rest.clone();
                    match (ahead.next(), part) {
                        (Some(_), Part::One) => {
                            (p, rest) = (p + 1, ahead);
                            continue;
                        }
                        (Some(c), Part::Exactly(x)) if c == *x => {
                            (p, rest) = (p + 1, ahead);
                            continue;
                        }
                        _ => {}
                    }
                }
                None => {}
            }
            let Some((after_run, from)) = &mut retry else { return false };
            if from.next().is_none() {
                return false;
            }
            (p, rest) = (*after_run, from.clone());
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
    use super::*;

    #[test]
    fn matches_like_sql() {
        let like = |text, pattern| LikePattern::new(pattern, Some('\\')).unwrap().matches(text);
        assert!(like("abc", "a%"));
        assert!(like("abc", "%c"));
        assert!(like("aXbXc", "a%b%c"));
        assert!(like("äöü", "_ö_"));
        assert!(like("", "%"));
        assert!(like("50%", "50\\%"));
        assert!(!like("50x", "50\\%"));
        assert!(!like("abc", "ab"));
        assert!(!like("", "_"));
        assert!(like("aaab", "%a_b") && !like("ab", "%a_b"));
        assert!(LikePattern::new("x\\", Some('\\')).is_err());
    }
}
