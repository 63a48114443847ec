//! Draws Tables: the list above, below it the selected table's columns and findings.

use std::collections::BTreeSet;

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line as Text, Span};
use ratatui::widgets::Paragraph;

use crate::workbench::paint::{put, rule};
use crate::workbench::state::{Click, State};
use crate::workbench::views::tables::state::{Entry, Group};
use crate::workbench::words;
use crate::workbench::words::{fit, time, wrap};

/// A column of the list: heading, width, and whether a narrow screen omits it.
const LIST: [(&str, usize, bool); 10] = [
    ("table", 20, false),
    ("streams", 11, false),
    ("key", 14, false),
    ("old values", 12, true),
    ("rows", 11, false),
    ("since", 10, true),
    ("changes/min", 15, false),
    ("last change", 14, true),
    ("feeds", 9, false),
    ("may be read by", 30, false),
];

/// Lines that are left for findings under a table's columns.
const FINDINGS: u16 = 5;

/// Indices of numeric columns.
const NUMBERS: [usize; 4] = [4, 5, 6, 8];

/// Draws the view.
#[expect(clippy::too_many_lines, reason = "one screen, from top to bottom")]
pub fn draw(s: &mut State, frame: &mut Frame<'_>, area: Rect) {
    let t = s.theme;
    let narrow = area.width < 120;
    let entries = s.tables.entries();
    if entries.is_empty() {
        let text = match s.tables.find.as_str() {
            "" => "No tables yet.".to_string(),
            find => format!("No table has “{find}” in its name or in a column's. esc shows all."),
        };
        return put(frame, area, 1, Text::styled(text, t.dim()));
    }
    let columns: Vec<usize> = (0..LIST.len()).filter(|&i| !(narrow && LIST[i].2)).collect();
    let used: usize = columns.iter().filter(|&&i| i + 1 < LIST.len()).map(|&i| LIST[i].1).sum();
    let last = (area.width as usize).saturating_sub(used).max(2);
    let cut = |text: &str, i: usize| match LIST[i] {
        (_, width, _) if NUMBERS.contains(&i) => format!("{:>n$}   ", fit(text, width - 3), n = width - 3),
        (_, width, _) => {
            let width = if i == LIST.len() - 1 { last } else { width };
            format!("{:<width$}", fit(text, width - 1))
        }
    };
    let head: String = columns.iter().map(|&i| cut(LIST[i].0, i)).collect();
    let style = if s.tables.find.is_empty() { t.dim() } else { t.accent() };
    put(frame, area, 0, Text::styled(head, style));
    let room = if narrow { area.height as usize / 3 } else { area.height as usize / 2 }.max(4);
    let listed = listed(&entries);
    let at = listed.iter().position(|row| *row == Listed::Entry(s.tables.chosen)).unwrap_or(0);
    let first = at.saturating_sub(room - 1);
    let mut drawn = Vec::new();
    for (row, listed) in listed.iter().skip(first).take(room).enumerate() {
        let here = Rect { y: area.y + 1 + row as u16, height: 1, ..area };
        let i = match *listed {
            Listed::Heading(text) => {
                put(frame, here, 0, Text::styled(text, t.dim()));
                continue;
            }
            Listed::Entry(i) => i,
        };
        let chosen = i == s.tables.chosen;
        let base = if chosen { t.chosen() } else { Style::new() };
        if chosen {
            frame.render_widget(Paragraph::new("").style(base), here);
        }
        drawn.push((here, Click::Table(i)));
        let cells = cells(s, &entries[i]);
        let spans: Vec<Span<'_>> = columns
            .iter()
            .map(|&c| {
                let style = match c {
                    0 if chosen => t.accent(),
                    1 if cells[1].starts_with('◆') => t.withheld(),
                    1 if cells[1].starts_with('●') => t.heard(),
                    1 => t.dim(),
                    _ => Style::new(),
                };
                Span::styled(cut(&cells[c], c), base.patch(style))
            })
            .collect();
        put(frame, here, 0, Text::from(spans).style(base));
    }
    let mut top = area.y + 1 + listed.len().min(room) as u16;
    rule(s, frame, Rect { y: top, height: 1, ..area });
    if let Some(text) = standing(s) {
        put(frame, Rect { y: top + 1, height: 1, ..area }, 0, text);
        top += 2;
    }
    let below = Rect { y: top + 1, height: (area.y + area.height).saturating_sub(top + 1), ..area };
    if let Some(entry) = entries.get(s.tables.chosen) {
        // Where they stand below each other, what is in the way needs room.
        let left = match narrow {
            true => Rect { height: below.height.saturating_sub(FINDINGS), ..below },
            false => Rect { width: below.width / 2, ..below },
        };
        let used = draw_columns(s, frame, left, entry);
        let right = match narrow {
            true => Rect { y: below.y + used + 1, height: below.height.saturating_sub(used + 1), ..below },
            false => Rect { x: below.x + below.width / 2 + 1, width: below.width / 2 - 1, ..below },
        };
        draw_findings(s, frame, right, entry);
        let rest = Rect { y: left.y + used + 1, height: left.height.saturating_sub(used + 1), ..left };
        if !narrow && rest.height > 2 {
            draw_changes(s, frame, rest, entry.name);
        }
    }
    s.places_on_screen.extend(drawn);
}

/// A row of the list.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Listed {
    /// What a group has in common.
    Heading(&'static str),
    /// One of the entries.
    Entry(usize),
}

/// The entries in their groups. The first is headed by the names of the columns.
fn listed(entries: &[Entry<'_>]) -> Vec<Listed> {
    let mut rows = Vec::new();
    for (i, entry) in entries.iter().enumerate() {
        let begins = entry.group != Group::Tables && (i == 0 || entries[i - 1].group != entry.group);
        rows.extend(begins.then(|| Listed::Heading(entry.group.heading())));
        rows.push(Listed::Entry(i));
    }
    rows
}

/// That on which streaming depends, in one line.
fn standing(s: &State) -> Option<Text<'static>> {
    let Some(Ok(found)) = &s.tables.inspection else { return None };
    let mut spans = Vec::new();
    for one in &found.standing {
        let gap = if spans.is_empty() { "" } else { "     " };
        let style = if one.wrong { s.theme.withheld() } else { Style::new() };
        spans.push(Span::styled(format!("{gap}{}  ", one.what), s.theme.dim()));
        spans.push(Span::styled(one.how.clone(), style));
    }
    (!spans.is_empty()).then(|| Text::from(spans))
}

/// The newest changes of a table, from Earshot.
fn draw_changes(s: &State, frame: &mut Frame<'_>, area: Rect, table: &str) {
    let t = s.theme;
    let of_table = s.lines.iter().filter_map(|l| l.rows.iter().find(|r| r.table == table).map(|r| (l, r)));
    let newest: Vec<_> = of_table.take(area.height.saturating_sub(1) as usize).collect();
    if newest.is_empty() {
        return;
    }
    put(frame, area, 0, Text::styled("its newest changes", t.strong()));
    for (i, (line, row)) in newest.into_iter().enumerate() {
        let text = fit(&words::row(row), (area.width as usize).saturating_sub(16));
        let when = format!("  {:<14}", time(line.committed.1));
        put(frame, area, i as u16 + 1, Text::from(vec![Span::styled(when, t.dim()), Span::raw(text)]));
    }
}

fn cells(s: &State, e: &Entry<'_>) -> Vec<String> {
    let row = e.known.map(|k| &k.row);
    let blocked = s.tables.findings(e.name).iter().any(|f| f.blocks && f.about == e.name);
    let unfit = e.inspected.is_some_and(|i| i.unfit.is_some() && !i.wanted);
    let streams = match (e.known, e.inspected.map(|i| i.wanted)) {
        _ if e.group == Group::System => "● yes",
        _ if unfit => "╳ cannot",
        (Some(_), _) if e.group == Group::Topics => "● events",
        _ if blocked => "◆ in part",
        // Rows without a key can only be added.
        (Some(known), _) if known.row.key.is_empty() => "● inserts",
        (Some(_), _) => "● yes",
        (None, Some(true)) => "◌ waits",
        (None, _) => "· no",
    };
    let key = match (e.known, e.inspected) {
        (Some(known), _) => known.row.key.clone(),
        (None, Some(i)) => i.columns.iter().filter(|c| c.key).map(|c| c.name.as_str()).collect::<Vec<_>>().join(", "),
        _ => e.shape().map_or(String::new(), |shape| {
            shape.columns[..shape.key].iter().map(|(name, _)| *name).collect::<Vec<_>>().join(", ")
        }),
    };
    let old = match row.map(|row| row.old_values) {
        _ if e.group != Group::Tables => "",
        Some(true) => "known",
        Some(false) => "no",
        None => "",
    };
    let rows = match e.inspected {
        Some(i) if i.unfit.is_some() => String::new(),
        Some(i) => i.rows.map_or("many".into(), |n| n.to_string()),
        None => String::new(),
    };
    let since = match (e.inspected.and_then(|i| i.rows), s.tables.first_rows.get(e.name)) {
        (Some(now), Some(first)) if now != *first => format!("{:+}", now as i64 - *first as i64),
        _ => String::new(),
    };
    let changed = row.and_then(|row| row.last_change.as_deref());
    let changed = changed.and_then(|t| t.parse::<jiff::Timestamp>().ok()).map(|t| time(t.as_microsecond()));
    let feeds = row.map(|row| row.feeds);
    vec![
        e.name.to_string(),
        streams.into(),
        key,
        old.into(),
        rows,
        since,
        e.known.map_or(String::new(), |k| k.per_minute().to_string()),
        changed.unwrap_or_default(),
        feeds.map_or(String::new(), |n| n.to_string()),
        may_read(s, e),
    ]
}

/// The roles that may read it.
fn may_read(s: &State, e: &Entry<'_>) -> String {
    let granted =
        s.tables.rules.iter().filter(|r| r.may.read && r.table.to_string() == e.name).map(|r| r.role.as_str());
    match e.known.map(|known| known.row.roles.as_str()) {
        _ if e.group == Group::System => {
            granted.chain(["operators"]).collect::<BTreeSet<_>>().into_iter().collect::<Vec<_>>().join(", ")
        }
        Some("") => "nobody: no rule".into(),
        Some(roles) => roles.into(),
        None => String::new(),
    }
}

fn draw_columns(s: &State, frame: &mut Frame<'_>, area: Rect, e: &Entry<'_>) -> u16 {
    let t = s.theme;
    let operations = match e.known.map(|k| k.row.key.as_str()) {
        None => "",
        Some(_) if e.group == Group::Topics => "   its last events are rows",
        Some("") if e.group == Group::Topics => "   each event is a row",
        Some("") => "   inserts stream; updates and deletes do not stream without a key",
        Some(_) => "   insert, update and delete stream",
    };
    let head = vec![Span::styled(e.name.to_string(), t.strong()), Span::styled(operations, t.dim())];
    put(frame, area, 0, Text::from(head));
    let has_rules = !s.tables.rules.is_empty();
    let sees = if has_rules { "seen by" } else { "" };
    put(frame, area, 1, Text::styled(format!("  {:<20}{:<26}{sees}", "column", "type"), t.dim()));
    let lines: Vec<(String, String, bool, String)> = match e.inspected {
        Some(i) => i
            .columns
            .iter()
            .map(|c| {
                let refers = c.refers_to.as_ref().map_or(String::new(), |(t, _)| format!("→ {t}"));
                (c.name.clone(), if c.declared.is_empty() { "any".into() } else { c.declared.clone() }, c.key, refers)
            })
            .collect(),
        None => e.columns().into_iter().map(|(name, ty)| (name, ty, false, String::new())).collect(),
    };
    let room = area.height.saturating_sub(3) as usize;
    for (i, (name, ty, key, refers)) in lines.iter().take(room).enumerate() {
        let roles = s.tables.roles_seeing(e.name, name);
        let seen = match () {
            () if !has_rules => String::new(),
            () if e.group == Group::System => [&roles[..], &["operators"]].concat().join(", "),
            () if roles.is_empty() => "nobody".into(),
            () => roles.join(", "),
        };
        let style = if roles.is_empty() && e.group != Group::System { t.withheld() } else { Style::new() };
        let line = Text::from(vec![
            Span::styled(if *key { "* " } else { "  " }, t.accent()),
            Span::raw(format!("{:<20}", fit(name, 19))),
            Span::styled(format!("{:<26}", fit(ty, 25)), t.dim()),
            Span::styled(fit(&seen, (area.width as usize).saturating_sub(50 + refers.chars().count())), style),
            Span::styled(if refers.is_empty() { String::new() } else { format!("   {refers}") }, t.dim()),
        ]);
        put(frame, area, i as u16 + 2, line);
    }
    let shown = lines.len().min(room);
    if lines.len() > shown {
        let text = format!("  and {} more columns", lines.len() - shown);
        put(frame, area, shown as u16 + 2, Text::styled(text, t.dim()));
    }
    shown as u16 + 3
}

fn draw_findings(s: &State, frame: &mut Frame<'_>, area: Rect, e: &Entry<'_>) {
    let t = s.theme;
    let width = area.width as usize;
    if e.group == Group::System {
        return;
    }
    put(frame, area, 0, Text::styled("what is in the way", t.strong()));
    let mut row = 1;
    let mut say = |text: Text<'static>| {
        put(frame, area, row, text);
        row += 1;
    };
    match &s.tables.inspection {
        _ if e.group == Group::Topics => {}
        Some(Err(why)) => return say(Text::styled(fit(why, width), t.withheld())),
        None if s.has_database => return say(Text::styled("looking …", t.dim())),
        None => {
            return say(Text::styled(
                fit("The database is not reachable from here: run gossip check next to it.", width),
                t.dim(),
            ));
        }
        Some(Ok(_)) => {}
    }
    let findings = if e.group == Group::Tables { s.tables.findings(e.name) } else { vec![] };
    let chosen = crate::workbench::views::tables::update::fixable(s);
    if e.inspected.is_some_and(|i| i.unfit.is_some() && !i.wanted) {
        say(Text::from("It cannot stream."));
    } else if e.inspected.is_some_and(|i| !i.wanted) {
        say(Text::from("It does not stream. Press s to stream it."));
    } else if findings.is_empty() {
        say(Text::from(vec![Span::styled("✓ ", t.heard()), Span::raw("nothing")]));
    }
    for f in findings {
        let (shape, style) = if f.blocks { ("◆ ", t.withheld()) } else { ("! ", t.late()) };
        for (i, part) in wrap(&format!("{}: {}", f.about, f.text), width.saturating_sub(2)).into_iter().enumerate() {
            say(Text::from(vec![Span::styled(if i == 0 { shape } else { "  " }, style), Span::raw(part)]));
        }
        if let Some(fix) = &f.fix {
            let here = chosen.as_ref() == Some(f);
            for (i, part) in wrap(fix, width.saturating_sub(4)).into_iter().enumerate() {
                let mark = if here && i == 0 { "  ▸ " } else { "    " };
                say(Text::from(vec![Span::styled(mark, t.accent()), Span::styled(part, t.dim())]));
            }
        }
    }
    let streams = e.known.is_some();
    let sees_nobody = e.known.is_some_and(|k| k.row.roles.is_empty());
    if streams && sees_nobody {
        say(Text::from(vec![
            Span::styled("! ", t.late()),
            Span::raw("no rule grants anything on it: nobody can read it"),
        ]));
    }
    let grows = s.tables.first_rows.get(e.name).zip(e.inspected.and_then(|i| i.rows)).is_some_and(|(a, b)| *a != b);
    if grows && !streams {
        say(Text::from(vec![
            Span::styled("! ", t.late()),
            Span::raw("rows were added or removed since, without a change in the stream"),
        ]));
    }
}
