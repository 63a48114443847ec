//! Chooses which lines of Earshot are shown, and at which the flow stops.

use crossterm::event::{KeyCode, KeyEvent};

use crate::workbench::ids::Micros;
use crate::workbench::line::{Kind, Line};
use crate::workbench::marks::Mark;
use crate::workbench::state::{Overlay, State};

/// A line that is older than this has the marks that it will have.
const SETTLED: Micros = 30_000_000;

/// A key while kinds of lines are chosen.
pub fn choose_kinds(s: &mut State, key: KeyEvent, at: usize) {
    match key.code {
        KeyCode::Up => s.overlay = Overlay::Kinds(at.saturating_sub(1)),
        KeyCode::Down => s.overlay = Overlay::Kinds((at + 1).min(Kind::ALL.len() - 1)),
        KeyCode::Char(' ') => {
            let Some(kind) = Kind::ALL.get(at).copied() else { return };
            match s.sight.without.contains(&kind) {
                true => s.sight.without.retain(|k| *k != kind),
                false => s.sight.without.push(kind),
            }
            stay(s);
        }
        KeyCode::Enter | KeyCode::Esc => s.overlay = Overlay::None,
        _ => {}
    }
}

/// A key while the mark is chosen at which the flow is to stop. The first line means none.
pub fn choose_stop(s: &mut State, key: KeyEvent, at: usize) {
    match key.code {
        KeyCode::Up => s.overlay = Overlay::StopAt(at.saturating_sub(1)),
        KeyCode::Down => s.overlay = Overlay::StopAt((at + 1).min(Mark::ALL.len())),
        KeyCode::Enter => {
            s.overlay = Overlay::None;
            let newest = s.lines.iter().map(|line| line.id).max().unwrap_or(0);
            let mark = at.checked_sub(1).and_then(|i| Mark::ALL.get(i).copied());
            s.sight.stop = mark.map(|mark| (mark, newest));
            if s.sight.stop.is_some() {
                (s.held, s.chosen) = (None, None);
            }
        }
        KeyCode::Esc => s.overlay = Overlay::None,
        _ => {}
    }
}

/// Only what happened to the chosen line's first row is shown, or all again.
pub fn only_this_key(s: &mut State) {
    if s.sight.only.take().is_none() {
        let first = s.chosen_line().and_then(|line| line.rows.first());
        s.sight.only = first.map(|row| (row.table.clone(), row.key.clone()));
    }
    stay(s);
}

/// Keeps the flow paused at the chosen line, where that is still shown; else it goes on.
fn stay(s: &mut State) {
    if s.held.is_some() {
        s.chosen = s.chosen.filter(|id| s.visible().any(|line| line.id == *id));
        s.held = s.chosen;
    }
}

/// Stops the flow where it is to stop. The first such line, and the watcher that has the mark, are chosen.
pub fn stop(s: &mut State) {
    let Some((wanted, after)) = s.sight.stop else { return };
    if s.held.is_some() {
        return;
    }
    let has = |line: &Line| s.watchers.iter().position(|w| s.mark(line, w) == wanted);
    let found = s.visible().filter(|line| line.id > after).filter_map(|line| Some((line.id, has(line)?))).last();
    if let Some((line, column)) = found {
        s.sight.stop = None;
        hold(s);
        (s.held, s.chosen, s.column) = (Some(line), Some(line), column);
        let who = s.watchers.get(column).map_or("", |w| w.persona.as_str());
        s.notice = Some((s.now, format!("stopped: {who}, {}", wanted.word())));
        return;
    }
    // What has its marks need not be looked at again.
    let settled = s.lines.iter().filter(|line| s.now.saturating_sub(line.read_at) > SETTLED).map(|line| line.id).max();
    s.sight.stop = Some((wanted, after.max(settled.unwrap_or(0))));
}

/// What is shown, for the head of the list.
pub fn text(s: &State) -> String {
    let mut parts = Vec::new();
    if let Some((table, key)) = &s.sight.only {
        parts.push(format!("what happened to {table} {key}"));
    }
    if !s.filter.is_empty() {
        parts.push(format!("with “{}”", s.filter));
    }
    if !s.sight.without.is_empty() {
        let without: Vec<&str> = s.sight.without.iter().map(|kind| kind.words()).collect();
        parts.push(format!("without {}", without.join(" and ")));
    }
    if let Some((mark, _)) = s.sight.stop {
        parts.push(format!("stops at {} {}", mark.shape(), mark.word()));
    }
    if s.is_summed() {
        parts.push("in sums; space shows lines".into());
    }
    match parts.is_empty() {
        true => "what changed".into(),
        false if s.sight.only.is_some() => parts.join(", "),
        false => format!("what changed, {}", parts.join(", ")),
    }
}

/// Holds the flow with the newest line on top.
pub fn hold(s: &mut State) {
    if s.held.is_none() {
        let top = s.visible().next().map(|l| l.id);
        s.held = top;
        s.chosen = s.chosen.or(top);
    }
}
