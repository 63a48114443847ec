//! What a `[topic.NAME]` section says.

use gossip_core::topic::{self, Topic};
use gossip_core::value::Type;

use super::file::TopicSection;

/// What a section says about a topic.
pub(super) fn topic_of(
    name: &str,
    section: TopicSection,
    tables: &[String],
) -> Result<(Topic, Option<String>), String> {
    let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
    if name.is_empty() || name.len() > 63 || !name.chars().all(fits) || name.starts_with(|c: char| c.is_ascii_digit()) {
        return Err("expected a name of at most 63 lower-case letters, digits and _, not beginning with a digit".into());
    }
    if tables.iter().any(|t| t.eq_ignore_ascii_case(name)) {
        return Err("a table of the source has this name".into());
    }
    let mut columns = Vec::new();
    for (column, value) in section.columns {
        let (ty, from) = column_of(&column, &value).map_err(|why| format!("columns.{column}: {why}"))?;
        columns.push((column, ty, from));
    }
    let keep = match &section.keep {
        None if section.key.is_empty() => topic::Retention::Nothing,
        None => topic::Retention::Last,
        Some(toml::Value::Integer(n @ 1..)) if *n as usize <= topic::MAX_RETAINED => {
            topic::Retention::Newest(*n as usize)
        }
        Some(toml::Value::String(text)) if text == "last" => topic::Retention::Last,
        Some(toml::Value::String(text)) if text == "nothing" => topic::Retention::Nothing,
        Some(toml::Value::String(text)) if text.parse::<jiff::SignedDuration>().is_ok_and(|d| d.is_positive()) => {
            let time = text.parse::<jiff::SignedDuration>().map_or(0, |d| d.as_micros());
            topic::Retention::During(time.min(i64::MAX as i128) as i64)
        }
        Some(_) => {
            let most = topic::MAX_RETAINED;
            return Err(format!(
                "keep: expected \"last\", \"nothing\", a number up to {most}, or a time like \"10 minutes\""
            ));
        }
    };
    if let Some(from) = &section.from {
        gossip_relay::check_ingest(from)?;
    }
    let topic = Topic::new(name, columns, &section.key, keep, section.order.as_deref())?;
    Ok((topic, section.from))
}

/// A column of a topic: its type, or a table with the type and where the value comes from.
fn column_of(name: &str, value: &toml::Value) -> Result<(Type, topic::ColumnSource), String> {
    let ty = |text: &str| match Type::named(text) {
        Type::Any => {
            let known: Vec<String> = Type::declarable().map(|t| t.name().into_owned()).collect();
            let hint = gossip_protocol::spelling::similar(text, known.iter().map(String::as_str));
            let hint = hint.map_or(String::new(), |h| format!("; did you mean {h}?"));
            Err(format!("{text:?} is not a type{hint}; known: {}", known.join(", ")))
        }
        ty => Ok(ty),
    };
    let path = |text: &str| topic::ColumnSource::Path(text.split('.').map(String::from).collect());
    match value {
        toml::Value::String(text) => Ok((ty(text)?, topic::ColumnSource::Path(vec![name.into()]))),
        toml::Value::Table(t) => {
            let text = |key: &str| t.get(key).and_then(toml::Value::as_str);
            if let Some(stray) = t.keys().find(|k| !["type", "path", "attribute"].contains(&k.as_str())) {
                return Err(format!("{stray} is not known here; known: type, path, attribute"));
            }
            let declared = ty(text("type").ok_or("type is missing")?)?;
            match (text("path"), text("attribute")) {
                (Some(p), None) => Ok((declared, path(p))),
                (None, Some(a)) => {
                    let from = topic::ColumnSource::attribute(a)
                        .ok_or(format!("{a:?} is not an attribute; known: id, source, subject, time, sender"))?;
                    let fits = if from == topic::ColumnSource::Time { Type::Timestamptz } else { Type::Text };
                    if declared == fits { Ok((declared, from)) } else { Err(format!("{a} is of type {fits}")) }
                }
                _ => Err("expected path or attribute".into()),
            }
        }
        _ => Err("expected a type, or { type = …, path = … } or { type = …, attribute = … }".into()),
    }
}
