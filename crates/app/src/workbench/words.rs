//! What changed, in few words.

use serde_json::{Map, Value as Json};
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

use crate::workbench::ids::Timestamp;
use crate::workbench::line::{Line, RowShown, Stage};

/// Longest value in a summary, in characters.
const SHORT: usize = 24;

/// A value as people write it: text without quotes.
pub fn plain(v: &Json) -> String {
    match v {
        Json::String(s) => s.clone(),
        Json::Null => "NULL".into(),
        other => other.to_string(),
    }
}

fn short(v: &Json) -> String {
    fit(&plain(v), SHORT)
}

/// A number of things, with the word for one or for more.
pub fn counted(n: usize, one: &str, many: &str) -> String {
    if n == 1 { format!("1 {one}") } else { format!("{n} {many}") }
}

/// Cuts a text to a width in cells, with an ellipsis where something is missing.
pub fn fit(text: &str, width: usize) -> String {
    // A control character would move the terminal's cursor.
    let clean = || text.chars().map(|c| if c.is_control() { ' ' } else { c });
    if text.width() <= width {
        return clean().collect();
    }
    let mut out = String::new();
    let mut used = 1;
    for c in clean() {
        used += c.width().unwrap_or(0);
        if used > width {
            break;
        }
        out.push(c);
    }
    if width > 0 {
        out.push('…');
    }
    out
}

/// The columns that differ, old and new.
pub fn differences<'a>(row: &'a RowShown) -> Vec<(&'a str, &'a Json, &'a Json)> {
    match (&row.old, &row.new) {
        (Some(old), Some(new)) => {
            let differs = |(k, v): (&'a String, &'a Json)| {
                let before = old.get(k).unwrap_or(&Json::Null);
                (before != v).then_some((k.as_str(), before, v))
            };
            new.iter().filter_map(differs).collect()
        }
        _ => vec![],
    }
}

fn cells(row: &Map<String, Json>, skip_key: &str) -> String {
    let some = row.iter().filter(|(_, v)| !v.is_null() && plain(v) != skip_key).take(3);
    some.map(|(_, v)| short(v)).collect::<Vec<_>>().join(", ")
}

/// What became of a row.
fn change(row: &RowShown) -> String {
    match (&row.old, &row.new) {
        (None, Some(new)) => format!("new: {}", cells(new, &row.key)),
        (Some(old), None) => format!("gone: {}", cells(old, &row.key)),
        _ => {
            let one = |(k, old, new): (&str, &Json, &Json)| format!("{k} {} → {}", short(old), short(new));
            let changed: Vec<String> = differences(row).into_iter().map(one).collect();
            changed.join(", ")
        }
    }
}

/// One row in a few words.
pub fn row(row: &RowShown) -> String {
    format!("{} {}  {}", row.table, row.key, change(row))
}

/// A whole line in a few words.
pub fn line(line: &Line) -> String {
    match parts(line) {
        (Some((table, key)), text) => format!("{table} {key}  {text}"),
        (None, text) => text,
    }
}

/// The table and the key of a line's first row, and what happened to it and to others. A line that is not in the stream has
/// no row.
pub fn parts(line: &Line) -> (Option<(&str, &str)>, String) {
    let yours = if line.made.is_some() { "  (yours)" } else { "" };
    if let (None, Some((sql, stage))) = (&line.at, &line.made) {
        let text = match stage {
            Stage::Running => format!("running: {sql}"),
            Stage::Committed(..) => format!("committed, not yet in the stream: {sql}"),
            Stage::NeverComes(why) => format!("never comes: {why}"),
        };
        return (None, text);
    }
    let Some(first) = line.rows.first() else { return (None, format!("{} rows{yours}", line.row_count)) };
    let more = line.row_count.saturating_sub(1);
    let mut others: Vec<&str> = line.rows[1..].iter().map(|r| r.table.as_str()).collect();
    others.dedup();
    let others = match more {
        0 => String::new(),
        n => format!(",  +{n} {}", others.join(", ")),
    };
    (Some((&first.table, &first.key)), format!("{}{others}{yours}", change(first)))
}

/// Everything that a filter looks at.
pub fn whole(line_: &Line) -> String {
    let mut text = line(line_);
    for r in &line_.rows {
        text.push(' ');
        text.push_str(&row(r));
    }
    text
}

/// A time of day with milliseconds, by this machine's zone.
pub fn time(at: Timestamp) -> String {
    let zone = jiff::tz::TimeZone::system();
    match jiff::Timestamp::from_microsecond(at) {
        Ok(t) => t.to_zoned(zone).strftime("%H:%M:%S%.3f").to_string(),
        Err(_) => "?".into(),
    }
}

/// A span in the unit that suits it.
pub fn span(micros: i64) -> String {
    match micros {
        ..0 => format!("−{}", span(micros.saturating_neg())),
        0..1_000 => format!("{micros} µs"),
        1_000..100_000 => format!("{:.1} ms", micros as f64 / 1e3),
        100_000..1_000_000 => format!("{} ms", micros / 1_000),
        1_000_000..60_000_000 => format!("{:.1} s", micros as f64 / 1e6),
        _ => format!("{} min", micros / 60_000_000),
    }
}

/// A text in lines of at most `width` cells, broken between words where it can be.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    let options = textwrap::Options::new(width.max(1)).wrap_algorithm(textwrap::WrapAlgorithm::FirstFit);
    let one_line = text.split_whitespace().collect::<Vec<_>>().join(" ");
    textwrap::wrap(&one_line, options).into_iter().map(|line| fit(&line, width)).collect()
}

#[cfg(test)]
mod tests {
    use super::wrap;

    #[test]
    fn wrapped_lines_fit_and_move_no_cursor() {
        assert_eq!(wrap("one\n\ttwo  three", 8), ["one two", "three"]);
        assert_eq!(wrap("a\u{1b}[2J b", 20), ["a [2J b"]);
        assert_eq!(wrap("語語語語", 4), ["語語", "語語"]);
        assert_eq!(wrap("", 4), [""]);
        assert!(wrap("a b", 0).iter().all(String::is_empty));
    }
}
