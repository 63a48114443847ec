//! The charts on a page, in a layout of their own.

use gossip_draw::{Colour, Drawing, fit, text_width};
use gossip_protocol::timestamp::rfc3339;

use super::panel::{Panel, Span, marks, value};
use super::series::Series;

const INK: Colour = [34, 38, 44];
const GREY: Colour = [122, 128, 136];
const FAINT: Colour = [226, 228, 230];

/// Colours of a chart's lines, from the one that matters most.
const LINES: [Colour; 4] = [[24, 96, 128], [92, 132, 62], [118, 66, 158], [190, 98, 40]];

/// Intervals of a chart.
const POINTS: usize = 160;

const MARGIN: f32 = 40.0;

/// The charts of the newest so many seconds, or of all there is.
pub fn page(series: &Series, seconds: i64, title: &str) -> Drawing {
    let mut d = Drawing::landscape(format!("Charts of {title}"));
    let Some((first, last)) = series.ends() else {
        d.text((MARGIN, 48.0), 13.0, true, INK, "Nothing was counted.");
        return d;
    };
    let span = Span::of(last, seconds.min(last - first + 1).max(10), POINTS);
    let about = format!("{} to {} (UTC)", moment(span.first), moment(span.end()));
    let each = match span.each {
        1 => "one value for each second".into(),
        n => format!("one value for each {n} seconds: rates are means, everything else the most in them"),
    };
    let width = d.size.0 - 2.0 * MARGIN;
    d.text((MARGIN, 48.0), 13.0, true, INK, fit(title, 13.0, width));
    d.text((MARGIN, 64.0), 8.0, false, GREY, fit(&format!("{about}, {each}"), 8.0, width));
    let (wide, high) = ((width - 36.0) / 2.0, 148.0);
    for (i, panel) in Panel::ALL.into_iter().enumerate() {
        let at = (MARGIN + (wide + 36.0) * (i % 2) as f32, 84.0 + (high + 16.0) * (i / 2) as f32);
        chart(&mut d, at, (wide, high), panel, series, span);
    }
    let foot = d.size.1 - 24.0;
    d.text((MARGIN, foot), 7.0, false, GREY, "Gossip");
    d
}

/// The time of a second, to the second.
fn moment(second: i64) -> String {
    rfc3339(second * 1_000_000).chars().take(19).map(|c| if c == 'T' { ' ' } else { c }).collect()
}

/// The time of day of a second.
pub fn clock(second: i64) -> String {
    moment(second).split(' ').nth(1).unwrap_or_default().to_string()
}

fn chart(d: &mut Drawing, at: (f32, f32), size: (f32, f32), panel: Panel, series: &Series, span: Span) {
    let curves = panel.curves(series, span);
    let most = curves.iter().flat_map(|c| c.values.iter().flatten()).copied().fold(0.0, f64::max);
    let (top, step) = panel.axis(most, 3);
    let (left, right) = (at.0 + 34.0, at.0 + size.0 - 46.0);
    let (above, below) = (at.1 + 22.0, at.1 + size.1 - 14.0);
    let x = |i: f32| left + (right - left) * i / (span.count as f32 - 1.0).max(1.0);
    let y = |v: f64| below - (below - above) * (v / top).clamp(0.0, 1.0) as f32;
    let title = match panel.unit() {
        "" => panel.title().to_string(),
        unit => format!("{}, {unit}", panel.title()),
    };
    d.text((at.0, at.1 + 8.0), 9.0, true, INK, title.as_str());
    d.text((at.0 + text_width(&title, 9.0) + 8.0, at.1 + 8.0), 7.0, false, GREY, panel.note());
    for n in 0..=(top / step).round() as i32 {
        let v = f64::from(n) * step;
        d.line((left, y(v)), (right, y(v)), 0.5, FAINT);
        let text = value(v);
        d.text((left - 5.0 - text_width(&text, 7.0), y(v) + 2.5), 7.0, false, GREY, text);
    }
    for second in marks(span, 5) {
        let i = (second - span.first) as f32 / span.each as f32;
        d.line((x(i), below), (x(i), below + 3.0), 0.5, GREY);
        let text = clock(second);
        d.text((x(i) - text_width(&text, 7.0) / 2.0, below + 11.0), 7.0, false, GREY, text);
    }
    let mut taken: Vec<f32> = Vec::new();
    for (curve, colour) in curves.iter().zip(LINES) {
        let known = |i: usize| curve.values.get(i).copied().flatten();
        for i in 0..span.count {
            let Some(v) = known(i) else { continue };
            match known(i + 1) {
                Some(next) => d.line((x(i as f32), y(v)), (x(i as f32 + 1.0), y(next)), 1.0, colour),
                // A value that stands alone is still seen.
                None if i == 0 || known(i - 1).is_none() => {
                    d.block((x(i as f32) - 0.8, y(v) - 0.8), (1.6, 1.6), colour)
                }
                None => {}
            }
        }
        // The name stands at the line's end, and no two in one place.
        let Some(last) = curve.values.iter().rev().find_map(|v| *v) else { continue };
        let mut place = y(last) + 2.5;
        while taken.iter().any(|other| (other - place).abs() < 7.5) {
            place -= 7.5;
        }
        taken.push(place);
        d.text((right + 5.0, place), 7.0, false, colour, fit(curve.name, 7.0, 58.0));
    }
    if curves.iter().all(|c| c.values.iter().all(Option::is_none)) {
        d.text((left + 6.0, (above + below) / 2.0), 7.5, false, GREY, "nothing was measured");
    }
}

/// The same as text: a line for each interval.
pub fn words(series: &Series, seconds: i64, title: &str) -> String {
    let mut text = format!("{title}\n");
    let Some((first, last)) = series.ends() else { return text + "Nothing was counted.\n" };
    let span = Span::of(last, seconds.min(last - first + 1).max(1), 60);
    let all: Vec<_> =
        Panel::ALL.into_iter().flat_map(|p| p.curves(series, span).into_iter().map(move |c| (p, c))).collect();
    for (n, (panel, curve)) in all.iter().enumerate() {
        text += &format!(
            "[{}] {}: {}{}{}\n",
            n + 1,
            panel.title(),
            curve.name,
            if panel.unit().is_empty() { "" } else { ", " },
            panel.unit()
        );
    }
    text += &format!("\n{:<9}", "UTC");
    (1..=all.len()).for_each(|n| text += &format!("{:>9}", format!("[{n}]")));
    text.push('\n');
    for i in 0..span.count {
        text += &format!("{:<9}", clock(span.first + i as i64 * span.each));
        for (_, curve) in &all {
            text += &format!("{:>9}", curve.values.get(i).copied().flatten().map_or("-".into(), value));
        }
        text.push('\n');
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_names_lines_units_and_times_and_copes_with_nothing() {
        let mut series = Series::default();
        assert!(page(&series, 300, "none").to_svg().contains("Nothing\u{a0}was\u{a0}counted."));
        let noon = 43_200;
        for i in 0..120 {
            series.written((noon + i) * 1_000_000, 2_000 + i * 10);
        }
        let svg = page(&series, 300, "Saltmarsh Roads").to_svg();
        for text in [
            "from\u{a0}commit\u{a0}to\u{a0}socket,\u{a0}ms",
            "\np99\n",
            "\n12:01:00\n",
            "1970-01-01\u{a0}12:00:00",
            "nothing\u{a0}was\u{a0}measured",
        ] {
            assert!(svg.contains(text), "{text}");
        }
        let text = words(&series, 300, "t");
        assert!(text.contains("[6] from commit to socket: max, ms") && text.lines().count() > 60, "{text}");
    }
}
