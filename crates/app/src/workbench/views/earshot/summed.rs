//! Draws Earshot's lines in sums, by second and table.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line as Text, Span};

use super::columns::{TIME, column_at};
use crate::workbench::paint::put;
use crate::workbench::state::State;
use crate::workbench::words::{counted, fit, time};

/// Draws the sums, the newest first.
pub fn draw(s: &State, frame: &mut Frame<'_>, area: Rect, columns: &[usize], what: u16) {
    let t = s.theme;
    for (row, sum) in s.sums.kept.iter().rev().take(area.height as usize).enumerate() {
        let here = Rect { y: area.y + row as u16, height: 1, ..area };
        let clock = time(sum.second.saturating_mul(1_000_000));
        let clock = clock.split('.').next().unwrap_or_default().to_string();
        let text =
            format!("{}, {}", counted(sum.lines as usize, "line", "lines"), counted(sum.rows as usize, "row", "rows"));
        let room = what.saturating_sub(19) as usize;
        let spans = vec![
            Span::styled(format!("{clock:<width$}", width = TIME as usize), t.dim()),
            Span::styled(format!("{:<18}", fit(&sum.table, 17)), t.strong()),
            Span::raw(fit(&text, room)),
        ];
        put(frame, Rect { width: TIME + what, ..here }, 0, Text::from(spans));
        for (n, i) in columns.iter().enumerate() {
            let Some(heard) = sum.heard.get(&s.watchers[*i].id) else { continue };
            let (mark, of) = heard.mark();
            let text = if of > 0 { format!("  {} {of}", mark.shape()) } else { format!("  {}", mark.shape()) };
            put(frame, column_at(here, columns.len(), n), 0, Text::styled(text, mark.style(t)));
        }
    }
}
