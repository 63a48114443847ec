//! State of Earshot: which lines are shown.

use crate::workbench::line::{Kind, Line};
use crate::workbench::marks::Mark;

/// Which lines are shown, and where the flow is to stop.
#[derive(Clone, Debug, Default)]
pub struct Sight {
    /// Kinds that are not shown.
    pub without: Vec<Kind>,
    /// Only lines about this table and key are shown.
    pub only: Option<(String, String)>,
    /// The flow stops at the first line after this one that has this mark.
    pub stop: Option<(Mark, u64)>,
}

impl Sight {
    /// Whether a line is shown, as far as this goes.
    pub fn shows(&self, line: &Line) -> bool {
        !self.without.contains(&line.kind) && self.only.as_ref().is_none_or(|only| line.is_about(only))
    }
}
