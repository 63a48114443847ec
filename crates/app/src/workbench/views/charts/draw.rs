//! Draws Charts: small charts over the same time, with a cursor that reads all of them.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::symbols::Marker;
use ratatui::text::{Line as Text, Span as Part};
use ratatui::widgets::{Axis, Chart, Dataset, GraphType};
use unicode_width::UnicodeWidthStr;

use crate::charts::page::clock;
use crate::charts::panel::{Curve, Panel, Span, value};
use crate::workbench::paint::put;
use crate::workbench::state::State;
use crate::workbench::views::charts::state::SPANS;

/// Lines of the smallest chart.
const LEAST: u16 = 8;

/// Columns left of a chart, for its axis.
const SIDE: u16 = 9;

/// Draws the view.
pub fn draw(s: &mut State, frame: &mut Frame<'_>, area: Rect) {
    let t = s.theme;
    let columns: u16 = if area.width >= 110 { 2 } else { 1 };
    let wide = (area.width - 3 * (columns - 1)) / columns;
    s.charts.points = usize::from(wide.saturating_sub(SIDE));
    let (_, over) = SPANS[s.charts.span.min(SPANS.len() - 1)];
    let Some(span) = s.charts.shown() else {
        return put(frame, area, 1, Text::styled("Nothing has been counted yet.", t.dim()));
    };
    let mut head = vec![Part::styled(format!("{over}, one value for "), t.dim())];
    head.push(Part::styled(
        if span.each == 1 { "each second".into() } else { format!("each {} seconds", span.each) },
        t.dim(),
    ));
    let at = s.charts.cursor.and_then(|second| span.interval(second));
    match s.charts.cursor {
        Some(second) => head.push(Part::styled(format!("   read at {} UTC", clock(second)), t.accent())),
        None => head.push(Part::styled("   read at the newest", t.dim())),
    }
    put(frame, area, 0, Text::from(head));
    let rows = (Panel::ALL.len() as u16).div_ceil(columns);
    let fit = ((area.height - 1) / LEAST).clamp(1, rows);
    let high = ((area.height - 1) / fit).min(16);
    let first = if fit == rows {
        0
    } else {
        s.charts.first.min(Panel::ALL.len() - usize::from(fit * columns).min(Panel::ALL.len()))
    };
    let shown = Panel::ALL.into_iter().skip(first).take(usize::from(fit * columns));
    for (i, panel) in shown.enumerate() {
        let (row, column) = (i as u16 / columns, i as u16 % columns);
        let here = Rect { x: area.x + column * (wide + 3), y: area.y + 1 + row * high, width: wide, height: high - 1 };
        chart(s, frame, here, panel, span, at);
    }
}

/// A line's style, and what it is drawn with: where two lines may cross, not by colour alone.
fn look(s: &State, panel: Panel, i: usize) -> (Style, Marker) {
    let t = s.theme;
    let style = [t.heard(), t.outside(), t.late(), t.withheld()][i % 4];
    let crosses = matches!(panel, Panel::Rates | Panel::Waiting) && i == 1;
    (style, if crosses { Marker::Dot } else { Marker::Braille })
}

fn chart(s: &State, frame: &mut Frame<'_>, area: Rect, panel: Panel, span: Span, at: Option<usize>) {
    let t = s.theme;
    let curves = panel.curves(&s.charts.series, span);
    let read = |c: &Curve| match at {
        Some(at) => c.values.get(at).copied().flatten(),
        None => c.values.last().copied().flatten(),
    };
    let mut head = vec![Part::styled(panel.title(), t.strong())];
    if !panel.unit().is_empty() {
        head.push(Part::styled(format!(", {}", panel.unit()), t.dim()));
    }
    for (i, c) in curves.iter().enumerate() {
        let (style, marker) = look(s, panel, i);
        // Where lines may cross, each says how it is drawn.
        let sign = match (panel, marker) {
            (Panel::Rates | Panel::Waiting, Marker::Dot) => "• ",
            (Panel::Rates | Panel::Waiting, _) => "─ ",
            _ => "",
        };
        head.push(Part::styled(format!("  {sign}"), style));
        head.push(Part::raw(format!("{} ", c.name)));
        head.push(Part::styled(read(c).map_or("—".to_string(), value), style));
    }
    let used: usize = head.iter().map(|part| part.content.width()).sum();
    if used + panel.note().width() + 3 <= area.width as usize && !panel.note().is_empty() {
        head.push(Part::styled(format!("   {}", panel.note()), t.dim()));
    }
    put(frame, area, 0, Text::from(head));
    let below = Rect { y: area.y + 1, height: area.height.saturating_sub(1), ..area };
    let most = curves.iter().flat_map(|c| c.values.iter().flatten()).copied().fold(0.0, f64::max);
    let (top, step) = panel.axis(most, if area.height >= 10 { 3 } else { 2 });
    let runs: Vec<(usize, Vec<(f64, f64)>)> =
        curves.iter().enumerate().flat_map(|(i, c)| runs(c).into_iter().map(move |run| (i, run))).collect();
    let cursor = at.map(|at| vec![(at as f64, 0.0), (at as f64, top)]);
    let mut sets: Vec<Dataset<'_>> = Vec::new();
    if let Some(line) = &cursor {
        sets.push(Dataset::default().data(line).graph_type(GraphType::Line).marker(Marker::Braille).style(t.accent()));
    }
    // The one that matters most is drawn last, above the others.
    for (i, run) in runs.iter().rev() {
        let (style, marker) = look(s, panel, *i);
        let kind = if run.len() == 1 { GraphType::Scatter } else { GraphType::Line };
        sets.push(Dataset::default().data(run).graph_type(kind).marker(marker).style(style));
    }
    let ends = [clock(span.first), clock(span.end() - 1)];
    let labels: Vec<String> =
        (0..=(top / step).round() as i32).map(|n| format!("{:>6}", value(f64::from(n) * step))).collect();
    let x = Axis::default().bounds([0.0, (span.count - 1).max(1) as f64]).labels(ends).style(t.dim());
    let y = Axis::default().bounds([0.0, top]).labels(labels).style(t.dim());
    frame.render_widget(Chart::new(sets).x_axis(x).y_axis(y).legend_position(None), below);
}

/// The runs of intervals that have a value.
fn runs(curve: &Curve) -> Vec<Vec<(f64, f64)>> {
    let mut runs: Vec<Vec<(f64, f64)>> = vec![vec![]];
    for (i, value) in curve.values.iter().enumerate() {
        match value {
            Some(v) => runs.last_mut().into_iter().for_each(|run| run.push((i as f64, *v))),
            None => runs.push(vec![]),
        }
    }
    runs.retain(|run| !run.is_empty());
    runs
}
