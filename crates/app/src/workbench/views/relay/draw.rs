//! Draws Relay: the cluster, and below it the messages on the relay.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line as Text, Span};
use unicode_width::UnicodeWidthStr;

use crate::relay_map::{Node, rate};
use crate::workbench::paint::{put, rule};
use crate::workbench::state::State;
use crate::workbench::views::relay::state::Said;
use crate::workbench::views::relay::update as relay;
use crate::workbench::words::{fit, span, time};

/// Width of a name.
const NAME: usize = 14;

/// Draws the view.
#[expect(clippy::too_many_lines, reason = "one screen, from top to bottom")]
pub fn draw(s: &State, frame: &mut Frame<'_>, area: Rect) {
    let t = s.theme;
    let p = relay::picture(s);
    if p.nodes.is_empty() {
        return put(frame, area, 1, Text::styled("No instances yet.", t.dim()));
    }
    let wide = area.width >= 110;
    let shown = p.nodes.len().min((area.height as usize / 2).saturating_sub(3) / 2).max(1);
    let high = shown * 2;
    let middle = (high.saturating_sub(1)) / 2;
    let reader = p.reader();
    // Source and relay are centred vertically; the line between them names the reader.
    let (way, how) = match reader {
        Some(r) => (format!("── {} reads ──▸ ", r.name), rate(r.changes)),
        None => ("╌╌ nobody reads ╌╌ ".to_string(), String::new()),
    };
    let style = if reader.is_some() { t.heard() } else { t.withheld() };
    let source = fit(&p.source, NAME);
    let left = source.width() + 1 + way.width();
    let heads = [("source", 0), ("relay", left), ("instances", left + NAME + 8)];
    let mut head = String::new();
    for (name, at) in heads {
        head.push_str(&" ".repeat(at.saturating_sub(head.width())));
        head.push_str(name);
    }
    put(frame, area, 0, Text::styled(head, t.dim()));
    for row in 0..high {
        let node = &p.nodes[row / 2];
        let first = row % 2 == 0;
        let mut line: Vec<Span<'static>> = Vec::new();
        if row == middle {
            line.push(Span::styled(format!("{source} "), t.strong()));
            line.push(Span::styled(way.clone(), style));
            let name = fit(&p.relay, NAME - 2);
            line.push(Span::styled(format!("{name} "), t.strong()));
            line.push(Span::styled("─".repeat(NAME - 1 - name.width()), t.dim()));
        } else {
            let note = if row == middle + 1 { how.as_str() } else { "" };
            let at = source.width() + 4;
            line.push(Span::styled(format!("{:<left$}", format!("{}{note}", " ".repeat(at))), t.dim()));
            line.push(Span::raw(" ".repeat(NAME)));
        }
        line.extend(branch(s, node, row, middle, shown));
        line.extend(about(s, node, first, wide, (area.width as usize).saturating_sub(left + NAME + 8)));
        put(frame, area, 1 + row as u16, Text::from(line));
    }
    let mut used = 1 + high as u16;
    if p.nodes.len() > shown {
        put(frame, area, used, Text::styled(format!("{} more instances", p.nodes.len() - shown), t.dim()));
        used += 1;
    }
    if !p.broker.is_empty() {
        let text = vec![Span::styled("broker  ", t.dim()), Span::raw(fit(&p.broker, area.width as usize - 8))];
        put(frame, area, used, Text::from(text));
        used += 1;
    }
    if p.differ() {
        put(frame, area, used, Text::styled("instances have different rules: their hashes differ", t.withheld()));
        used += 1;
    }
    let malformed: u64 = p.nodes.iter().map(|n| n.malformed).max().unwrap_or(0);
    if malformed > 0 {
        let newest = p.nodes.iter().find(|n| !n.last_malformed.is_empty()).map_or("", |n| &n.last_malformed);
        let text = format!("{malformed} messages could not be read; the newest: {newest}");
        put(frame, area, used, Text::styled(fit(&text, area.width as usize), t.withheld()));
        used += 1;
    }
    for n in p.nodes.iter().filter(|n| !n.foreign.is_empty()) {
        let text = format!("{} listens to other programs for all: {}", n.name, n.foreign);
        put(frame, area, used, Text::styled(fit(&text, area.width as usize), t.dim()));
        used += 1;
    }
    rule(s, frame, Rect { y: area.y + used, height: 1, ..area });
    let below = Rect { y: area.y + used + 1, height: area.height.saturating_sub(used + 1), ..area };
    messages(s, frame, below);
}

/// The line from the relay to an instance, with its corner.
fn branch(s: &State, node: &Node, row: usize, middle: usize, shown: usize) -> Vec<Span<'static>> {
    let t = s.theme;
    let (first, last) = (row.is_multiple_of(2), 2 * (shown - 1));
    let begin = if row == middle { "──" } else { "  " };
    let corner = match (row > 0 && row <= last.max(middle), row < last.max(middle), row == middle, first) {
        (false, false, true, _) => "─",
        (false, false, ..) => " ",
        (true, true, true, true) => "┼",
        (true, true, true, false) => "┤",
        (true, true, false, true) => "├",
        (true, true, false, false) => "│",
        (false, true, true, _) => "┬",
        (false, true, false, _) => "┌",
        (true, false, true, true) => "┴",
        (true, false, true, false) => "┘",
        (true, false, false, _) => "└",
    };
    let (way, style) = match (first, node.connected) {
        (false, _) => ("     ", t.dim()),
        (true, true) => ("───▸ ", t.heard()),
        (true, false) => ("╌✗╌▸ ", t.withheld()),
    };
    vec![Span::styled(format!("{begin}{corner}"), t.dim()), Span::styled(way, style)]
}

/// An instance: its state, and on a second line its numbers.
fn about(s: &State, n: &Node, first: bool, wide: bool, room: usize) -> Vec<Span<'static>> {
    let t = s.theme;
    if first {
        let (state, style) = match n.trouble() {
            Some(trouble) => (trouble, t.withheld()),
            None => ("current".to_string(), t.heard()),
        };
        let reads = if n.reads { "  reads the source" } else { "" };
        let delay = n.round_trip.map_or(String::new(), |ms| format!("  round trip {}", span((ms * 1_000.0) as i64)));
        return vec![
            Span::styled(format!("{:<NAME$}", fit(&n.name, NAME - 1)), t.strong()),
            Span::styled(state, style),
            Span::styled(fit(&format!("{delay}{reads}"), room.saturating_sub(NAME + 24)), t.dim()),
        ];
    }
    let mut text = format!(
        "{} changes  {} deltas to {} clients, {} live queries",
        rate(n.changes),
        rate(n.deliveries),
        n.clients,
        n.subscriptions
    );
    if n.waiting > 0 || n.lost > 0 {
        text += &format!("  {} wait, {} lost", n.waiting, n.lost);
    }
    if wide {
        text += &format!("  {}", n.address);
    }
    vec![Span::raw(fit(&text, room))]
}

fn messages(s: &State, frame: &mut Frame<'_>, area: Rect) {
    let t = s.theme;
    let held = if s.relay.held { format!("   paused, {} newer", s.relay.newer) } else { String::new() };
    let shown: Vec<&str> = Said::ALL.iter().filter(|k| !s.relay.without.contains(k)).map(|k| k.words()).collect();
    let kinds = if shown.is_empty() { "none".into() } else { shown.join(", ") };
    let head = vec![
        Span::styled("messages", t.strong()),
        Span::styled(format!("   {kinds}"), t.dim()),
        Span::styled(held, t.late()),
    ];
    put(frame, area, 0, Text::from(head));
    let shown = s.relay.listed().skip(s.relay.scroll).take(area.height.saturating_sub(1) as usize);
    for (i, m) in shown.enumerate() {
        let left_out = if m.left_out > 0 { format!("  ({} before it not shown)", m.left_out) } else { String::new() };
        let room = (area.width as usize).saturating_sub(60);
        let line = vec![
            Span::styled(format!("{}  ", time(m.at)), t.dim()),
            Span::raw(format!("{:<22}", fit(&m.name, 21))),
            Span::styled(format!("{:<24}", fit(&m.sender, 23)), t.dim()),
            Span::raw(fit(&format!("{}{left_out}", m.what), room)),
        ];
        put(frame, area, 1 + i as u16, Text::from(line));
    }
    if s.relay.listed().next().is_none() {
        put(frame, area, 1, Text::styled("Nothing of this has come over the relay yet.", t.dim()));
    }
}
