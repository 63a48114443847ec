//! Places in the text of a configuration, and words for what is wrong there.

use std::path::Path;

use gossip_core::schema::TableName;

pub(super) fn line_of(text: &str, offset: usize) -> usize {
    text.as_bytes()[..offset.min(text.len())].iter().filter(|b| **b == b'\n').count() + 1
}

/// Where a key stands in the section that begins at `section`; there, if it is not found.
pub(super) fn offset_of_key(text: &str, section: usize, key: &str) -> usize {
    let mut offset = section;
    for line in text.get(section..).unwrap_or_default().split_inclusive('\n') {
        if line.trim_start().strip_prefix(key).is_some_and(|rest| rest.trim_start().starts_with('=')) {
            return offset;
        }
        offset += line.len();
    }
    section
}

/// What is wrong in the text of a file, with the line and, where a key is not known, one that is.
pub fn toml_problem(path: &Path, text: &str, e: &toml::de::Error) -> String {
    let shown = path.display();
    let place = e.span().map_or(shown.to_string(), |s| format!("{shown}:{}", line_of(text, s.start)));
    format!("{place}: {}", with_hint(e.message()))
}

/// A table's name; the default schema is not part of it.
pub(super) fn plain_name(text: &str, default_schema: &str) -> TableName {
    let mut table = TableName::parse(text);
    if *table.schema == *default_schema {
        table.schema = "".into();
    }
    table
}

/// Only what stands before the colon: the rest may hold a password.
pub(super) fn scheme(url: &str) -> String {
    format!("{}:…", url.split(':').next().unwrap_or(""))
}

/// Adds the nearest known key to the parser's message about an unknown one.
pub(super) fn with_hint(message: &str) -> String {
    let message = message.trim_end();
    let mut quoted = message.split('`').skip(1).step_by(2);
    match quoted.next() {
        Some(unknown) if message.starts_with("unknown field") => {
            let known: Vec<&str> = quoted.collect();
            let hint = gossip_protocol::spelling::similar(unknown, known.iter().copied());
            let hint = hint.map_or(String::new(), |h| format!("; did you mean {h}?"));
            format!("unknown key {unknown}{hint}; known here: {}", known.join(", "))
        }
        _ => message.to_string(),
    }
}
