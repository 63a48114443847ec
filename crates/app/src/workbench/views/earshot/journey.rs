//! The journey of one transaction: from commit to every watcher, with times.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line as Text, Span};
use serde_json::Value as Json;
use unicode_width::UnicodeWidthStr;

use crate::charts::panel::axis;
use crate::workbench::line::Line;
use crate::workbench::paint::{put, rule};
use crate::workbench::state::State;
use crate::workbench::views::earshot::legs::{Leg, Tone, legs};
use crate::workbench::words;
use crate::workbench::words::{fit, span, time};

/// Width of the names on the left.
const NAMES: u16 = 24;

/// Width of the times on the right.
const TIMES: u16 = 28;

/// Draws the journey of a line.
pub fn draw(s: &State, frame: &mut Frame<'_>, area: Rect, id: u64, raw: bool) {
    let t = s.theme;
    let Some(line) = s.line(id) else {
        return put(frame, area, 0, Text::styled("This line is no longer kept.", t.dim()));
    };
    put(frame, area, 0, Text::from(vec![Span::styled(fit(&words::line(line), area.width as usize), t.strong())]));
    let at = line.at.as_ref().map_or("not in the stream".into(), |a| format!("position {a}"));
    let uncertain = line.committed.1.saturating_sub(line.committed.0);
    let commit = format!("{at}   committed {}, within the {} before", time(line.committed.1), span(uncertain));
    put(frame, area, 1, Text::styled(fit(&commit, area.width as usize), t.dim()));
    let legs = legs(s, line);
    let last = legs.iter().map(|l| l.to).max().unwrap_or(1).max(1);
    put(frame, area, 3, scale(s, area, last));
    let mut row = 4;
    for leg in &legs {
        if row + 2 > area.height {
            break;
        }
        put(frame, area, row, bar(s, area, leg, last));
        row += 1;
    }
    row += 1;
    let rest = Rect { y: area.y + row.min(area.height), height: area.height.saturating_sub(row), ..area };
    if rest.height < 3 {
        return;
    }
    rule(s, frame, Rect { height: 1, ..rest });
    let below = Rect { y: rest.y + 1, height: rest.height - 1, ..rest };
    if raw { frame_of(s, frame, below, line) } else { rows(s, frame, below, line) }
}

fn scale(s: &State, area: Rect, last: i64) -> Text<'static> {
    let width = (area.width - NAMES - TIMES) as usize;
    let marks = 4;
    let mut line = " ".repeat(NAMES as usize);
    // Round steps, each where its time is.
    let (_, each) = axis(last as f64, marks);
    for t in (0..20).map(|i| (f64::from(i) * each) as i64).take_while(|t| *t <= last) {
        let place = NAMES as usize + (t as f64 / last.max(1) as f64 * width as f64).round() as usize;
        let gap = place.saturating_sub(line.width());
        line += &format!("{}╷{}", " ".repeat(gap), span(t));
    }
    Text::styled(line, s.theme.dim())
}

fn bar(s: &State, area: Rect, leg: &Leg, last: i64) -> Text<'static> {
    let width = f64::from(area.width - NAMES - TIMES);
    let place = |t: i64| (t as f64 / last as f64 * width).round() as usize;
    let from = place(leg.from).min(width as usize - 1);
    let to = place(leg.to).clamp(from + 1, width as usize);
    let bar: String = if leg.to > leg.from { "━".repeat(to - from) } else { "╹".into() };
    let used = bar.chars().count();
    let t = s.theme;
    let style = match leg.tone {
        Tone::Read => t.outside(),
        Tone::Relay => t.late(),
        Tone::Watcher(mark) => mark.style(t),
        Tone::Part => t.dim(),
    };
    let shape = if let Tone::Watcher(mark) = leg.tone { format!("{} ", mark.shape()) } else { String::new() };
    let name = format!("{shape}{}", leg.name);
    Text::from(vec![
        Span::raw(format!("{:<w$}", fit(&name, NAMES as usize - 2), w = NAMES as usize)),
        Span::raw(" ".repeat(from)),
        Span::styled(bar, style),
        Span::raw(" ".repeat((width as usize).saturating_sub(from + used) + 2)),
        Span::styled(leg.note.clone(), s.theme.dim()),
    ])
}

fn rows(s: &State, frame: &mut Frame<'_>, area: Rect, line: &Line) {
    let t = s.theme;
    let mut row = 0;
    if let Some((sql, _)) = &line.made {
        put(
            frame,
            area,
            row,
            Text::from(vec![Span::styled("made here  ", t.accent()), Span::raw(fit(sql, area.width as usize - 12))]),
        );
        row += 2;
    }
    for r in &line.rows {
        put(frame, area, row, Text::styled(fit(&words::row(r), area.width as usize), t.strong()));
        row += 1;
        for (column, old, new) in words::differences(r) {
            let text = format!(
                "  {column:<16} {} → {}",
                crate::workbench::words::plain(old),
                crate::workbench::words::plain(new)
            );
            put(frame, area, row, Text::raw(fit(&text, area.width as usize)));
            row += 1;
        }
    }
}

/// The frame as it arrived at the selected watcher, pretty-printed.
fn frame_of(s: &State, frame: &mut Frame<'_>, area: Rect, line: &Line) {
    let t = s.theme;
    let Some(w) = s.watchers.get(s.column) else { return };
    let raw = line.cells.get(&w.id).and_then(|c| c.frame.clone());
    let Some(raw) = raw else {
        let text = format!("{} received no frame for this transaction (tab: another watcher)", w.persona);
        return put(frame, area, 0, Text::styled(text, t.dim()));
    };
    let head = format!("frame to {}, {} bytes (tab: another watcher)", w.persona, raw.len());
    put(frame, area, 0, Text::styled(head, t.dim()));
    let pretty =
        serde_json::from_str::<Json>(&raw).and_then(|j| serde_json::to_string_pretty(&j)).unwrap_or(raw.to_string());
    for (i, text) in pretty.lines().enumerate() {
        put(frame, area, i as u16 + 1, Text::raw(fit(text, area.width as usize)));
    }
}
