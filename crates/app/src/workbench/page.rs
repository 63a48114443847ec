//! An exported page.

use gossip_draw::Drawing;

/// A page as a drawing and as text.
#[derive(Clone, Debug, PartialEq)]
pub struct Page {
    /// Prefix of the file names.
    pub name: String,
    /// The drawing.
    pub drawing: Drawing,
    /// The text.
    pub text: String,
}
