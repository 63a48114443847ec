//! A page that is written to files.

use gossip_draw::Drawing;

/// A page and the same as text.
#[derive(Clone, Debug, PartialEq)]
pub struct Page {
    /// The first part of the files' names.
    pub name: String,
    /// The drawing.
    pub drawing: Drawing,
    /// The text.
    pub text: String,
}
