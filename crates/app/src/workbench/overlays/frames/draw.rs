//! Draws raw frames: a list of what each says, and the selected one pretty-printed.

use gossip_client::Direction;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line as Text, Span};
use ratatui::widgets::Paragraph;

use crate::workbench::overlays::frames::state::{Looking, Whose, place, pretty};
use crate::workbench::overlays::frames::update::shown;
use crate::workbench::overlays::frames::words::about;
use crate::workbench::paint::{put, rule};
use crate::workbench::state::State;
use crate::workbench::words::{counted, fit, time};

/// Draws the frames.
pub fn draw(s: &State, frame: &mut Frame<'_>, area: Rect, looking: &Looking) {
    let t = s.theme;
    let width = area.width as usize;
    let who = match looking.whose {
        Whose::Watcher(id) => s.watcher(id).map_or(String::new(), |w| w.persona.clone()),
        Whose::Client => {
            s.clients.chosen().map_or(String::new(), |(_, c)| c.subject.clone().unwrap_or_else(|| "Anyone".into()))
        }
    };
    let frames = shown(s, looking);
    let mut head = vec![Span::styled(format!("{who}, {}", counted(frames.len(), "frame", "frames")), t.strong())];
    if looking.finding || !looking.find.text().is_empty() {
        let text = format!("   with “{}”", looking.find.text());
        head.push(Span::styled(text, if looking.finding { t.accent() } else { t.dim() }));
    }
    put(frame, area, 0, Text::from(head));
    if frames.is_empty() {
        return put(frame, area, 2, Text::styled("None that fits, yet.", t.dim()));
    }
    let at = place(&frames, looking);
    let room = (area.height as usize / 3).max(3);
    let first = at.saturating_sub(room - 1);
    for (row, f) in frames.iter().skip(first).take(room).enumerate() {
        let here = Rect { y: area.y + 1 + row as u16, height: 1, ..area };
        let chosen = first + row == at;
        let base = if chosen { t.chosen() } else { ratatui::style::Style::new() };
        frame.render_widget(Paragraph::new("").style(base), here);
        let (arrow, style) = match f.direction {
            Direction::Sent => ("→ sent    ", t.outside()),
            Direction::Received => ("← received", t.heard()),
        };
        let (kind, what) = about(&f.text);
        let line = Text::from(vec![
            Span::styled(format!("{:<14}", time(f.at)), base.patch(t.dim())),
            Span::styled(format!("{arrow}  "), base.patch(style)),
            Span::styled(format!("{:>7} B  ", f.bytes), base.patch(t.dim())),
            Span::styled(format!("{:<12}", fit(&kind, 11)), base.patch(t.strong())),
            Span::styled(fit(&what, width.saturating_sub(50)), base),
        ]);
        put(frame, here, 0, line);
    }
    let top = area.y + 1 + frames.len().min(room) as u16;
    rule(s, frame, Rect { y: top, height: 1, ..area });
    let below = Rect { y: top + 1, height: (area.y + area.height).saturating_sub(top + 1), ..area };
    for (row, line) in pretty(&frames[at].text).lines().take(below.height as usize).enumerate() {
        put(frame, below, row as u16, Text::raw(fit(line, width)));
    }
}
