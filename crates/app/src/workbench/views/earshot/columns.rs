//! Where Earshot's columns stand.

use ratatui::layout::Rect;

/// Width of the time, with the space after it.
pub const TIME: u16 = 14;

/// Width of a watcher's column.
pub const COLUMN: u16 = 11;

/// The column of the `n`th of so many watchers.
pub fn column_at(area: Rect, count: usize, n: usize) -> Rect {
    let left = area.x + area.width - COLUMN * count as u16;
    Rect { x: left + COLUMN * n as u16, width: COLUMN, ..area }
}
