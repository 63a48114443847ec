//! Charts: the cursor, and how much time is shown.

use super::state::SPANS;
use crate::charts::page::{page, words};
use crate::charts::panel::Panel;
use crate::workbench::page::Page;
use crate::workbench::state::State;

/// Moves the cursor by intervals.
pub fn cursor(s: &mut State, by: i64) {
    let (Some(span), Some(newest), Some((first, _))) = (s.charts.shown(), s.charts.newest(), s.charts.series.ends())
    else {
        return;
    };
    let at = s.charts.cursor.unwrap_or(newest).saturating_add(by * span.each).clamp(first, newest);
    // At the newest end it goes along.
    s.charts.cursor = Some(at).filter(|at| *at < newest);
}

/// Shows more or less time.
pub fn zoom(s: &mut State, by: isize) {
    s.charts.span = s.charts.span.saturating_add_signed(by).min(SPANS.len() - 1);
}

/// Lets another chart stand first.
pub fn step(s: &mut State, by: isize) {
    s.charts.first = s.charts.first.saturating_add_signed(by).min(Panel::ALL.len() - 1);
}

/// The charts for a page.
pub fn export(s: &State) -> Page {
    let title = if s.title.is_empty() { "Gossip" } else { s.title.as_str() };
    let (series, seconds) = (&s.charts.series, s.charts.seconds());
    Page { name: "gossip-charts".into(), drawing: page(series, seconds, title), text: words(series, seconds, title) }
}
