//! The charts: which lines each has, in which unit, over which seconds.

use super::series::{Second, Series};

/// A chart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Panel {
    /// Row changes and deltas.
    Rates,
    /// From commit to socket.
    Delay,
    /// Deltas of a change.
    FanOut,
    /// What waits for clients and for instances.
    Waiting,
    /// How long the relay takes.
    Relay,
}

/// A line of a chart.
pub struct Curve {
    /// Its name.
    pub name: &'static str,
    /// One value for each interval; `None` where nothing was measured.
    pub values: Vec<Option<f64>>,
}

/// Seconds of which one value is made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Span {
    /// The first second, since 1970.
    pub first: i64,
    /// Seconds of an interval.
    pub each: i64,
    /// Intervals.
    pub count: usize,
}

impl Span {
    /// The newest so many seconds up to `last`, in at most so many intervals.
    pub fn of(last: i64, seconds: i64, most: usize) -> Span {
        let most = most.max(1) as i64;
        let each = (seconds + most - 1) / most.max(1);
        let count = (seconds + each.max(1) - 1) / each.max(1);
        Span { first: last + 1 - count * each.max(1), each: each.max(1), count: count.max(1) as usize }
    }

    /// The first second after it.
    pub fn end(&self) -> i64 {
        self.first + self.each * self.count as i64
    }

    /// The interval of a second.
    pub fn interval(&self, second: i64) -> Option<usize> {
        usize::try_from((second - self.first).div_euclid(self.each)).ok().filter(|i| *i < self.count)
    }
}

impl Panel {
    /// All charts.
    pub const ALL: [Panel; 5] = [Panel::Rates, Panel::Delay, Panel::FanOut, Panel::Waiting, Panel::Relay];

    /// What it shows.
    pub fn title(self) -> &'static str {
        match self {
            Panel::Rates => "changes and deltas",
            Panel::Delay => "from commit to socket",
            Panel::FanOut => "deltas for each change",
            Panel::Waiting => "messages that wait",
            Panel::Relay => "round trip over the relay",
        }
    }

    /// Its unit; empty for plain numbers.
    pub fn unit(self) -> &'static str {
        match self {
            Panel::Rates => "/s",
            Panel::Delay | Panel::Relay => "ms",
            Panel::FanOut | Panel::Waiting => "",
        }
    }

    /// Whose it is, where that is not plain.
    pub fn note(self) -> &'static str {
        match self {
            Panel::Delay => "of watchers and other observed clients",
            Panel::Relay => "the longest of all instances",
            Panel::Rates | Panel::FanOut | Panel::Waiting => "",
        }
    }

    /// The top of its axis for these values, and the step between marks: what is counted has no halves.
    pub fn axis(self, most: f64, marks: usize) -> (f64, f64) {
        axis(if self == Panel::Waiting { most.max(marks as f64) } else { most }, marks)
    }

    /// Its lines over a span. Rates are means of their interval, everything else is the most in it.
    pub fn curves(self, series: &Series, span: Span) -> Vec<Curve> {
        let intervals: Vec<Vec<&Second>> = (0..span.count as i64)
            .map(|i| (0..span.each).filter_map(|k| series.at(span.first + i * span.each + k)).collect())
            .collect();
        let curve = |name, value: &dyn Fn(&[&Second]) -> Option<f64>| Curve {
            name,
            values: intervals.iter().map(|seconds| if seconds.is_empty() { None } else { value(seconds) }).collect(),
        };
        let sum = |seconds: &[&Second], of: fn(&Second) -> f64| seconds.iter().map(|s| of(s)).sum::<f64>();
        let mean = |of: fn(&Second) -> f64| move |seconds: &[&Second]| Some(sum(seconds, of) / seconds.len() as f64);
        let most = |of: fn(&Second) -> Option<f64>| {
            move |seconds: &[&Second]| seconds.iter().filter_map(|s| of(s)).max_by(f64::total_cmp)
        };
        match self {
            Panel::Rates => vec![curve("deltas", &mean(|s| s.deliveries)), curve("changes", &mean(|s| s.changes))],
            Panel::Delay => vec![
                curve("p50", &most(|s| Some(s.delay?.p50))),
                curve("p90", &most(|s| Some(s.delay?.p90))),
                curve("p99", &most(|s| Some(s.delay?.p99))),
                curve("max", &most(|s| Some(s.delay?.max))),
            ],
            Panel::FanOut => vec![curve("deltas", &|seconds| {
                let changes = sum(seconds, |s| s.changes);
                (changes > 0.0).then(|| sum(seconds, |s| s.deliveries) / changes)
            })],
            Panel::Waiting => vec![
                curve("for clients", &most(|s| Some(s.waiting as f64))),
                curve("for instances", &most(|s| Some(s.relay_waiting as f64))),
            ],
            Panel::Relay => vec![curve("longest", &most(|s| s.relay_ms))],
        }
    }
}

/// No axis goes further.
const MOST: f64 = 1e15;

/// The top of an axis that has these values, and the step between its marks: one, two or five of a power of ten.
pub fn axis(most: f64, marks: usize) -> (f64, f64) {
    // What is beyond any measure is drawn at the edge: a recording may say anything.
    let most = if most > 1e-9 { most.min(MOST) } else { 1.0 };
    let rough = most / marks.max(1) as f64;
    let power = 10f64.powf(rough.log10().floor());
    let step =
        [1.0, 2.0, 5.0, 10.0].into_iter().map(|m| m * power).find(|s| *s >= rough * 0.999).unwrap_or(10.0 * power);
    ((most / step).ceil().max(1.0) * step, step)
}

/// A value as an axis or a reading shows it: three digits that count.
pub fn value(v: f64) -> String {
    match v.abs() {
        0.0 => "0".into(),
        x if x >= 9_999.5 => {
            // In groups of three, as far as they go.
            let digits = format!("{v:.0}");
            let mut text = String::new();
            for (i, c) in digits.chars().enumerate() {
                if i > 0 && (digits.len() - i).is_multiple_of(3) {
                    text.push(' ');
                }
                text.push(c);
            }
            text
        }
        x if x >= 99.95 => format!("{v:.0}"),
        x if x >= 9.995 => trimmed(format!("{v:.1}")),
        _ => trimmed(format!("{v:.2}")),
    }
}

fn trimmed(text: String) -> String {
    text.trim_end_matches('0').trim_end_matches('.').to_string()
}

/// The marks of an axis of time: their seconds since 1970, at round times of the day.
pub fn marks(span: Span, most: usize) -> Vec<i64> {
    let seconds = span.end() - span.first;
    let steps = [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1_800, 3_600];
    let step = steps.into_iter().find(|step| seconds / step <= most as i64).unwrap_or(3_600);
    let first = (span.first + step - 1).div_euclid(step) * step;
    (0..).map(|i| first + i * step).take_while(|at| *at < span.end()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn axes_have_round_steps_that_hold_all_values() {
        for (most, top, step) in [
            (0.0, 1.0, 0.5),
            (7.0, 10.0, 5.0),
            (42.0, 60.0, 20.0),
            (100.0, 100.0, 50.0),
            (0.013, 0.015, 0.005),
            (1_234.0, 1_500.0, 500.0),
            (f64::NAN, 1.0, 0.5),
            (5e-324, 1.0, 0.5),
            (f64::MAX, 1e15, 5e14),
            (f64::INFINITY, 1e15, 5e14),
        ] {
            let (t, s) = axis(most, 3);
            assert!((t - top).abs() <= top * 1e-9 && (s - step).abs() <= step * 1e-9, "{most}: {t}, {s}");
        }
        for (v, text) in
            [(0.0, "0"), (0.5, "0.5"), (1.0, "1"), (12.34, "12.3"), (250.6, "251"), (1_234_567.0, "1 234 567")]
        {
            assert_eq!(value(v), text);
        }
    }

    #[test]
    fn a_span_ends_with_its_last_second_and_leaves_none_out() {
        let span = Span::of(1_000, 300, 120);
        assert_eq!((span.first, span.each, span.count, span.end()), (701, 3, 100, 1_001));
        assert_eq!(
            (span.interval(701), span.interval(1_000), span.interval(700), span.interval(1_001)),
            (Some(0), Some(99), None, None)
        );
        assert_eq!(Span::of(10, 60, 120), Span { first: -49, each: 1, count: 60 });
        assert_eq!(marks(Span::of(1_199, 300, 100), 6), [900, 960, 1_020, 1_080, 1_140]);
    }
}
