//! Draws Ask: the query above, below it what each persona sees.

use gossip_core::explain::Passed;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line as Text, Span};
use ratatui::widgets::Clear;
use unicode_width::UnicodeWidthStr;

use crate::workbench::paint::{put, rule};
use crate::workbench::state::State;
use crate::workbench::views::ask::state::{BEGINNING, Pane, ShownRow};
use crate::workbench::views::ask::update::{cell, is_keyword, is_sought};
use crate::workbench::words::{fit, span, wrap};

/// Most lines shown of the query.
const QUERY: u16 = 5;

/// Height of a pane from which on it says more of its query, at its bottom.
const TALL: u16 = 16;

/// Widest column, where there is no lack of room.
const WIDEST: usize = 40;

/// A column is not made narrower than this so that another one has room.
const NARROW: usize = 12;

/// Draws the view.
pub fn draw(s: &mut State, frame: &mut Frame<'_>, area: Rect) {
    let lines = (s.ask.editor.lines().len() as u16).clamp(1, QUERY);
    let query = Rect { height: lines, x: area.x + 2, width: area.width.saturating_sub(2), ..area };
    editor(s, frame, query);
    let mut top = area.y + lines;
    if let Some(text) = refusal(s) {
        // Below the position of the error.
        put(frame, Rect { y: top, height: 1, ..query }, 0, text);
        top += 1;
    }
    rule(s, frame, Rect { y: top, height: 1, ..area });
    let below = Rect { y: top + 1, height: (area.y + area.height).saturating_sub(top + 1), ..area };
    if s.ask.panes.is_empty() {
        let text = match s.ask.who.is_empty() {
            true => "No persona chosen: press a.".to_string(),
            false => {
                let who = s.ask.who.join(", ");
                format!("enter runs it as {who}. A parameter like :agency takes each persona's claim of that name.")
            }
        };
        put(frame, below, 1, Text::styled(fit(&text, below.width as usize), s.theme.dim()));
    } else {
        panes(s, frame, below);
    }
    if s.ask.editing {
        offered(s, frame, query);
    }
}

fn editor(s: &State, frame: &mut Frame<'_>, area: Rect) {
    let (row, column) = (s.ask.editor.cursor().0, s.ask.editor.cursor().1);
    let first = row.saturating_sub(area.height.saturating_sub(1) as usize);
    let mark = if s.ask.editing { s.theme.accent() } else { s.theme.dim() };
    put(frame, Rect { x: area.x - 2, width: 2, ..area }, 0, Text::styled("▸", mark));
    if s.ask.text().is_empty() {
        let text = format!("{BEGINNING}…   (tab begins with this, ↑ has earlier and stored queries)");
        put(frame, area, 0, Text::styled(fit(&text, area.width as usize), s.theme.dim()));
    }
    for (i, line) in s.ask.editor.lines().iter().enumerate().skip(first).take(area.height as usize) {
        put(frame, area, (i - first) as u16, highlighted(s, line));
    }
    if s.ask.editing {
        let before: String =
            s.ask.editor.lines().get(row).map(|l| l.chars().take(column).collect()).unwrap_or_default();
        let x = area.x + (before.width() as u16).min(area.width.saturating_sub(1));
        frame.set_cursor_position((x, area.y + (row - first) as u16));
    }
}

/// A line of SQL, highlighted: keywords, strings, parameters, numbers.
fn highlighted(s: &State, line: &str) -> Text<'static> {
    let t = s.theme;
    let mut spans = Vec::new();
    let mut rest = line;
    while let Some(c) = rest.chars().next() {
        let length =
            |fits: fn(char) -> bool| rest[c.len_utf8()..].find(|c| !fits(c)).map_or(rest.len(), |n| n + c.len_utf8());
        let in_word = |c: char| c.is_alphanumeric() || c == '_';
        let (n, style) = match c {
            '\'' => (rest[1..].find('\'').map_or(rest.len(), |n| n + 2), t.heard()),
            ':' => (length(in_word), t.late()),
            c if c.is_ascii_digit() => (length(|c| c.is_ascii_digit() || c == '.'), t.outside()),
            c if in_word(c) => {
                let n = length(in_word);
                (n, if is_keyword(&rest[..n]) { t.strong() } else { Style::new() })
            }
            c => (c.len_utf8(), t.dim()),
        };
        spans.push(Span::styled(rest[..n].replace(char::is_control, " "), style));
        rest = &rest[n..];
    }
    Text::from(spans)
}

/// The query's error, under its place; with whom it is about, where others see a result.
fn refusal(s: &State) -> Option<Text<'static>> {
    let (refused, some) = s.ask.refusal()?;
    // The position refers to the query that was run.
    let same = s.ask.running.as_deref() == Some(s.ask.text().trim());
    let indent = match refused.place {
        Some((line, column)) if same && line == s.ask.editor.lines().len() => column.saturating_sub(1),
        _ => 0,
    };
    let all = s.ask.panes.iter().filter(|p| p.refused.as_ref().is_some_and(|r| r.text == refused.text));
    let who = if some {
        format!("{}: ", all.map(|p| p.persona.as_str()).collect::<Vec<_>>().join(", "))
    } else {
        String::new()
    };
    let text = format!("{}▴ {who}{}", " ".repeat(indent.min(60)), refused.text);
    Some(Text::styled(text.replace(char::is_control, " "), s.theme.withheld()))
}

fn offered(s: &State, frame: &mut Frame<'_>, area: Rect) {
    if s.ask.offered.is_empty() {
        return;
    }
    let width = s.ask.offered.iter().map(|o| o.width()).max().unwrap_or(0) as u16 + 4;
    let (row, column) = (s.ask.editor.cursor().0, s.ask.editor.cursor().1);
    let y = area.y + (row as u16).min(area.height.saturating_sub(1)) + 1;
    let x = (area.x + column as u16).min((area.x + area.width).saturating_sub(width));
    let place = Rect { x, y, width, height: s.ask.offered.len() as u16 }.intersection(frame.area());
    frame.render_widget(Clear, place);
    for (i, offer) in s.ask.offered.iter().enumerate() {
        let style = if i == s.ask.picked { s.theme.accent() } else { s.theme.dim() };
        let here = if i == s.ask.picked { "▸ " } else { "  " };
        put(frame, place, i as u16, Text::styled(format!("{here}{offer}"), style));
    }
}

fn panes(s: &State, frame: &mut Frame<'_>, area: Rect) {
    let n = s.ask.panes.len() as u16;
    // Side by side if each has room, else one below the other.
    let refused = s.ask.panes.iter().filter(|p| p.refused.is_some()).count() as u16;
    let shown = n - refused;
    // Who was refused has nothing to show but that; the others have the rest.
    let narrow = if shown > 0 { 26 } else { area.width / n };
    let wide = area.width.saturating_sub(refused * narrow).checked_div(shown).unwrap_or(narrow);
    let beside = wide >= 36;
    let mut x = area.x;
    for (i, pane) in s.ask.panes.iter().enumerate() {
        let place = if beside {
            let width = if pane.refused.is_some() { narrow } else { wide };
            let place = Rect { x, width: width.saturating_sub(2), ..area };
            x += width;
            place
        } else {
            let height = area.height / n;
            Rect { y: area.y + i as u16 * height, height, ..area }
        };
        draw_pane(s, frame, place, pane);
    }
}

fn draw_pane(s: &State, frame: &mut Frame<'_>, area: Rect, pane: &Pane) {
    let t = s.theme;
    let width = area.width as usize;
    let state = match (&pane.refused, &pane.lost, &pane.columns) {
        (Some(_), ..) => Span::styled("refused", t.withheld()),
        (None, Some((since, _)), _) => {
            Span::styled(format!("∅ out of touch for {}", span(s.now - since)), t.withheld())
        }
        (None, None, None) => Span::styled("asking …", t.late()),
        (None, None, Some(_)) => {
            let rows = if pane.total == 1 { "1 row".into() } else { format!("{} rows", pane.total) };
            match s.ask.find.as_str() {
                "" => Span::styled(rows, t.dim()),
                find => Span::styled(format!("{rows}, shown with “{find}”"), t.accent()),
            }
        }
    };
    let head = vec![
        Span::styled(fit(&pane.persona, 16), t.strong()),
        Span::styled(format!("  {}  ", fit(&pane.role, 14)), t.dim()),
        state,
    ];
    put(frame, area, 0, Text::from(head));
    let described: Vec<(&str, String)> = if area.height > TALL { lines(s, pane, width) } else { vec![] };
    let about = if described.is_empty() { 0 } else { described.len() as u16 + 1 }.min(area.height / 2);
    let table = Rect { y: area.y + 1, height: area.height.saturating_sub(1 + about), ..area };
    match &pane.columns {
        Some(columns) => {
            let names: Vec<String> = columns.iter().map(|c| c.name.clone()).collect();
            draw_table(s, frame, table, &names, &pane.rows);
        }
        None => {
            // What stands under the query is not said again.
            let said = s.ask.refusal().map(|(refused, _)| &refused.text);
            let own = pane.refused.iter().filter(|refused| Some(&refused.text) != said).map(|r| r.text.clone());
            let why = pane.why_not.iter().filter(|step| step.verdict == Passed::No);
            let why = why.flat_map(|step| [format!("✗ {}", step.text)].into_iter().chain(step.values.clone()));
            let lines = own.chain(why).flat_map(|text| wrap(&text, width));
            for (row, line) in lines.take(table.height as usize).enumerate() {
                put(frame, table, row as u16, Text::styled(line, t.dim()));
            }
        }
    }
    let foot = Rect { y: area.y + area.height - about, height: about, ..area };
    for (row, (name, part)) in described.into_iter().enumerate() {
        let line = vec![Span::styled(format!("{name:<8}"), t.dim()), Span::raw(part)];
        put(frame, foot, row as u16 + 1, Text::from(line));
    }
}

/// The details of a pane's query, line by line.
fn lines(s: &State, pane: &Pane, width: usize) -> Vec<(&'static str, String)> {
    let mut lines = Vec::new();
    for (name, text) in describe(s, pane) {
        let parts = wrap(&text, width.saturating_sub(8)).into_iter().enumerate();
        lines.extend(parts.map(|(i, part)| (if i == 0 { name } else { "" }, part)));
    }
    lines
}

/// The details of a pane's query.
fn describe(s: &State, pane: &Pane) -> Vec<(&'static str, String)> {
    if pane.refused.is_some() {
        return vec![];
    }
    let deltas = match pane.last {
        None => "none yet".into(),
        Some(at) => format!("{}, the last {} ago", pane.deltas, span((s.now - at).max(0))),
    };
    match &pane.about {
        Some(Ok(about)) => {
            let cost = about.cost_ns.map_or(String::new(), |ns| format!(", {:.2} µs per change", ns as f64 / 1e3));
            let feed = about.feed.map_or("not shared now".into(), |(id, n)| {
                format!("{id}, of {n} subscription{}{cost}", if n == 1 { "" } else { "s" })
            });
            // The effective condition is what differs between personas.
            let rows = about.rows.clone().unwrap_or_else(|| "all rows".into());
            let then = about.then.iter().map(|then| ("then", then.clone()));
            let index = format!("{}; reads {}", about.found_by, about.reads);
            [("deltas", deltas), ("feed", feed), ("index", index), ("where", rows)].into_iter().chain(then).collect()
        }
        Some(Err(e)) => vec![("deltas", deltas), ("where", e.clone())],
        None => vec![("deltas", deltas)],
    }
}

/// Columns that fit, and how wide each is: wide ones give way before one is left out, and only where some are, there is
/// room for saying so.
fn fitting(mut widths: Vec<usize>, room: usize) -> Vec<usize> {
    let total = |widths: &[usize]| widths.iter().map(|w| w + 2).sum::<usize>();
    // The last column needs no gap after it.
    while total(&widths) > room + 2 {
        match widths.iter_mut().max().filter(|w| **w > NARROW) {
            Some(widest) => *widest -= 1,
            None => break,
        }
    }
    if total(&widths) <= room + 2 {
        return widths;
    }
    let mut left = room.saturating_sub(6);
    let fits = |w: &&usize| {
        let fits = **w + 2 <= left;
        left = left.saturating_sub(**w + 2);
        fits
    };
    let count = widths.iter().take_while(fits).count().max(1);
    widths.truncate(count);
    widths
}

fn draw_table(s: &State, frame: &mut Frame<'_>, area: Rect, names: &[String], rows: &[ShownRow]) {
    let t = s.theme;
    let aside = s.ask.aside.min(names.len().saturating_sub(1));
    let names = &names[aside..];
    let sought = rows.iter().filter(|r| is_sought(r, &s.ask.find));
    let shown: Vec<&ShownRow> = sought.skip(s.ask.scroll).take(area.height.saturating_sub(1) as usize).collect();
    let texts: Vec<Vec<String>> =
        shown.iter().map(|r| r.cells.iter().skip(aside).map(|c| cell(c.as_ref())).collect()).collect();
    let widths: Vec<usize> = names
        .iter()
        .enumerate()
        .map(|(i, name)| {
            let widest = texts.iter().filter_map(|r| r.get(i)).map(|c| c.width()).max().unwrap_or(0);
            widest.max(name.width()).min(WIDEST)
        })
        .collect();
    let padded = |text: &str, width: usize| {
        let text = fit(text, width);
        let gap = width.saturating_sub(text.width()) + 2;
        text + &" ".repeat(gap)
    };
    let widths = fitting(widths, (area.width as usize).saturating_sub(2));
    let widths = widths.as_slice();
    let more = names.len() - widths.len();
    if more > 0 {
        let text = format!("+{more} →");
        let place = Rect { x: area.x + area.width.saturating_sub(5), width: 5, height: 1, ..area };
        put(frame, place, 0, Text::styled(text, t.accent()));
    }
    let head: Vec<Span<'_>> = names.iter().zip(widths).map(|(n, w)| Span::styled(padded(n, *w), t.dim())).collect();
    let named = Rect { width: area.width.saturating_sub(if more > 0 { 6 } else { 0 }), ..area };
    put(frame, named, 0, Text::from([vec![Span::raw("  ")], head].concat()));
    for (i, (row, texts)) in shown.iter().zip(&texts).enumerate() {
        let (shape, style) = match row.mark {
            Some((mark, _)) => (mark.shape(), mark.style(t)),
            None => (" ", Style::new()),
        };
        let gone = matches!(row.mark, Some((crate::workbench::marks::Mark::Removed, _)));
        let mut spans = vec![Span::styled(format!("{shape} "), style)];
        for (n, (text, width)) in texts.iter().zip(widths).enumerate() {
            let n = n + aside;
            let changed = row.changed.get(n).copied().unwrap_or(false);
            let hidden = row.cells.get(n).is_some_and(|c| c.is_none());
            let look = match () {
                () if gone => t.dim().add_modifier(Modifier::CROSSED_OUT),
                () if changed => style.add_modifier(Modifier::BOLD),
                () if row.mark.is_some() && !row.changed.contains(&true) => style,
                () if hidden => t.dim(),
                () => Style::new(),
            };
            spans.push(Span::styled(padded(text, *width), look));
        }
        put(frame, area, i as u16 + 1, Text::from(spans));
    }
}
