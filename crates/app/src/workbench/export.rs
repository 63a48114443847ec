//! The journey of a line, and Earshot as held, for a page: as drawings with their own layout, and as plain text.

use gossip_draw::{Colour, Drawing, Point, Shape, fit, text_width};

use crate::charts::panel::axis;
use crate::workbench::line::Line;
use crate::workbench::marks::Mark;
use crate::workbench::page::Page;
use crate::workbench::state::State;
use crate::workbench::views::earshot::legs::{Tone, legs};
use crate::workbench::words;
use crate::workbench::words::{span, time};

const INK: Colour = [34, 38, 44];
const GREY: Colour = [122, 128, 136];
const FAINT: Colour = [222, 224, 226];
const MARGIN: f32 = 40.0;

/// Watchers that fit side by side on a page.
const COLUMNS: usize = 8;

/// A mark's colour on white paper.
fn colour(mark: Mark) -> Colour {
    match mark {
        Mark::Added | Mark::Replaced | Mark::Removed => [20, 118, 78],
        Mark::Withheld => [176, 82, 24],
        Mark::Outside => [48, 92, 160],
        Mark::Missed => [196, 30, 50],
        Mark::Folded | Mark::OnItsWay | Mark::CaughtUp => [118, 66, 158],
        Mark::Unchanged | Mark::NotConnected | Mark::Elsewhere | Mark::Unknown => GREY,
    }
}

/// A mark as a shape, like the one on the screen.
fn mark(d: &mut Drawing, at: Point, mark: Mark) {
    let (c, r, (x, y)) = (colour(mark), 3.2, at);
    let circle = |fill: bool| Shape::Circle { at, radius: r, fill: fill.then_some(c), edge: Some(c) };
    let diamond = |fill: bool| Shape::Polygon {
        points: vec![(x, y - r), (x + r, y), (x, y + r), (x - r, y)],
        fill: fill.then_some(c),
        edge: Some(c),
    };
    match mark {
        Mark::Replaced => d.shapes.push(circle(true)),
        Mark::Added | Mark::Removed => {
            d.shapes.push(circle(false));
            d.line((x - 2.0, y), (x + 2.0, y), 1.0, c);
            if mark == Mark::Added {
                d.line((x, y - 2.0), (x, y + 2.0), 1.0, c);
            }
        }
        Mark::Withheld => d.shapes.push(diamond(true)),
        Mark::Outside => d.shapes.push(diamond(false)),
        Mark::Missed => {
            d.line((x - r, y - r), (x + r, y + r), 1.8, c);
            d.line((x - r, y + r), (x + r, y - r), 1.8, c);
        }
        Mark::Elsewhere => d.line((x - r, y), (x + r, y), 1.0, c),
        Mark::Unchanged => {
            d.line((x - r, y - 1.2), (x + r, y - 1.2), 1.0, c);
            d.line((x - r, y + 1.2), (x + r, y + 1.2), 1.0, c);
        }
        Mark::NotConnected => {
            d.shapes.push(circle(false));
            d.line((x - r, y + r), (x + r, y - r), 1.0, c);
        }
        Mark::OnItsWay => d.shapes.push(circle(false)),
        Mark::Folded | Mark::CaughtUp => {
            d.shapes.push(circle(false));
            let side = if mark == Mark::Folded { -1.0 } else { 1.0 };
            let points = vec![(x, y - r), (x + side * r, y), (x, y + r)];
            d.shapes.push(Shape::Polygon { points, fill: Some(c), edge: None });
        }
        Mark::Unknown => d.text((x - 2.4, y + 2.6), 8.0, false, c, "?"),
    }
}

fn head(d: &mut Drawing, title: &str, below: &str) {
    let width = d.size.0 - 2.0 * MARGIN;
    d.text((MARGIN, 48.0), 13.0, true, INK, fit(title, 13.0, width));
    d.text((MARGIN, 64.0), 8.0, false, GREY, fit(below, 8.0, width));
    let foot = d.size.1 - 24.0;
    d.text((MARGIN, foot), 7.0, false, GREY, "Gossip");
}

/// A text as part of a file name.
fn in_name(text: &str) -> String {
    text.chars().map(|c| if c.is_ascii_alphanumeric() || c == '-' { c } else { '-' }).collect()
}

/// The journey of a line.
pub fn journey(s: &State, line: &Line) -> Page {
    let at = line.at.as_ref().map_or("not in the stream".to_string(), ToString::to_string);
    let title = words::line(line);
    let uncertain = span(line.committed.1.saturating_sub(line.committed.0));
    let below = format!("position {at}, committed {}, within the {uncertain} before", time(line.committed.1));
    let mut d = Drawing::landscape(format!("Journey of {at}"));
    head(&mut d, &title, &below);
    let all = legs(s, line);
    let last = all.iter().map(|l| l.to).max().unwrap_or(1).max(1);
    let (left, right, top) = (MARGIN + 130.0, d.size.0 - MARGIN - 120.0, 96.0);
    let x = |t: i64| left + (t as f32 / last as f32) * (right - left);
    let room = d.size.1 - 60.0 - top;
    let step = (room / all.len().max(1) as f32).min(16.0);
    let bottom = top + step * all.len() as f32;
    let (_, each) = axis(last as f64, 4);
    for t in (0..20).map(|i| (f64::from(i) * each) as i64).take_while(|t| *t <= last) {
        d.line((x(t), top - 8.0), (x(t), bottom), 0.5, FAINT);
        d.text((x(t), top - 12.0), 7.0, false, GREY, span(t));
    }
    let mut text = format!("{title}\n{below}\n\n");
    for (i, leg) in all.iter().enumerate() {
        let y = top + step * i as f32 + step / 2.0;
        let (c, bold, indent) = match leg.tone {
            Tone::Read => ([48, 92, 160], true, 0.0),
            Tone::Relay => ([118, 66, 158], true, 0.0),
            Tone::Watcher(mark) => (colour(mark), true, 12.0),
            Tone::Part => (GREY, false, 12.0),
        };
        if let Tone::Watcher(m) = leg.tone {
            mark(&mut d, (MARGIN + 4.0, y), m);
        }
        let ink = if bold { INK } else { GREY };
        d.text((MARGIN + indent, y + 3.0), 8.0, bold, ink, fit(&leg.name, 8.0, 118.0));
        let width = (x(leg.to) - x(leg.from)).max(1.0);
        d.block((x(leg.from), y - 2.5), (width, 5.0), c);
        d.text((x(leg.to).max(x(leg.from) + 1.0) + 6.0, y + 3.0), 8.0, false, GREY, fit(&leg.note, 8.0, 120.0));
        let word = if let Tone::Watcher(m) = leg.tone { format!("   {}", m.word()) } else { String::new() };
        text +=
            &format!("{:<22} {:>12}  from {:>10} to {:>10}{word}\n", leg.name, leg.note, span(leg.from), span(leg.to));
    }
    for r in &line.rows {
        text += &format!("\n{}\n", words::row(r));
    }
    Page { name: format!("gossip-journey-{}", in_name(&at)), drawing: d, text }
}

/// Earshot as shown: the lines from the top one on, with each watcher's mark.
pub fn earshot(s: &State) -> Page {
    let lines: Vec<&Line> = s.visible().skip(s.newer()).take(s.page.clamp(1, 34)).collect();
    let newest = lines.first().map_or_else(|| time(s.now), |l| time(l.committed.1));
    let mut d = Drawing::landscape(format!("Who heard what, up to {newest}"));
    let shown = s.watchers.iter().take(COLUMNS).collect::<Vec<_>>();
    let others = s.watchers.len() - shown.len();
    let more = if others > 0 { format!(", and {others} more that have no room here") } else { String::new() };
    let title = if s.title.is_empty() { String::new() } else { format!(" · {}", s.title) };
    head(&mut d, &format!("Who heard what{title}"), &format!("{} lines up to {newest}{more}", lines.len()));
    let each = 64.0;
    let columns = d.size.0 - MARGIN - each * shown.len() as f32;
    let top = 96.0;
    let mut text = format!("Who heard what, up to {newest}\n\n");
    for (i, w) in shown.iter().enumerate() {
        let x = columns + each * i as f32;
        d.text((x, top), 8.0, true, INK, fit(&w.persona, 8.0, each - 6.0));
        let place = s.places.get(w.place).map_or("", |p| p.name.as_str());
        d.text((x, top + 10.0), 7.0, false, GREY, fit(&format!("{} {place}", w.role), 7.0, each - 6.0));
        text += &format!("{}  {} at {place}: {}\n", w.persona, w.role, w.query);
    }
    text.push('\n');
    d.line((MARGIN, top + 16.0), (d.size.0 - MARGIN, top + 16.0), 0.5, GREY);
    for (i, line) in lines.iter().enumerate() {
        let y = top + 28.0 + 12.0 * i as f32;
        let when = time(line.committed.1);
        d.text((MARGIN, y), 7.5, false, GREY, when.as_str());
        let what = words::line(line);
        d.text((MARGIN + 66.0, y), 7.5, false, INK, fit(&what, 7.5, columns - MARGIN - 74.0));
        let mut words = Vec::new();
        for (n, w) in shown.iter().enumerate() {
            let m = s.mark(line, w);
            mark(&mut d, (columns + each * n as f32 + 4.0, y - 2.5), m);
            words.push(format!("{}: {}", w.persona, m.word()));
        }
        text += &format!("{when}  {what}\n    {}\n", words.join(", "));
    }
    // The legend has only the marks on this page.
    let used = Mark::ALL.into_iter().filter(|m| lines.iter().any(|l| shown.iter().any(|w| s.mark(l, w) == *m)));
    let (mut x, y) = (MARGIN, d.size.1 - 40.0);
    for m in used.collect::<Vec<_>>() {
        mark(&mut d, (x + 4.0, y - 2.5), m);
        d.text((x + 12.0, y), 7.0, false, GREY, m.word());
        x += 26.0 + text_width(m.word(), 7.0);
    }
    Page { name: format!("gossip-earshot-{}", in_name(&newest)), drawing: d, text }
}
