//! Overlays: forms, the palette, frames, help.

pub mod form;
pub mod frames;
pub mod palette;
pub mod popup;
