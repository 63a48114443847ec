//! What is exported: a page, or several.

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

/// Several pages that belong together.
#[derive(Clone, Debug, PartialEq)]
pub struct Report {
    /// Prefix of the file names.
    pub name: String,
    /// Its title.
    pub title: String,
    /// The pages.
    pub pages: Vec<Drawing>,
    /// The same as text.
    pub text: String,
}
