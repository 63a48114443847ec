//! Texts. Lengths and places are in characters; upper and lower case are Unicode's simple mappings.

use super::error::EvalError;
use super::operator::Side;
use crate::value::Value;

/// Most bytes of a text that is put together.
const MAX_JOINED: usize = 1 << 20;

/// Texts, one after the other; `NULL` if one of the values is not a text.
///
/// # Errors
/// They are too long together.
pub fn concat(values: &[Value]) -> Result<Value, EvalError> {
    let mut joined = String::new();
    for v in values {
        let Value::Text(s) = v else { return Ok(Value::Null) };
        if joined.len() + s.len() > MAX_JOINED {
            return Err(EvalError::TooLong);
        }
        joined.push_str(s);
    }
    Ok(Value::from(joined))
}

/// A text with each character mapped.
pub fn mapped(s: &str, map: fn(char) -> char) -> Value {
    Value::from(s.chars().map(map).collect::<String>())
}

/// A character in lower case.
pub fn lower(c: char) -> char {
    // Of the only character with two, İ, the first is the simple mapping.
    c.to_lowercase().next().unwrap_or(c)
}

/// A character in upper case; one whose upper case is several characters stays.
pub fn upper(c: char) -> char {
    let mut upper = c.to_uppercase();
    match (upper.next(), upper.next()) {
        (Some(single), None) => single,
        _ => c,
    }
}

/// The byte at which the character with this number starts, or the end.
fn at(s: &str, character: usize) -> usize {
    s.char_indices().nth(character).map_or(s.len(), |(i, _)| i)
}

/// How many characters `n` selects of a text: all but the last `-n` if negative.
fn count(s: &str, n: i64) -> usize {
    match usize::try_from(n) {
        Ok(n) => n,
        Err(_) => s.chars().count().saturating_sub(n.unsigned_abs() as usize),
    }
}

/// The first characters.
pub fn left(s: &str, n: i64) -> &str {
    &s[..at(s, count(s, n))]
}

/// The last characters.
pub fn right(s: &str, n: i64) -> &str {
    let skipped = s.chars().count().saturating_sub(count(s, n));
    &s[at(s, skipped)..]
}

/// The characters from `start`, counted from 1, on; `length` of them if it is given.
///
/// # Errors
/// The length is negative.
pub fn substring(s: &str, start: i64, length: Option<i64>) -> Result<Value, EvalError> {
    if length.is_some_and(|n| n < 0) {
        return Err(EvalError::NegativeLength);
    }
    // A start before the text counts towards the length.
    let end = length.map_or(i64::MAX, |n| start.saturating_add(n));
    let place = |character: i64| at(s, usize::try_from(character - 1).unwrap_or(0));
    let (from, to) = (place(start.max(1)), place(end.max(1)));
    Ok(Value::from(s.get(from..to).unwrap_or("")))
}

/// A text without some characters at its ends.
pub fn trim<'a>(side: Side, s: &'a str, characters: &str) -> &'a str {
    let characters: Vec<char> = characters.chars().collect();
    let (mut s, characters) = (s, &characters[..]);
    if side != Side::Trailing {
        s = s.trim_start_matches(characters);
    }
    if side != Side::Leading {
        s = s.trim_end_matches(characters);
    }
    s
}
