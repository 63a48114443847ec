//! Draws the first steps before there is a configuration.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line as Text, Span};

use crate::setup::state::{Setup, Stage};
use crate::workbench::paint::put;
use crate::workbench::words::{fit, wrap};

/// Draws all of it.
pub fn draw(s: &Setup, frame: &mut Frame<'_>) {
    let area = frame.area();
    let t = s.theme;
    let left = (area.width / 12).max(1);
    let area =
        Rect { x: left, y: 1, width: area.width.saturating_sub(2 * left), height: area.height.saturating_sub(2) };
    let width = area.width as usize;
    let head = vec![Span::styled("GOSSIP", t.accent()), Span::styled("   First steps", t.strong())];
    put(frame, area, 0, Text::from(head));
    let mut row = 2;
    let mut say = |frame: &mut Frame<'_>, text: Text<'_>| {
        put(frame, area, row, text);
        row += 1;
    };
    let steps = ["source", "tables and keys", "what it takes"];
    let at = match s.stage {
        Stage::Source => 0,
        Stage::Tables(..) => 1,
        Stage::Plan(_) => 2,
    };
    let trail = steps.iter().enumerate().map(|(i, name)| {
        let (shape, style) = match i.cmp(&at) {
            std::cmp::Ordering::Less => ("✓ ", t.heard()),
            std::cmp::Ordering::Equal => ("▸ ", t.accent()),
            std::cmp::Ordering::Greater => ("┊ ", t.dim()),
        };
        Span::styled(format!("{shape}{name}      "), style)
    });
    say(frame, Text::from(trail.collect::<Vec<_>>()));
    say(frame, Text::from(""));
    let keys = match &s.stage {
        Stage::Source => {
            let found = match s.files.len() {
                0 => "There is no SQLite database in this folder. Type the path of one, or leave and try gossip demo.",
                _ => "There is no gossip.toml here yet. Which SQLite database do your programs write to?",
            };
            say(frame, Text::from(fit(found, width)));
            say(frame, Text::from(""));
            for (i, file) in s.files.iter().enumerate() {
                let (mark, style) = if i == s.at { ("▸ ", t.accent()) } else { ("  ", t.strong()) };
                say(frame, Text::styled(format!("{mark}{}", fit(file, width.saturating_sub(2))), style));
            }
            let mark = if s.at >= s.files.len() { "▸ " } else { "  " };
            let typed = Text::from(vec![
                Span::styled(mark, t.accent()),
                Span::styled("another: ", t.dim()),
                Span::raw(s.typed.text().to_string()),
            ]);
            say(frame, typed);
            vec![("enter", "this one"), ("↑↓", "choose"), ("esc", "leave")]
        }
        Stage::Tables(all, at) => {
            let text = format!(
                "Which tables of {} should stream? A table needs a key, so that its rows can be told apart.",
                s.file
            );
            say(frame, Text::from(fit(&text, width)));
            say(frame, Text::from(""));
            let room = area.height.saturating_sub(12) as usize;
            for (i, c) in all.iter().enumerate().skip(at.saturating_sub(room.saturating_sub(1))).take(room) {
                let style = if i == *at { t.accent() } else { t.strong() };
                let (what, about) = match &c.key {
                    Ok(key) => {
                        let rows = c.size.1.map_or("many".into(), |n| n.to_string());
                        (format!("{} columns, {rows} rows", c.size.0), Span::raw(format!("key {key}")))
                    }
                    Err((why, _)) => (String::new(), Span::styled(fit(why, width.saturating_sub(56)), t.withheld())),
                };
                let mark = match (&c.key, c.chosen) {
                    (Err(_), _) => Span::styled("╳ ", t.withheld()),
                    (Ok(_), true) => Span::styled("■ ", t.heard()),
                    (Ok(_), false) => Span::styled("□ ", t.dim()),
                };
                let line = Text::from(vec![
                    Span::styled(if i == *at { "▸ " } else { "  " }, t.accent()),
                    mark,
                    Span::styled(format!("{:<24}", fit(&c.name, 23)), style),
                    Span::styled(format!("{what:<26}"), t.dim()),
                    about,
                ]);
                say(frame, line);
            }
            if let Some(Err((_, Some(mend)))) = all.get(*at).map(|c| &c.key) {
                say(frame, Text::from(""));
                say(frame, Text::styled(fit(&format!("mend: {mend}"), width), t.dim()));
            }
            vec![("enter", "go on"), ("space", "choose"), ("↑↓", "move"), ("esc", "back")]
        }
        Stage::Plan(plan) => {
            say(frame, Text::from("Triggers follow these tables from now on, whichever program writes:"));
            say(frame, Text::from(""));
            for effect in &plan.effects {
                for (i, part) in wrap(effect, width.saturating_sub(2)).into_iter().enumerate() {
                    say(frame, Text::from(format!("{}{part}", if i == 0 { "· " } else { "  " })));
                }
            }
            say(frame, Text::from(""));
            let text = format!(
                "{} statements in one transaction; gossip prepare --remove takes all of it away again.",
                plan.statements.len()
            );
            say(frame, Text::styled(fit(&text, width), t.dim()));
            say(frame, Text::styled("Then gossip.toml is written, and the workbench opens.", t.dim()));
            vec![("enter", "do it"), ("esc", "back")]
        }
    };
    if let Some(problem) = &s.problem {
        say(frame, Text::from(""));
        for part in wrap(problem, width) {
            say(frame, Text::styled(part, t.withheld()));
        }
    }
    let foot =
        keys.into_iter().flat_map(|(key, name)| [Span::styled(key, t.accent()), Span::raw(format!(" {name}   "))]);
    put(frame, area, area.height.saturating_sub(1), Text::from(foot.collect::<Vec<_>>()));
}
