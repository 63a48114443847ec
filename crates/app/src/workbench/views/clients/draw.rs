//! Draws Clients: who is connected, above; below, who came and went, and what goes over the selected connection.

use gossip_client::Direction;
use gossip_protocol::system::{ClientRow, ConnectionRow};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line as Text, Span};
use ratatui::widgets::Paragraph;

use crate::workbench::overlays::frames::words::about;
use crate::workbench::paint::{put, rule};
use crate::workbench::state::{Click, State};
use crate::workbench::views::clients::state::ClientId;
use crate::workbench::words::{counted, fit, span, time};

/// A column of the list: its name, its width, and from how many columns of the screen on it is shown.
const COLUMNS: [(&str, usize, u16); 8] = [
    ("who", 18, 0),
    ("roles", 14, 0),
    ("instance", 12, 0),
    ("queries", 9, 0),
    ("waiting", 22, 0),
    ("written up to", 18, 110),
    ("sent", 9, 84),
    ("from", 32, 130),
];

/// Draws the view.
pub fn draw(s: &mut State, frame: &mut Frame<'_>, area: Rect) {
    let t = s.theme;
    let total = s.clients.known.len();
    let shown: Vec<(ClientId, ClientRow)> = s.clients.shown().into_iter().map(|(id, c)| (id, c.clone())).collect();
    let mut head = vec![Span::styled(counted(total, "client", "clients"), t.strong())];
    if !s.clients.find.is_empty() {
        head.push(Span::styled(format!("   {} with “{}”", shown.len(), s.clients.find), t.dim()));
    }
    put(frame, area, 0, Text::from(head));
    let names = COLUMNS.iter().filter(|c| area.width >= c.2).map(|(name, width, _)| format!("{name:<width$}"));
    put(frame, area, 1, Text::styled(names.collect::<String>(), t.dim()));
    let room = usize::from((area.height.saturating_sub(4) / 2).max(3));
    if shown.is_empty() {
        let text = if s.recorded { "The recording has no clients." } else { "Nobody is connected." };
        put(frame, area, 2, Text::styled(if total > 0 { "None that fits." } else { text }, t.dim()));
    }
    let chosen = s.clients.chosen().map(|(id, _)| id);
    let at = shown.iter().position(|(id, _)| Some(*id) == chosen).unwrap_or(0);
    let first = at.saturating_sub(room - 1);
    for (row, (id, client)) in shown.iter().skip(first).take(room).enumerate() {
        let here = Rect { y: area.y + 2 + row as u16, height: 1, ..area };
        let base = if Some(*id) == chosen { t.chosen() } else { Style::new() };
        frame.render_widget(Paragraph::new("").style(base), here);
        put(frame, here, 0, line(s, *id, client, base, area.width));
        s.places_on_screen.push((here, Click::Client(*id)));
    }
    let used = 2 + shown.len().clamp(1, room) as u16;
    rule(s, frame, Rect { y: area.y + used, height: 1, ..area });
    let below = Rect { y: area.y + used + 1, height: area.height.saturating_sub(used + 1), ..area };
    // Side by side where there is room, else one above the other.
    if area.width >= 120 {
        let left = below.width / 2;
        comings(s, frame, Rect { width: left - 2, ..below });
        selected(s, frame, Rect { x: below.x + left, width: below.width - left, ..below });
    } else {
        let half = below.height / 2;
        selected(s, frame, Rect { height: half, ..below });
        comings(s, frame, Rect { y: below.y + half, height: below.height - half, ..below });
    }
}

fn who(subject: Option<&String>) -> &str {
    subject.map_or("anyone", String::as_str)
}

fn line(s: &State, id: ClientId, c: &ClientRow, base: Style, width: u16) -> Text<'static> {
    let t = s.theme;
    let waiting = match (c.held_ms, c.waiting) {
        (0, 0) => ("nothing".to_string(), t.dim()),
        (0, n) => (format!("{} ({n})", bytes(c.waiting_bytes)), t.late()),
        (ms, n) => {
            (format!("held {} ({n})", span(i64::try_from(ms).unwrap_or(i64::MAX).saturating_mul(1_000))), t.late())
        }
    };
    let caught_up = if c.caught_up > 0 { format!(", caught up {}×", c.caught_up) } else { String::new() };
    let name = s.places.get(id.0).map_or("", |p| p.name.as_str());
    // What an operator is sent is not counted: to look at it would change it.
    let sent = if c.operator { "—".to_string() } else { c.sent.to_string() };
    let cells = [
        (who(c.subject.as_ref()).to_string(), if c.operator { t.dim() } else { t.strong() }),
        (c.roles.clone(), Style::new()),
        (name.to_string(), Style::new()),
        (c.subscriptions.0.len().to_string(), Style::new()),
        (waiting.0 + &caught_up, waiting.1),
        (c.written_to.clone().unwrap_or_else(|| "—".into()), t.dim()),
        (sent, Style::new()),
        (format!("{} {}", c.address, c.transport), t.dim()),
    ];
    let shown = COLUMNS.iter().zip(cells).filter(|(c, _)| width >= c.2);
    let cell = |((_, width, _), (text, style)): (&(&str, usize, u16), (String, Style))| {
        Span::styled(format!("{:<width$}", fit(&text, width - 1)), base.patch(style))
    };
    Text::from(shown.map(cell).collect::<Vec<_>>())
}

/// A number of bytes for people.
fn bytes(n: u64) -> String {
    match n {
        0..1_024 => format!("{n} B"),
        1_024..1_048_576 => format!("{} KiB", n / 1_024),
        _ => format!("{:.1} MiB", n as f64 / 1_048_576.0),
    }
}

fn comings(s: &State, frame: &mut Frame<'_>, area: Rect) {
    let t = s.theme;
    put(frame, area, 0, Text::styled("came and went", t.strong()));
    if s.clients.comings.is_empty() {
        return put(frame, area, 1, Text::styled("Nobody yet.", t.dim()));
    }
    // Who looks is not what is looked for, and a connection with a token is told once it is known whose it is.
    let came = |c: &&ConnectionRow| !c.operator && (c.what != "connected" || c.subject.is_none());
    let shown = s.clients.comings.iter().filter(came).take(area.height.saturating_sub(1) as usize);
    for (row, c) in shown.enumerate() {
        let (mark, style) = match c.what.as_str() {
            "disconnected" => ("− ", t.withheld()),
            "authenticated" => ("+ ", t.heard()),
            _ => ("· ", t.dim()),
        };
        let what = match (c.what.as_str(), &c.why) {
            ("disconnected", why) => why.clone().unwrap_or_default(),
            ("authenticated", _) => format!("as {}", c.roles),
            _ => "without a token".into(),
        };
        let line = vec![
            Span::styled(format!("{} ", time(c.at)), t.dim()),
            Span::styled(mark, style),
            Span::raw(format!("{:<12} ", fit(who(c.subject.as_ref()), 12))),
            Span::styled(format!("{:<8} ", fit(&c.instance, 8)), t.dim()),
            Span::raw(fit(&what, (area.width as usize).saturating_sub(38))),
        ];
        put(frame, area, 1 + row as u16, Text::from(line));
    }
}

/// The selected client: what it listens to, and its newest frames.
fn selected(s: &State, frame: &mut Frame<'_>, area: Rect) {
    let t = s.theme;
    let Some((_, c)) = s.clients.chosen() else { return };
    let width = area.width as usize;
    let name = format!("{}, client {}, since {}", who(c.subject.as_ref()), c.id, clock(&c.since));
    put(frame, area, 0, Text::styled(fit(&name, width), t.strong()));
    let mut row = 1;
    for sub in c.subscriptions.0.iter().take(3) {
        let line = vec![Span::styled(format!("{:>3}  ", sub.number), t.dim()), Span::raw(fit(&sub.query, width - 5))];
        put(frame, area, row, Text::from(line));
        row += 1;
    }
    if c.subscriptions.0.len() > 3 {
        let text = format!("     and {} more", c.subscriptions.0.len() - 3);
        put(frame, area, row, Text::styled(text, t.dim()));
        row += 1;
    }
    if s.recorded {
        return;
    }
    row += 1;
    let frames = s.clients.frames.with("", false);
    let note = match (frames.is_empty(), c.operator) {
        (false, _) => "frames, newest first",
        (true, true) => "frames: an operator's own are not shown",
        (true, false) => "frames: none since it was selected",
    };
    put(frame, area, row, Text::styled(note, t.dim()));
    row += 1;
    for f in frames.iter().take(area.height.saturating_sub(row) as usize) {
        let (kind, what) = about(&f.text);
        // Named as the client sees it.
        let (arrow, style) = match f.direction {
            Direction::Received => ("▾ ", t.heard()),
            Direction::Sent => ("▴ ", t.outside()),
        };
        let line = vec![
            Span::styled(format!("{} ", time(f.at)), t.dim()),
            Span::styled(arrow, style),
            Span::styled(format!("{:<11}", fit(&kind, 10)), t.strong()),
            Span::raw(fit(&what, width.saturating_sub(28))),
        ];
        put(frame, area, row, Text::from(line));
        row += 1;
    }
}

/// The time of day of an RFC 3339 time, on this machine.
fn clock(at: &str) -> String {
    at.parse::<jiff::Timestamp>().map_or(at.into(), |at| time(at.as_microsecond()))
}
