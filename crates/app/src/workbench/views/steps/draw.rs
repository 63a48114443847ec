//! Draws First steps: what is done, what is next, and its key.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line as Text, Span};

use crate::workbench::action::Action;
use crate::workbench::keymap::ACTIONS;
use crate::workbench::paint::{put, rule};
use crate::workbench::possible::is_possible;
use crate::workbench::state::State;
use crate::workbench::views::steps::list;
use crate::workbench::words::fit;

/// Draws the view.
pub fn draw(s: &State, frame: &mut Frame<'_>, area: Rect) {
    let t = s.theme;
    let all = list::steps(s);
    let next = list::next(s);
    let width = area.width as usize;
    for (i, step) in all.iter().enumerate() {
        let is_next = Some(i) == next;
        let (shape, style) = match (step.done, is_next) {
            (true, _) => ("✓", t.heard()),
            (false, true) => ("▸", t.accent()),
            (false, false) => ("┊", t.dim()),
        };
        let key = ACTIONS.iter().find(|e| e.action == step.action).map_or("", |e| e.shown);
        let name = if is_next {
            t.accent()
        } else if step.done {
            Style::new()
        } else {
            t.dim()
        };
        let line = Text::from(vec![
            Span::styled(format!("  {shape} "), style),
            Span::styled(format!("{:<14}", step.name), name),
            Span::styled(format!("{key:<4}"), if step.done { t.dim() } else { t.accent() }),
            Span::styled(fit(&step.text, width.saturating_sub(24)), if step.done { t.dim() } else { Style::new() }),
        ]);
        put(frame, area, 1 + i as u16 * 2, line);
    }
    let below = Rect { y: area.y + 16, height: area.height.saturating_sub(16), ..area };
    rule(s, frame, Rect { height: 1.min(below.height), ..below });
    let text = match next {
        Some(i) => format!("enter does the next step: {}.", all[i].name),
        None => {
            "All steps are done. 1 shows who hears what; add a second persona to see who does not, and why.".to_string()
        }
    };
    put(frame, below, 1, Text::styled(fit(&text, width), t.strong()));
    put(frame, below, 2, Text::styled("Everything is written to gossip.toml as you go; its comments stay.", t.dim()));
    if is_possible(Action::Broker, s) {
        let kind = s.relay.links.values().map(|link| link.kind.as_str()).find(|kind| !kind.is_empty());
        let relay = match kind {
            None | Some("inproc") => {
                "Instances of other processes are reached through a broker, and there is none yet.".into()
            }
            Some(kind) => format!("Instances of other processes are reached through {kind}."),
        };
        let line = vec![Span::styled("b ", t.accent()), Span::raw(fit(&relay, width.saturating_sub(2)))];
        put(frame, below, 4, Text::from(line));
    }
}
