//! State of Charts.

use crate::charts::panel::Span;
use crate::charts::series::Series;

/// How many seconds can be shown.
pub const SPANS: [(i64, &str); 4] = [(60, "a minute"), (300, "5 minutes"), (900, "15 minutes"), (3_600, "an hour")];

/// The view's state.
#[derive(Default)]
pub struct Charts {
    /// What is counted.
    pub series: Series,
    /// Which of [`SPANS`] is shown.
    pub span: usize,
    /// The second whose values are read; the newest if `None`.
    pub cursor: Option<i64>,
    /// The chart that stands first where not all have room.
    pub first: usize,
    /// Intervals of a chart, as drawn last.
    pub points: usize,
}

impl Charts {
    /// The newest second of which every instance has told what happened in it.
    pub fn newest(&self) -> Option<i64> {
        self.series.ends().map(|(first, last)| (last - 2).max(first))
    }

    /// The span that is shown: up to the newest second that is whole, or with the cursor in it.
    pub fn shown(&self) -> Option<Span> {
        let newest = self.newest()?;
        let (seconds, _) = SPANS[self.span.min(SPANS.len() - 1)];
        let end = match self.cursor {
            Some(at) if at <= newest - seconds => at + seconds / 2,
            _ => newest,
        };
        Some(Span::of(end, seconds, self.points.max(10)))
    }

    /// Seconds that are shown.
    pub fn seconds(&self) -> i64 {
        SPANS[self.span.min(SPANS.len() - 1)].0
    }
}
