//! Draws Earshot: transactions from top to bottom, newest first; each watcher is a column.

use gossip_core::explain::{Passed, Step};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line as Text, Span};
use ratatui::widgets::Paragraph;
use unicode_width::UnicodeWidthStr;

use super::columns::{COLUMN, TIME, column_at};
use super::{sight, summed};
use crate::workbench::line::{Line, Stage};
use crate::workbench::marks::Mark;
use crate::workbench::paint::{put, rule};
use crate::workbench::state::{Click, Link, State, WatcherState};
use crate::workbench::words;
use crate::workbench::words::{fit, span, time};

/// Minimum width of what changed.
const WHAT: u16 = 26;

/// From this width on, the legend shows all marks.
const WIDE: u16 = 130;

/// Draws the view.
pub fn draw(s: &mut State, frame: &mut Frame<'_>, area: Rect) {
    let columns = columns(s, area.width);
    let taken = columns.len() as u16 * COLUMN;
    let what = area.width.saturating_sub(TIME + taken + 2);
    heading(s, frame, area, &columns, what);
    let why = if s.why.is_some() { why_height(s, area) } else { 0 };
    let legend = if area.height > 20 { 2 } else { 0 };
    let list = Rect { y: area.y + 4, height: area.height.saturating_sub(4 + why + legend), ..area };
    s.page = (list.height as usize).max(1);
    if s.is_summed() {
        summed::draw(s, frame, list, &columns, what);
    } else {
        let drawn = lines(s, frame, list, &columns, what);
        s.places_on_screen.extend(drawn);
    }
    for (n, i) in columns.iter().enumerate() {
        let whole = Rect { height: area.height, y: area.y, ..column_at(area, columns.len(), n) };
        s.places_on_screen.push((whole, Click::Watcher(*i)));
    }
    if why > 0 {
        draw_why(s, frame, Rect { y: list.y + list.height, height: why, ..area });
    }
    if legend > 0 {
        draw_legend(s, frame, Rect { y: area.y + area.height - legend, height: legend, ..area }, &columns);
    }
}

/// The watchers that fit, including the selected one.
fn columns(s: &State, width: u16) -> Vec<usize> {
    let fit = (width.saturating_sub(TIME + WHAT + 2) / COLUMN) as usize;
    let n = s.watchers.len();
    let first = if n <= fit { 0 } else { s.column.saturating_sub(fit.saturating_sub(1)).min(n - fit) };
    (first..n.min(first + fit)).collect()
}

fn heading(s: &State, frame: &mut Frame<'_>, area: Rect, columns: &[usize], what: u16) {
    let t = s.theme;
    let newer = s.newer();
    let text = sight::text(s);
    let held = match (s.held, newer) {
        (None, _) => Span::raw(""),
        (Some(_), 0) => Span::styled("   paused", t.accent()),
        (Some(_), n) => Span::styled(format!("   paused, {n} newer"), t.accent()),
    };
    let head = vec![
        Span::styled(format!("{:<width$}", "time", width = TIME as usize), t.dim()),
        Span::styled(fit(&text, what.saturating_sub(21) as usize), t.dim()),
        held,
    ];
    put(frame, Rect { width: TIME + what, ..area }, 0, Text::from(head));
    for (n, i) in columns.iter().enumerate() {
        let w = &s.watchers[*i];
        let at = column_at(area, columns.len(), n);
        let chosen = *i == s.column;
        let name = if chosen { t.accent() } else { t.strong() };
        let cell = |text: &str| fit(text, COLUMN as usize - 1);
        put(frame, at, 0, Text::styled(cell(&w.persona), name));
        put(frame, at, 1, Text::styled(cell(&w.role), t.dim()));
        let place = s.places.get(w.place).map_or("", |p| p.name.as_str());
        let (place, style) = match (&w.refused, &w.link) {
            (Some(_), _) => (cell("refused"), t.missed()),
            (None, Link::Up(_)) => (cell(place), t.dim()),
            (None, Link::Connecting) => (cell("connecting"), t.late()),
            (None, Link::Down(since, _)) => (cell(&format!("∅ {}", span(s.now - since))), t.withheld()),
        };
        put(frame, at, 2, Text::styled(place, style));
    }
    rule(s, frame, Rect { y: area.y + 3, height: 1, ..area });
    let hidden = s.watchers.len() - columns.len();
    if hidden > 0 {
        let text = format!("{hidden} more: tab");
        let place = Rect { x: area.x + TIME, y: area.y + 2, height: 1, width: what };
        put(frame, place, 0, Text::styled(format!("{text:>w$}", w = what as usize - 2), t.accent()));
    }
}

/// Draws the lines and returns their areas.
fn lines(s: &State, frame: &mut Frame<'_>, area: Rect, columns: &[usize], what: u16) -> Vec<(Rect, Click)> {
    let t = s.theme;
    let mut drawn = Vec::new();
    if s.lines.is_empty() {
        let text = match s.places.iter().any(|p| matches!(p.link, Link::Up(_))) {
            true => "Nothing has changed yet. m makes a change; any other program's changes show up here as well.",
            false => "Connecting …",
        };
        put(frame, area, 1, Text::styled(text, t.dim()));
        return drawn;
    }
    let chosen = s.chosen_line().map(|l| l.id);
    let mut row = 0;
    let skip = s.newer();
    if s.visible().next().is_none() {
        put(frame, area, 1, Text::styled("Nothing of what has changed is shown: esc shows all, k chooses.", t.dim()));
    }
    let names = Names::of(s.visible().skip(skip).take(area.height as usize), what as usize);
    for line in s.visible().skip(skip) {
        if row >= area.height {
            break;
        }
        let here = Rect { y: area.y + row, height: 1, ..area };
        let is_chosen = Some(line.id) == chosen && s.held.is_some() || Some(line.id) == s.chosen;
        if is_chosen {
            frame.render_widget(Paragraph::new("").style(t.chosen()), here);
        }
        draw_line(s, frame, here, line, columns, (what, names), is_chosen);
        drawn.push((here, Click::Line(line.id)));
        row += 1;
        if line.unfolded {
            for shown in &line.rows {
                let text = format!("· {}", words::row(shown));
                let here = Rect { x: area.x + TIME, width: what, ..area };
                put(frame, here, row, Text::styled(fit(&text, what as usize - 1), t.dim()));
                row += 1;
            }
            let rest = line.row_count.saturating_sub(line.rows.len() as u64);
            if rest > 0 {
                let here = Rect { x: area.x + TIME, width: what, ..area };
                put(frame, here, row, Text::styled(format!("· and {rest} more rows"), t.dim()));
                row += 1;
            }
        }
    }
    drawn
}

/// How wide the tables' names and the keys are, so that the eye can run down them.
#[derive(Clone, Copy)]
struct Names {
    table: usize,
    key: usize,
}

impl Names {
    /// For these lines, in so much room.
    fn of<'a>(lines: impl Iterator<Item = &'a Line>, room: usize) -> Names {
        let rows = lines.filter_map(|line| words::parts(line).0.map(|(t, k)| (t.width(), k.width())));
        let (table, key) = rows.fold((0, 0), |(t, k), (table, key)| (t.max(table), k.max(key)));
        Names { table: table.min(16).min(room / 4), key: key.min(14).min(room / 4) }
    }
}

fn draw_line(
    s: &State,
    frame: &mut Frame<'_>,
    area: Rect,
    line: &Line,
    columns: &[usize],
    (what, names): (u16, Names),
    chosen: bool,
) {
    let t = s.theme;
    let base = if chosen { t.chosen() } else { Style::new() };
    let pending = line.at.is_none();
    let style = match &line.made {
        Some((_, Stage::NeverComes(_))) => t.withheld(),
        Some(_) if pending => t.late(),
        Some(_) => t.accent(),
        None => Style::new(),
    };
    let mut spans =
        vec![Span::styled(format!("{:<width$}", time(line.committed.1), width = TIME as usize), base.patch(t.dim()))];
    let (first, text) = words::parts(line);
    let mut room = what as usize - 1;
    if let Some((table, key)) = first {
        let padded = |text: &str, width: usize| {
            let text = fit(text, width);
            let gap = width.saturating_sub(text.width());
            text + &" ".repeat(gap)
        };
        spans.push(Span::styled(format!("{} ", padded(table, names.table)), base.patch(t.dim()).patch(style)));
        spans.push(Span::styled(format!("{}  ", padded(key, names.key)), base.patch(t.strong()).patch(style)));
        room = room.saturating_sub(names.table + names.key + 3);
    }
    spans.push(Span::styled(fit(&text, room), base.patch(style)));
    put(frame, Rect { width: TIME + what, ..area }, 0, Text::from(spans).style(base));
    for (n, i) in columns.iter().enumerate() {
        let w = &s.watchers[*i];
        let mark = s.mark(line, w);
        let at = column_at(area, columns.len(), n);
        let cell = line.cells.get(&w.id);
        let count = cell.map_or(0, |c| c.tally.added.saturating_add(c.tally.replaced).saturating_add(c.tally.removed));
        let count = if mark.is_heard() && count > 1 { format!(" {count}") } else { String::new() };
        let shape =
            if mark == Mark::Missed { format!("{} missed", mark.shape()) } else { format!("{}{count}", mark.shape()) };
        let mut style = base.patch(mark.style(t));
        if *i == s.column && !chosen && mark != Mark::Missed {
            style = style.add_modifier(ratatui::style::Modifier::BOLD);
        }
        put(frame, at, 0, Text::from(vec![Span::styled(format!("  {shape}"), style)]).style(base));
    }
}

fn draw_legend(s: &State, frame: &mut Frame<'_>, area: Rect, columns: &[usize]) {
    let t = s.theme;
    // Without room for all marks, show those on screen; help has all of them.
    let lines = s.visible().skip(s.newer()).take(if area.width < WIDE { s.page } else { 0 });
    let in_sight: Vec<Mark> = lines.flat_map(|l| columns.iter().map(move |i| s.mark(l, &s.watchers[*i]))).collect();
    let all = Mark::ALL.into_iter().filter(|m| area.width >= WIDE || in_sight.contains(m));
    let mut rows: Vec<Vec<Span<'_>>> = vec![vec![]];
    let mut used = 0;
    for mark in all {
        let word = mark.word();
        let width = word.chars().count() + 5;
        if used + width > area.width as usize {
            rows.push(vec![]);
            used = 0;
        }
        used += width;
        if let Some(row) = rows.last_mut() {
            row.push(Span::styled(mark.shape(), mark.style(t)));
            row.push(Span::styled(format!(" {word}   "), t.dim()));
        }
    }
    for (i, row) in rows.into_iter().enumerate() {
        put(frame, area, i as u16, Text::from(row));
    }
}

fn why_lines(s: &State, width: usize) -> Vec<Text<'static>> {
    let t = s.theme;
    let Some(why) = &s.why else { return vec![] };
    let (Some(line), Some(w)) = (s.line(why.line), s.watcher(why.watcher)) else { return vec![] };
    let mark = s.mark(line, w);
    let verb = if mark.is_heard() { "heard" } else { "did not hear" };
    let mut out = vec![Text::from(vec![
        Span::styled(format!("why {} {verb}  ", w.persona), t.strong()),
        Span::styled(fit(&words::line(line), width.saturating_sub(30)), t.dim()),
    ])];
    match &why.steps {
        None => out.push(Text::styled("  asking …", t.dim())),
        Some(Err(e)) => {
            out.push(Text::from(vec![Span::styled("  ╳ ", t.withheld()), Span::raw(fit(e, width.saturating_sub(4)))]))
        }
        Some(Ok(steps)) => {
            steps.iter().filter(|x| x.verdict != Passed::NotReached).for_each(|x| {
                out.extend(step_lines(s, x, width));
                if x.step == "stream" {
                    out.push(reached(s, line, w));
                }
            });
            let not_reached: Vec<&str> =
                steps.iter().filter(|x| x.verdict == Passed::NotReached).map(|x| x.step.as_str()).collect();
            if not_reached.is_empty() {
                out.push(arrival(s, line, w, mark));
            } else {
                let text = format!("  ┊ not looked at:  {}", not_reached.join(", "));
                out.push(Text::styled(text, t.dim()));
            }
        }
    }
    out.push(Text::styled(fit(&format!("  query  {}", w.query), width), t.dim()));
    out
}

fn step_lines(s: &State, x: &Step, width: usize) -> Vec<Text<'static>> {
    let t = s.theme;
    let (shape, style) = match x.verdict {
        Passed::Yes => ("✓", t.heard()),
        Passed::No => ("╳", t.withheld()),
        Passed::NotReached => ("┊", t.dim()),
    };
    let room = width.saturating_sub(16);
    let mut out = vec![Text::from(vec![
        Span::styled(format!("  {shape} "), style),
        Span::styled(format!("{:<9}", x.step), if x.verdict == Passed::No { t.strong() } else { Style::new() }),
        Span::raw(fit(&x.text, room)),
    ])];
    if !x.values.is_empty() && x.step != "stream" {
        let strong = if x.verdict == Passed::No { t.withheld() } else { t.dim() };
        out.push(Text::from(vec![
            Span::raw(" ".repeat(13)),
            Span::styled(fit(&x.values.join("   or   "), room), strong),
        ]));
    }
    out
}

/// The relay's part: from when the watcher's instance received the transaction.
fn reached(s: &State, line: &Line, w: &WatcherState) -> Text<'static> {
    let t = s.theme;
    let place = s.places.get(w.place).map_or(String::new(), |p| p.name.clone());
    match line.received.get(&w.place) {
        Some(at) => {
            let took = span(at.saturating_sub(line.committed.1).max(0));
            Text::from(vec![
                Span::styled("  ✓ ", t.heard()),
                Span::raw(format!("{:<9}reached {place} {took} after commit", "relay")),
            ])
        }
        None => Text::from(vec![
            Span::styled("  ┊ ", t.dim()),
            Span::raw(format!("{:<9}{place} has not said when it received it", "relay")),
        ]),
    }
}

fn arrival(s: &State, line: &Line, w: &WatcherState, mark: Mark) -> Text<'static> {
    let t = s.theme;
    let cell = line.cells.get(&w.id);
    match cell.and_then(|c| c.arrived_at) {
        Some(at) => Text::from(vec![
            Span::styled("  ✓ ", t.heard()),
            Span::raw(format!(
                "{:<9}at the watcher's socket {} after commit",
                "arrived",
                span(at.saturating_sub(line.committed.1).max(0))
            )),
        ]),
        None => {
            Text::from(vec![Span::styled("  ╳ ", mark.style(t)), Span::raw(format!("{:<9}{}", "arrived", mark.word()))])
        }
    }
}

fn why_height(s: &State, area: Rect) -> u16 {
    let wanted = why_lines(s, area.width as usize).len() as u16 + 2;
    wanted.min(area.height.saturating_sub(8))
}

fn draw_why(s: &State, frame: &mut Frame<'_>, area: Rect) {
    rule(s, frame, Rect { height: 1, ..area });
    for (i, text) in why_lines(s, area.width as usize).into_iter().enumerate() {
        put(frame, area, i as u16 + 1, text);
    }
}
