//! Draws the dialog that creates a configuration.

use std::cmp::Ordering;

use gossip_source::Plan;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line as Text, Span};

use crate::setup::state::{Choice, Setup, Stage};
use crate::workbench::paint::put;
use crate::workbench::theme::Theme;
use crate::workbench::words::{counted, fit, wrap};

/// Draws all of it.
pub fn draw(s: &Setup, frame: &mut Frame<'_>) {
    let area = frame.area();
    let t = s.theme;
    let left = (area.width / 12).max(1);
    let area =
        Rect { x: left, y: 1, width: area.width.saturating_sub(2 * left), height: area.height.saturating_sub(2) };
    let head = vec![Span::styled("GOSSIP", t.accent()), Span::styled("   First steps", t.strong())];
    put(frame, area, 0, Text::from(head));
    let mut page = Page { frame, area, row: 2, theme: t };
    page.line(trail(s));
    page.line("");
    let keys = match &s.stage {
        Stage::Source => source(s, &mut page),
        Stage::Tables(all, at) => tables(s, all, *at, &mut page),
        Stage::Plan(plan, wal) => effects(s, (plan, *wal), &mut page),
    };
    if let Some(problem) = &s.problem {
        page.line("");
        for part in wrap(problem, area.width as usize) {
            page.line(Text::styled(part, t.withheld()));
        }
    }
    let foot = keys.iter().flat_map(|(key, name)| [Span::styled(*key, t.accent()), Span::raw(format!(" {name}   "))]);
    put(frame, area, area.height.saturating_sub(1), Text::from(foot.collect::<Vec<_>>()));
}

/// Writes lines one below the other.
struct Page<'f, 'b> {
    frame: &'f mut Frame<'b>,
    area: Rect,
    row: u16,
    theme: Theme,
}

impl Page<'_, '_> {
    fn line<'a>(&mut self, text: impl Into<Text<'a>>) {
        put(self.frame, self.area, self.row, text.into());
        self.row += 1;
    }

    /// A text, cut to the width.
    fn fit(&self, text: &str) -> String {
        fit(text, self.area.width as usize)
    }
}

/// Keys with their actions.
type Keys = &'static [(&'static str, &'static str)];

/// The progress line.
fn trail(s: &Setup) -> Text<'static> {
    let t = s.theme;
    let at = match s.stage {
        Stage::Source => 0,
        Stage::Tables(..) => 1,
        Stage::Plan(..) => 2,
    };
    let steps = ["source", "tables and keys", "what will change"].into_iter().enumerate().map(|(i, name)| {
        let (shape, style) = match i.cmp(&at) {
            Ordering::Less => ("✓ ", t.heard()),
            Ordering::Equal => ("▸ ", t.accent()),
            Ordering::Greater => ("┊ ", t.dim()),
        };
        Span::styled(format!("{shape}{name}      "), style)
    });
    Text::from(steps.collect::<Vec<_>>())
}

fn source(s: &Setup, page: &mut Page<'_, '_>) -> Keys {
    let t = page.theme;
    let found = match s.files.len() {
        0 => {
            "Which database do your programs write to? Type the path of an SQLite file or the address of a PostgreSQL database."
        }
        _ => "There is no gossip.toml here yet. Which database do your programs write to?",
    };
    page.line(page.fit(found));
    page.line("");
    for (i, file) in s.files.iter().enumerate() {
        let (mark, style) = if i == s.at { ("▸ ", t.accent()) } else { ("  ", t.strong()) };
        page.line(Text::styled(page.fit(&format!("{mark}{file}")), style));
    }
    let mark = if s.at >= s.files.len() { "▸ " } else { "  " };
    page.line(vec![
        Span::styled(mark, t.accent()),
        Span::styled("another: ", t.dim()),
        Span::raw(s.typed.text().to_string()),
    ]);
    page.line("");
    let form = "postgres://user@host:5432/database; the password comes from PGPASSWORD or ~/.pgpass";
    page.line(Text::styled(page.fit(form), t.dim()));
    &[("enter", "this one"), ("↑↓", "choose"), ("esc", "leave")]
}

fn tables(s: &Setup, all: &[Choice], at: usize, page: &mut Page<'_, '_>) -> Keys {
    let t = page.theme;
    let width = page.area.width as usize;
    let text =
        format!("Which tables of {} should stream? A table needs a key, so that its rows can be told apart.", s.place);
    page.line(page.fit(&text));
    page.line("");
    let room = page.area.height.saturating_sub(12) as usize;
    for (i, c) in all.iter().enumerate().skip(at.saturating_sub(room.saturating_sub(1))).take(room) {
        let style = if i == at { t.accent() } else { t.strong() };
        let (what, about) = match &c.key {
            Ok(key) => {
                let rows = c.size.1.map_or("many rows".into(), |n| counted(n as usize, "row", "rows"));
                (format!("{}, {rows}", counted(c.size.0, "column", "columns")), Span::raw(format!("key {key}")))
            }
            Err((why, _)) => (String::new(), Span::styled(fit(why, width.saturating_sub(56)), t.withheld())),
        };
        let mark = match (&c.key, c.chosen) {
            (Err(_), _) => Span::styled("╳ ", t.withheld()),
            (Ok(_), true) => Span::styled("■ ", t.heard()),
            (Ok(_), false) => Span::styled("□ ", t.dim()),
        };
        page.line(vec![
            Span::styled(if i == at { "▸ " } else { "  " }, t.accent()),
            mark,
            Span::styled(format!("{:<24}", fit(&c.name, 23)), style),
            Span::styled(format!("{what:<26}"), t.dim()),
            about,
        ]);
    }
    if let Some(Err((why, fix))) = all.get(at).map(|c| &c.key) {
        page.line("");
        for part in wrap(&format!("{}: {why}", all[at].name), width) {
            page.line(Text::styled(part, t.withheld()));
        }
        if let Some(fix) = fix {
            page.line(Text::styled(page.fit(&format!("fix: {fix}")), t.dim()));
        }
    }
    &[("enter", "go on"), ("space", "choose"), ("↑↓", "move"), ("esc", "back")]
}

fn effects(s: &Setup, (plan, wal): (&Plan, Option<bool>), page: &mut Page<'_, '_>) -> Keys {
    let t = page.theme;
    let server = s.place.contains("://");
    page.line(match server {
        true => "What becomes of the database, and what that means for whoever writes to it:",
        false => "Triggers follow these tables from now on, whichever program writes:",
    });
    page.line("");
    for effect in &plan.effects {
        for (i, part) in wrap(effect, (page.area.width as usize).saturating_sub(2)).into_iter().enumerate() {
            page.line(format!("{}{part}", if i == 0 { "· " } else { "  " }));
        }
    }
    page.line("");
    let count = plan.statements.len();
    if server {
        // A server is somebody's: what runs there is shown.
        let room = page.area.height.saturating_sub(page.row + 6) as usize;
        let width = page.area.width as usize;
        let lines = plan.statements.iter().flat_map(|statement| wrap(&format!("{statement};"), width));
        for line in lines.take(room) {
            page.line(Text::styled(line, t.dim()));
        }
        page.line("");
    }
    let text = match server {
        true => format!("{}; gossip prepare --remove undoes it.", counted(count, "statement", "statements")),
        false => format!("{count} statements in one transaction; gossip prepare --remove undoes it."),
    };
    page.line(Text::styled(page.fit(&text), t.dim()));
    page.line(Text::styled("Then gossip.toml is written, and the workbench opens.", t.dim()));
    let Some(wal) = wal else { return &[("enter", "do it"), ("esc", "back")] };
    page.line("");
    let (mark, style) = if wal { ("■ ", t.heard()) } else { ("□ ", t.dim()) };
    page.line(vec![
        Span::styled(mark, style),
        Span::styled("WAL mode", t.strong()),
        Span::raw(if wal { "" } else { "   recommended: press w" }),
    ]);
    let width = (page.area.width as usize).saturating_sub(2);
    let text = "Readers and a writer no longer make each other wait. The file keeps this mode for all programs, which then need \
                to be on the same machine; two files with its name and -wal and -shm appear beside it while it is open.";
    for part in wrap(text, width) {
        page.line(Text::styled(format!("  {part}"), t.dim()));
    }
    &[("enter", "do it"), ("w", "WAL mode or not"), ("esc", "back")]
}
