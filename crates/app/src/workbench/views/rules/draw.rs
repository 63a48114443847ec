//! Draws Rules: roles across and tables down, the text of the selected cell, and the effects of an edited text.

use gossip_core::what_if::{Effect as Differs, How};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line as Text, Span};
use unicode_width::UnicodeWidthStr;

use crate::workbench::line::RowShown;
use crate::workbench::paint::{put, rule};
use crate::workbench::state::{Click, State};
use crate::workbench::theme::Theme;
use crate::workbench::views::rules::state::{Cell, Different, Outcome, Over};
use crate::workbench::views::rules::update as rules;
use crate::workbench::words;
use crate::workbench::words::{counted, fit, time, wrap};

/// Maximum width of a table's name.
const NAME: usize = 22;

/// Width of a role.
const ROLE: usize = 14;

/// Width of a watcher's name.
const WHO: usize = 14;

/// Minimum width of what a person sees, and maximum width of one of its columns.
const PERSON: u16 = 38;
const CELL: usize = 16;

/// Below this width, the text is under the matrix.
const SIDE_BY_SIDE: u16 = 110;

/// Draws the view.
pub fn draw(s: &mut State, frame: &mut Frame<'_>, area: Rect) {
    if s.rules.seen.tables.is_empty() || s.rules.seen.roles.is_empty() {
        let text = "No tables or rules yet.";
        return put(frame, area, 1, Text::styled(fit(text, area.width as usize), s.theme.dim()));
    }
    let wide = area.width >= SIDE_BY_SIDE;
    let upper = if wide { (area.height * 11 / 20).max(10) } else { area.height * 13 / 20 };
    let (left, right) = match wide {
        true => {
            let half = area.width / 2;
            (
                Rect { width: half - 2, height: upper, ..area },
                Rect { x: area.x + half, width: area.width - half, height: upper, ..area },
            )
        }
        false => {
            let rows = (s.rules.seen.tables.len() as u16 + 2).min(upper / 2);
            (
                Rect { height: rows, ..area },
                Rect { y: area.y + rows + 1, height: upper.saturating_sub(rows + 1), ..area },
            )
        }
    };
    matrix(s, frame, left);
    text(s, frame, right);
    rule(s, frame, Rect { y: area.y + upper, height: 1, ..area });
    let below = Rect { y: area.y + upper + 1, height: area.height.saturating_sub(upper + 1), ..area };
    what_if(s, frame, below);
}

/// The text and style of a cell.
fn said(t: Theme, cell: Cell) -> (&'static str, Style) {
    match (cell.rules, cell.all_rows, cell.all_columns) {
        (0, ..) if cell.publishes => ("↗ publish", t.late()),
        (0, ..) => ("·", t.dim()),
        (_, true, true) if cell.publishes => ("■ all ↗", t.heard()),
        (_, false, true) if cell.publishes => ("▤ rows ↗", t.outside()),
        (_, true, true) => ("■ all", t.heard()),
        (_, false, true) => ("▤ some rows", t.outside()),
        (_, true, false) if cell.masked => ("▥ masked", t.outside()),
        (_, true, false) => ("▥ some cols", t.outside()),
        (_, false, false) => ("▦ rows+cols", t.outside()),
    }
}

fn matrix(s: &mut State, frame: &mut Frame<'_>, area: Rect) {
    let t = s.theme;
    let crate::workbench::views::rules::state::Seen { tables, roles, cells, .. } = &s.rules.seen;
    let chosen = s.rules.chosen;
    let name = tables.iter().map(|t| t.width() + 2).max().unwrap_or(0).min(NAME);
    let fits = ((area.width as usize).saturating_sub(name) / ROLE).max(1);
    let rows = (area.height as usize).saturating_sub(1).max(1);
    let (first_role, first_table) = (chosen.1.saturating_sub(fits - 1), chosen.0.saturating_sub(rows - 1));
    let mut head = vec![Span::styled(format!("{:<name$}  ", "table"), t.dim())];
    for (i, role) in roles.iter().enumerate().skip(first_role).take(fits) {
        let style = if i == chosen.1 { t.accent() } else { t.strong() };
        head.push(Span::styled(format!("{:<ROLE$}", fit(role, ROLE - 2)), style));
    }
    put(frame, area, 0, Text::from(head));
    let mut drawn = Vec::new();
    for (row, (i, table)) in tables.iter().enumerate().skip(first_table).take(rows).enumerate() {
        let style = if i == chosen.0 { t.accent() } else { Style::new() };
        put(frame, area, row as u16 + 1, Text::styled(format!("{:<name$}", fit(table, name - 1)), style));
        for (column, (j, cell)) in cells[i].iter().enumerate().skip(first_role).take(fits).enumerate() {
            let (word, style) = said(t, *cell);
            let here = Rect {
                x: area.x + (name + column * ROLE) as u16,
                y: area.y + row as u16 + 1,
                width: (ROLE - 1) as u16,
                height: 1,
            };
            let style = if (i, j) == chosen { style.patch(t.chosen()) } else { style };
            let mark = if (i, j) == chosen { "▸ " } else { "  " };
            let text = vec![
                Span::styled(mark, t.accent().patch(style.bg.map_or(Style::new(), |b| Style::new().bg(b)))),
                Span::styled(format!("{word:<w$}", w = ROLE - 3), style),
            ];
            put(frame, here, 0, Text::from(text));
            drawn.push((here, Click::Rules(i, j)));
        }
    }
    let (more, tables) = (roles.len().saturating_sub(first_role + fits), tables.len());
    s.places_on_screen.extend(drawn);
    let used = tables.min(rows) as u16 + 2;
    if more > 0 {
        put(
            frame,
            area,
            used,
            Text::styled(format!("{} to the right", counted(more, "more role", "more roles")), t.dim()),
        );
    } else if used + 1 < area.height {
        let text = "■ all  ▤ some rows  ▥ some columns  ▦ some of both  ↗ publish  · nothing";
        put(frame, area, used, Text::styled(fit(text, area.width as usize), t.dim()));
    }
}

/// The text of the selected cell, its errors, and the personas it covers.
fn text(s: &State, frame: &mut Frame<'_>, area: Rect) {
    let t = s.theme;
    let Some((role, table)) = rules::chosen(s) else { return };
    let edited = s.rules.edited.as_ref();
    let state = match edited {
        Some(e) if e.made.is_err() => Span::styled("   does not fit yet", t.withheld()),
        Some(_) if s.rules.can_save() => Span::styled("   edited, not saved", t.late()),
        _ => Span::raw(""),
    };
    put(frame, area, 0, Text::from(vec![Span::styled(format!("{role} on {table}"), t.strong()), state]));
    let shown: &[String] = match edited {
        Some(e) => e.editor.lines(),
        None => &s.rules.seen.text,
    };
    let about = about(s, &role);
    let problems: Vec<String> = match edited.map(|e| &e.made) {
        Some(Err(problems)) => problems
            .iter()
            .flat_map(|p| {
                let mark = |(i, line)| format!("{} {line}", if i == 0 { '▴' } else { ' ' });
                wrap(p, area.width as usize - 2).into_iter().enumerate().map(mark)
            })
            .take(4)
            .collect(),
        _ => vec![],
    };
    let room = (area.height as usize).saturating_sub(2 + problems.len() + about.len()).max(1);
    let (row, column) = edited.map_or((0, 0), |e| (e.editor.cursor().0, e.editor.cursor().1));
    let first = (row + 1).saturating_sub(room);
    let width = (area.width as usize).saturating_sub(3);
    if shown.is_empty() {
        let text = "Nothing: no rule grants it. e writes one.";
        put(frame, area, 1, Text::styled(fit(text, area.width as usize), t.dim()));
    }
    // Scroll a line that is longer than the window to the cursor.
    let aside = if s.rules.editing { (column + 1).saturating_sub(width) } else { 0 };
    for (i, line) in shown.iter().enumerate().skip(first).take(room) {
        let aside = if i == row { aside } else { 0 };
        let line: String = line.chars().skip(aside).collect();
        let bar = if edited.is_some() { t.accent() } else { t.dim() };
        let text = vec![Span::styled("▏ ", bar), Span::raw(fit(&line, width))];
        put(frame, area, (i - first) as u16 + 1, Text::from(text));
    }
    if s.rules.editing {
        let before: String = shown.get(row).map(|l| l.chars().take(column).skip(aside).collect()).unwrap_or_default();
        let x = area.x + 2 + (before.width() as u16).min(area.width.saturating_sub(3));
        frame.set_cursor_position((x, area.y + 1 + (row - first) as u16));
    }
    let mut at = shown.len().saturating_sub(first).min(room).max(1) as u16 + 1;
    for p in problems {
        put(frame, area, at, Text::styled(p, t.withheld()));
        at += 1;
    }
    at += 1;
    for line in about {
        put(frame, area, at, line);
        at += 1;
    }
}

fn about(s: &State, role: &str) -> Vec<Text<'static>> {
    let t = s.theme;
    let claims = &s.rules.seen.claims;
    let mut lines = Vec::new();
    if !claims.is_empty() {
        let names: Vec<String> = claims.iter().map(|c| format!("claim.{c}")).collect();
        lines.push(Text::from(vec![Span::styled("needs   ", t.dim()), Span::raw(names.join(", "))]));
    }
    let covered = rules::covered(s, role, claims);
    if s.personas.is_empty() {
        return lines;
    }
    let mut spans = vec![Span::styled("covers  ", t.dim())];
    if covered.is_empty() {
        spans.push(Span::raw("no persona has this role"));
    }
    for (i, (name, lacks)) in covered.iter().enumerate() {
        spans.push(Span::raw(if i > 0 { ", " } else { "" }));
        spans.push(Span::raw(name.clone()));
        if !lacks.is_empty() {
            spans.push(Span::styled(format!(" (lacks {})", lacks.join(", ")), t.withheld()));
        }
    }
    lines.push(Text::from(spans));
    lines
}

fn what_if(s: &State, frame: &mut Frame<'_>, area: Rect) {
    let t = s.theme;
    let width = area.width as usize;
    let Some(e) = &s.rules.edited else {
        if !s.rules.views.people.is_empty() {
            return people(s, frame, area);
        }
        let text = "e edits these rules. What the watchers would have heard with the edited ones is shown here, before \
                    anything is saved.";
        for (i, line) in wrap(text, width).into_iter().enumerate() {
            put(frame, area, i as u16, Text::styled(line, t.dim()));
        }
        return;
    };
    let over = match &e.over {
        _ if s.recorded && s.watchers.iter().all(|w| !s.personas.contains_key(&w.persona)) => {
            "the recording does not have the claims of those who listened".into()
        }
        _ if s.watchers.is_empty() => "there is no watcher to try it for: n in Earshot adds one".to_string(),
        _ if e.made.is_err() => "the text does not fit yet".into(),
        _ if e.waits() => "trying …".into(),
        None => "nothing changed yet".into(),
        Some(o) if o.transactions == 0 => "no transaction is remembered yet".into(),
        Some(o) => {
            let since = o.since.map_or(String::new(), |at| format!(", since {}", time(at)));
            format!("tried on {}{since}", counted(o.transactions as usize, "transaction", "recent transactions"))
        }
    };
    let head = vec![Span::styled("what if", t.strong()), Span::styled(format!("   {over}"), t.dim())];
    put(frame, area, 0, Text::from(head));
    let mut at = 1;
    for text in e.over.iter().flat_map(not_known) {
        put(frame, area, at, Text::styled(fit(&text, width), t.late()));
        at += 1;
    }
    for w in &s.watchers {
        let Some(outcome) = e.outcomes.get(&w.id) else { continue };
        let (text, style) = outcome_of(s, outcome);
        let line = vec![
            Span::styled(format!("{:<WHO$}", fit(&w.persona, WHO - 2)), t.strong()),
            Span::styled(fit(&text, width.saturating_sub(WHO)), style),
        ];
        put(frame, area, at, Text::from(line));
        at += 1;
    }
    at += 1;
    let all = rules::differences(s);
    let first = s.rules.scroll.min(all.len().saturating_sub(1));
    let room = area.height.saturating_sub(at) as usize;
    let shown: Vec<_> = all.iter().skip(first).take(room).map(|(id, d)| (*id, words::row(&row_of(d)), *d)).collect();
    let longest = shown.iter().map(|(_, change, _)| change.width()).max().unwrap_or(0);
    for (row, (id, change, d)) in shown.into_iter().enumerate() {
        let who = s.watcher(id).map_or("", |w| &w.persona);
        put(frame, area, at + row as u16, difference(s, who, d, (&change, longest), width));
    }
}

/// What the answer does not take into account.
fn not_known(over: &Over) -> Vec<String> {
    let unknown = over.unknown.iter().map(|text| format!("! not known what {text} finds, so it counts as nothing"));
    let left_out = (over.left_out > 0).then(|| {
        let rows = counted(over.left_out as usize, "row is", "rows are");
        format!("! {rows} left out: the recording has their values masked or cut, or not at all")
    });
    unknown.chain(left_out).collect()
}

/// What those see whom the rules cover, side by side.
fn people(s: &State, frame: &mut Frame<'_>, area: Rect) {
    let t = s.theme;
    let people = &s.rules.views.people;
    let table = rules::chosen(s).map_or(String::new(), |(_, table)| table.to_string());
    put(frame, area, 0, Text::styled(format!("what they see of {table} now"), t.strong()));
    let fits = ((area.width / PERSON).max(1) as usize).min(people.len());
    let width = area.width / fits as u16;
    for (i, person) in people.iter().take(fits).enumerate() {
        let here = Rect { x: area.x + i as u16 * width, y: area.y + 1, width: width - 2, height: area.height - 1 };
        let count = person.count.map_or(String::new(), |n| counted(n as usize, "row", "rows"));
        let head = vec![Span::styled(format!("{}  ", person.name), t.accent()), Span::styled(count, t.dim())];
        put(frame, here, 0, Text::from(head));
        if let Some(why) = &person.refused {
            for (row, part) in wrap(why, here.width as usize).into_iter().enumerate() {
                put(frame, here, row as u16 + 1, Text::styled(part, t.withheld()));
            }
            continue;
        }
        let columns = person.columns.iter().map(|name| (name, width_of(name, &person.rows))).collect::<Vec<_>>();
        let line = |cell: &dyn Fn(&str) -> String| {
            let cells = columns.iter().map(|(name, width)| format!("{:<width$}  ", fit(&cell(name), *width)));
            fit(&cells.collect::<String>(), here.width as usize)
        };
        put(frame, here, 1, Text::styled(line(&|name| name.to_string()), t.dim()));
        for (row, values) in person.rows.iter().enumerate() {
            // A value that is withheld is not there.
            let text = line(&|name| values.get(name).map_or("∅".into(), words::plain));
            put(frame, here, row as u16 + 2, Text::raw(text));
        }
    }
    if people.len() > fits {
        let text = format!("and {}", counted(people.len() - fits, "more", "more"));
        put(frame, Rect { x: area.x + area.width - 12, width: 12, ..area }, 0, Text::styled(text, t.dim()));
    }
}

/// The width of a column: that of its values, within limits.
fn width_of(name: &str, rows: &[serde_json::Map<String, serde_json::Value>]) -> usize {
    let values = rows.iter().filter_map(|row| row.get(name)).map(|v| words::plain(v).width());
    values.chain([name.width()]).max().unwrap_or(0).min(CELL)
}

fn row_of(d: &Different) -> RowShown {
    let key = d.key.iter().map(|k| k.as_str().map_or(k.to_string(), String::from)).collect::<Vec<_>>().join(", ");
    RowShown { table: d.table.clone(), key, old: d.old.clone(), new: d.new.clone() }
}

fn outcome_of(s: &State, outcome: &Result<Outcome, String>) -> (String, Style) {
    let t = s.theme;
    match outcome {
        Err(why) => (why.clone(), t.withheld()),
        Ok(o) => match (&o.refused, &o.would_be_refused) {
            (Some(why), Some(_)) => (format!("refused, as it is now: {why}"), t.dim()),
            (None, Some(why)) => (format!("would be refused, and hear nothing: {why}"), t.withheld()),
            (refused, None) => {
                let now = if refused.is_some() { "refused now; " } else { "" };
                let parts = [(o.more, "more"), (o.less, "less"), (o.otherwise, "in another way")];
                let told: Vec<String> =
                    parts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{n} {what}")).collect();
                match told.is_empty() {
                    true => (format!("{now}would have heard the same"), t.dim()),
                    false => (format!("{now}would have heard {}", told.join(", ")), Style::new()),
                }
            }
        },
    }
}

fn difference(s: &State, who: &str, d: &Different, (change, longest): (&str, usize), width: usize) -> Text<'static> {
    let t = s.theme;
    let (word, style) = match d.effect {
        Differs::More => ("more", t.heard()),
        Differs::Less => ("less", t.withheld()),
        Differs::Otherwise => ("other", t.late()),
    };
    let told = |verdict: &str, how: Option<How>| match (how, verdict) {
        (Some(How::Added), _) => "heard: added",
        (Some(How::Replaced), _) => "heard: replaced",
        (Some(How::Removed), _) => "heard: removed",
        (Some(How::Anew), _) => "heard: new snapshot",
        (None, "withheld") => "withheld by rule",
        (None, "outside") => "outside the query",
        (None, _) => "nothing it sees changed",
    };
    let (was, would_be) = (told(&d.verdict, d.heard), told(&d.would_be, d.would_be_heard));
    let when = d.at.parse::<jiff::Timestamp>().map_or(String::new(), |at| time(at.as_microsecond()));
    let turn = match was == would_be {
        true => format!("{was}, with other columns or values"),
        false => format!("{was} → {would_be}"),
    };
    let room = width.saturating_sub(WHO + 7 + 14 + 3 + turn.width()).min(longest);
    let change = fit(change, room);
    let gap = " ".repeat(room.saturating_sub(change.width()) + 3);
    Text::from(vec![
        Span::raw(format!("{:<WHO$}", fit(who, WHO - 2))),
        Span::styled(format!("{word:<7}"), style),
        Span::styled(format!("{when:<14}"), t.dim()),
        Span::raw(change + &gap),
        Span::styled(turn, t.dim()),
    ])
}
