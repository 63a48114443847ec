//! A result as a table of text, for people.

use std::fmt::Write as _;

use gossip_client::ResultSet;
use serde_json::Value as Json;
use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};

/// Rows that are printed, at most.
const MAX_ROWS: usize = 1_000;

/// Columns of the terminal that a value takes, at most.
const MAX_WIDTH: usize = 60;

/// A text in one line: what is no character on a screen is written as JSON writes it, and what is long is cut.
fn text(text: &str) -> String {
    let text = if text.chars().any(char::is_control) { Json::from(text).to_string() } else { text.to_string() };
    if text.width() <= MAX_WIDTH {
        return text;
    }
    let mut left = MAX_WIDTH - 1;
    let fits = |c: &char| {
        let rest = left.checked_sub(c.width().unwrap_or(0));
        left = rest.unwrap_or(0);
        rest.is_some()
    };
    text.chars().take_while(fits).chain(['…']).collect()
}

/// A value; what is hidden from the reader is not NULL.
fn cell(value: Option<&Json>) -> String {
    match value {
        None => "·".into(),
        Some(Json::Null) => "NULL".into(),
        Some(Json::String(value)) => text(value),
        Some(other) => text(&other.to_string()),
    }
}

/// The rows under the names of their columns, numbers to the right.
pub fn table(live: &ResultSet) -> String {
    let names: Vec<&str> = live.columns.iter().map(|column| column.name.as_str()).collect();
    let titles: Vec<String> = names.iter().map(|name| text(name)).collect();
    let rows: Vec<_> = live.in_order().collect();
    // Of a stream the newest, which are the last.
    let newest = rows.len().saturating_sub(MAX_ROWS);
    let (shown, behind) = match live.shape {
        gossip_protocol::Shape::Stream => (&rows[newest..], 0),
        _ => (&rows[..rows.len().min(MAX_ROWS)], newest),
    };
    let cells: Vec<Vec<String>> =
        shown.iter().map(|row| names.iter().map(|name| cell(row.get(*name))).collect()).collect();
    let width = |i: usize| cells.iter().map(|row| row[i].width()).chain([titles[i].width()]).max().unwrap_or(0);
    let widths: Vec<usize> = (0..names.len()).map(width).collect();
    let is_number = |i: usize| shown.iter().all(|row| row.get(names[i]).is_none_or(|v| v.is_number() || v.is_null()));
    let numbers: Vec<bool> = (0..names.len()).map(is_number).collect();
    let mut out = String::new();
    let mut line = |values: &[&str]| {
        let padded = values.iter().enumerate().map(|(i, value)| {
            let space = " ".repeat(widths[i] - value.width());
            if numbers[i] { space + value } else { (*value).to_string() + &space }
        });
        let _ = writeln!(out, "{}", padded.collect::<Vec<_>>().join("  ").trim_end());
    };
    line(&titles.iter().map(String::as_str).collect::<Vec<_>>());
    line(&widths.iter().map(|w| "─".repeat(*w)).collect::<Vec<_>>().iter().map(String::as_str).collect::<Vec<_>>());
    cells.iter().for_each(|row| line(&row.iter().map(String::as_str).collect::<Vec<_>>()));
    if behind > 0 {
        let _ = writeln!(out, "and {behind} more");
    }
    out
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn a_table_has_a_line_for_each_row_and_says_what_it_leaves_out() {
        let columns =
            json!([{"name": "id", "type": "int8", "key": true}, {"name": "name", "type": "text", "key": false}]);
        let result = |rows: Vec<Json>| {
            let answer = json!({"subscription": 1, "shape": "ordered", "columns": columns, "rows": rows});
            table(&ResultSet::new(serde_json::from_value(answer).unwrap_or_else(|e| panic!("{e}"))))
        };
        let row = |id: i64, name: Json| json!({"key": [id], "row": {"id": id, "name": name}});
        let rows = vec![
            row(7, json!("Łódź")),
            row(12, json!(null)),
            json!({"key": [3], "row": {"id": 3}}),
            row(4, json!("a\nb")),
        ];
        let expected = "id  name\n──  ──────\n 7  Łódź\n12  NULL\n 3  ·\n 4  \"a\\nb\"\n";
        assert_eq!(result(rows), expected);
        assert_eq!(result(vec![]), "id  name\n──  ────\n");
        let long = result(vec![row(1, json!("長い".repeat(40)))]);
        assert!(long.lines().all(|line| line.width() <= 4 + MAX_WIDTH) && long.contains('…'), "{long}");
        let many = result((0..1_003).map(|id| row(id, json!("a"))).collect());
        assert!(many.ends_with("and 3 more\n") && many.lines().count() == 1_003, "{many}");
    }
}
