//! Helpers to draw lines of text.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::Line;

use super::state::State;
use ratatui::widgets::Paragraph;

/// A thin rule across.
pub fn rule(s: &State, frame: &mut Frame<'_>, area: Rect) {
    let line = "─".repeat(area.width as usize);
    frame.render_widget(Paragraph::new(line).style(s.theme.dim()), area);
}

/// Writes a line to a row of an area, if the row is inside.
pub fn put(frame: &mut Frame<'_>, area: Rect, row: u16, line: Line<'_>) {
    if row < area.height {
        frame.render_widget(Paragraph::new(line), Rect { y: area.y + row, height: 1, ..area });
    }
}
