//! What opens over a view: forms, the palette, frames, help.

pub mod change;
pub mod draw_frames;
pub mod form;
pub mod forms;
pub mod frames;
pub mod frames_keys;
pub mod palette;
pub mod popup;
