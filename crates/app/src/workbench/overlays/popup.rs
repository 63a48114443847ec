//! Draws overlays: help, forms, the instances.

use gossip_core::explain::{Passed, Step};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line as Text, Span};
use ratatui::widgets::Clear;
use unicode_width::UnicodeWidthStr;

use crate::workbench::keymap::here;
use crate::workbench::line::Kind;
use crate::workbench::marks::Mark;
use crate::workbench::overlays::form::state::{Form, FormKind};
use crate::workbench::overlays::palette::found;
use crate::workbench::paint::put;
use crate::workbench::rail::View;
use crate::workbench::state::{Link, State};
use crate::workbench::views::relay::state::Said;
use crate::workbench::views::tables::state::{Proposal, Proposed};
use crate::workbench::watchers::choosable;
use crate::workbench::words::{counted, fit, span, wrap};

/// Draws an empty sheet with a heading in the middle, and returns its inner area.
fn sheet(s: &State, frame: &mut Frame<'_>, area: Rect, size: (u16, u16), title: &str) -> Rect {
    let (width, height) = (size.0.min(area.width - 4), size.1.min(area.height - 4));
    let place = Rect { x: (area.width - width) / 2, y: (area.height - height) / 2, width, height };
    frame.render_widget(Clear, place);
    let edge = "━".repeat(width as usize);
    put(frame, place, 0, Text::styled(edge.clone(), s.theme.accent()));
    put(frame, place, height - 1, Text::styled(edge, s.theme.accent()));
    let inside = Rect { x: place.x + 2, y: place.y + 1, width: width - 4, height: height - 2 };
    put(frame, inside, 0, Text::styled(title.to_string(), s.theme.strong()));
    Rect { y: inside.y + 2, height: inside.height.saturating_sub(2), ..inside }
}

/// All keys and marks.
pub fn help(s: &State, frame: &mut Frame<'_>, area: Rect, from: usize) {
    let actions: Vec<_> = here(s).collect();
    let rows = actions.len().max(Mark::ALL.len()) as u16;
    let inside = sheet(s, frame, area, (116, rows + 5), "Keys and marks");
    let room = inside.height.saturating_sub(1) as usize;
    let from = from.min(actions.len().saturating_sub(room));
    for (i, e) in actions.iter().skip(from).take(room).enumerate() {
        let line = Text::from(vec![
            Span::styled(format!("{:<10}", e.shown), s.theme.accent()),
            Span::raw(fit(e.help, inside.width.saturating_sub(42) as usize)),
        ]);
        put(frame, inside, i as u16, line);
    }
    let below = actions.len().saturating_sub(from + room);
    if below > 0 {
        put(frame, inside, room as u16, Text::styled(format!("{below} more: ↓"), s.theme.accent()));
    }
    let right = Rect { x: inside.x + inside.width.saturating_sub(30), width: 30.min(inside.width), ..inside };
    for (i, mark) in Mark::ALL.iter().enumerate() {
        let line =
            Text::from(vec![Span::styled(mark.shape(), mark.style(s.theme)), Span::raw(format!("  {}", mark.word()))]);
        put(frame, right, i as u16, line);
    }
}

/// A form that is being filled in.
#[expect(clippy::too_many_lines, reason = "one form, from top to bottom")]
pub fn form(s: &State, frame: &mut Frame<'_>, area: Rect, form: &Form) {
    let (title, note) = match form.kind {
        FormKind::Change => (
            "Make a change",
            "It runs on the database itself, as any other program's would. {n} and {random} vary where it is repeated.",
        ),
        FormKind::Watcher => {
            ("New watcher", "A real client: this persona, this live query, connected to this instance.")
        }
        FormKind::Persona => {
            ("Persona", "Roles with commas between them, none for a client without a token; claims as JSON.")
        }
        FormKind::Grant => (
            "A rule",
            "Nothing is readable without one. Rows: a condition like  agency = claim.agency.  Columns with commas; empty is all.",
        ),
        FormKind::Record => (
            "Save a recording",
            "The newest 20,000 events, for gossip open --recording. Masked columns: table.column, with commas between them.",
        ),
        FormKind::KeepQuery => {
            ("Save the query", "Clients subscribe to it by this name. It is written to gossip.toml.")
        }
        FormKind::Broker => (
            "A broker",
            "nats://, redis://, mqtt:// or amqp://, with TLS tls://, rediss://, mqtts:// or amqps://. It is tried, and then \
             written to gossip.toml; instances use it from their next start. All instances of a cluster have the same one.",
        ),
        FormKind::Publish => (
            "Publish an event",
            "It is published on a connection of its own, as this persona. What fills the topic's columns from elsewhere, like \
             the time and the sender, can be left out.",
        ),
        FormKind::Filter if s.view != View::Earshot => ("Find", "Empty shows all."),
        FormKind::Filter => ("Filter", "Words of the line, or of a mark: missed, withheld, outside. Empty shows all."),
    };
    let width = 110.min(area.width.saturating_sub(4)).saturating_sub(4) as usize;
    let (note, problem) = (wrap(note, width), form.problem.as_ref().map_or(vec![], |problem| wrap(problem, width)));
    let below = (note.len() + problem.len().max(2)) as u16 + if form.kind == FormKind::Change { 2 } else { 0 };
    let inside = sheet(s, frame, area, (110, form.fields.len() as u16 * 2 + below + 5), title);
    for (i, field) in form.fields.iter().enumerate() {
        let focus = i == form.focus;
        let row = i as u16 * 2;
        let label = format!("{:<16}", field.label);
        let style = if focus { s.theme.accent() } else { s.theme.dim() };
        let room = inside.width.saturating_sub(18) as usize;
        // Show the part around the cursor, at the end of a long text.
        let before = field.input.before().width();
        let hidden = before.saturating_sub(room.saturating_sub(1));
        let text: String = field.input.text().chars().skip(hidden).collect();
        let shown = if field.choices.is_empty() { fit(&text, room) } else { format!("‹ {} ›", field.input.text()) };
        // What typing replaces looks like what is marked.
        let typed = if focus && field.input.is_proposed() { s.theme.chosen() } else { Style::new() };
        put(frame, inside, row, Text::from(vec![Span::styled(label, style), Span::styled(shown, typed)]));
        if focus && !field.offers.is_empty() {
            let place = Rect { x: inside.x + 16, width: inside.width.saturating_sub(16), ..inside };
            let text = offers(&field.offers, place.width as usize);
            put(frame, place, row + 1, Text::styled(text, s.theme.dim()));
        }
        if focus && field.choices.is_empty() {
            frame.set_cursor_position((inside.x + 16 + (before - hidden) as u16, inside.y + row));
        }
    }
    let mut below = form.fields.len() as u16 * 2;
    if form.kind == FormKind::Change {
        let sql = crate::workbench::overlays::form::change::sql(s, form).unwrap_or_default();
        put(
            frame,
            inside,
            below,
            Text::from(vec![Span::styled("runs  ", s.theme.dim()), Span::raw(fit(&sql, inside.width as usize - 6))]),
        );
        below += 2;
    }
    let lines = note.into_iter().map(|part| (part, s.theme.dim()));
    for (part, style) in lines.chain(problem.into_iter().map(|part| (part, s.theme.withheld()))) {
        put(frame, inside, below, Text::styled(part, style));
        below += 1;
    }
}

/// As many of the offers as there is room for, and how many more there are.
fn offers(all: &[String], width: usize) -> String {
    let mut text = "pgdn  ".to_string();
    for (i, one) in all.iter().enumerate() {
        let gap = if i == 0 { "" } else { " · " };
        let more = format!(" · and {} more", all.len() - i);
        if i > 0 && text.width() + gap.width() + one.width() + more.width() > width {
            return text + &more;
        }
        text += gap;
        text += one;
    }
    fit(&text, width)
}

/// Why something was refused, step by step.
pub fn refused(s: &State, frame: &mut Frame<'_>, area: Rect, title: &str, steps: &[Step]) {
    let width = 110.min(area.width.saturating_sub(4)).saturating_sub(4) as usize;
    let mut lines = Vec::new();
    for step in steps {
        let (mark, style) = match step.verdict {
            Passed::Yes => ("✓ ", s.theme.heard()),
            Passed::No => ("✗ ", s.theme.withheld()),
            Passed::NotReached => ("┊ ", s.theme.dim()),
        };
        let text = [step.text.clone()].into_iter().chain(step.values.iter().cloned());
        for (i, part) in text.flat_map(|text| wrap(&text, width.saturating_sub(12))).enumerate() {
            let head = if i == 0 { format!("{mark}{:<10}", step.step) } else { " ".repeat(12) };
            lines.push(Text::from(vec![Span::styled(head, style), Span::raw(part)]));
        }
    }
    let inside = sheet(s, frame, area, (110, lines.len() as u16 + 5), title);
    for (i, line) in lines.into_iter().take(inside.height as usize).enumerate() {
        put(frame, inside, i as u16, line);
    }
}

/// The instances and their actions.
pub fn instances(s: &State, frame: &mut Frame<'_>, area: Rect, chosen: usize) {
    let inside = sheet(
        s,
        frame,
        area,
        (124, s.places.len() as u16 * 2 + 8),
        if s.has_cluster { "Instances of this process" } else { "Instances" },
    );
    for (i, p) in s.places.iter().enumerate() {
        let style = if i == chosen { s.theme.accent() } else { s.theme.strong() };
        let running = s.running.get(i).copied().unwrap_or(false);
        let state = match (&p.link, running) {
            (_, false) => "ended".to_string(),
            (Link::Up(_), _) => {
                let behind = p.info.behind_ms.cast_signed();
                let current = if behind > 0 { format!("behind by {}", span(behind * 1_000)) } else { "current".into() };
                let clients = counted(p.info.clients as usize, "client", "clients");
                format!("{}, at {}, {current}, {clients}", p.info.state, p.info.position)
            }
            (Link::Connecting, _) => "connecting".into(),
            (Link::Down(since, why), _) => format!("out of touch for {}: {why}", span(s.now - since)),
        };
        let mark = if i == chosen { "▸ " } else { "  " };
        let line = Text::from(vec![
            Span::styled(format!("{mark}{:<10}", p.name), style),
            Span::styled(format!("{:<18}", p.url), s.theme.dim()),
            Span::raw(fit(&state, inside.width.saturating_sub(32) as usize)),
        ]);
        put(frame, inside, i as u16 * 2, line);
    }
    let note = match s.has_cluster {
        true => {
            "a adds one · e ends or starts it · d drains it · l loses the next change to it · c cuts it off the relay, or reconnects it"
        }
        false => "d drains it: no new connections, clients are asked to reconnect elsewhere, the process exits",
    };
    for (i, part) in wrap(note, inside.width as usize).into_iter().enumerate() {
        put(frame, inside, s.places.len() as u16 * 2 + i as u16, Text::styled(part, s.theme.dim()));
    }
}

/// The choice of personas to run a query as.
pub fn who(s: &State, frame: &mut Frame<'_>, area: Rect, at: usize) {
    let all = choosable(s);
    let inside = sheet(s, frame, area, (80, all.len() as u16 + 6), "Run as, at most five side by side");
    for (i, name) in all.iter().enumerate() {
        let p = s.personas.get(name).cloned().unwrap_or_default();
        let roles = if p.roles.is_empty() { "anyone, without a token".to_string() } else { p.roles.join(", ") };
        let claims: Vec<String> =
            p.claims.iter().map(|(k, v)| format!("{k} {}", crate::workbench::words::plain(v))).collect();
        let chosen = s.ask.who.contains(name);
        let style = if i == at { s.theme.accent() } else { s.theme.strong() };
        let line = Text::from(vec![
            Span::styled(if i == at { "▸ " } else { "  " }, style),
            Span::styled(if chosen { "■ " } else { "□ " }, if chosen { s.theme.heard() } else { s.theme.dim() }),
            Span::styled(format!("{:<16}", fit(name, 15)), style),
            Span::raw(format!("{:<24}", fit(&roles, 23))),
            Span::styled(fit(&claims.join(", "), inside.width.saturating_sub(46) as usize), s.theme.dim()),
        ]);
        put(frame, inside, i as u16, line);
    }
}

/// A choice of several, or of one: whether each is chosen, and its words.
fn choices(s: &State, frame: &mut Frame<'_>, area: Rect, title: &str, all: &[(bool, String)], at: usize) {
    let inside = sheet(s, frame, area, (64, all.len() as u16 + 6), title);
    let room = inside.height.max(1) as usize;
    let from = (at + 1).saturating_sub(room);
    for (row, (i, (chosen, text))) in all.iter().enumerate().skip(from).take(room).enumerate() {
        let style = if i == at { s.theme.accent() } else { Style::new() };
        let line = Text::from(vec![
            Span::styled(if i == at { "▸ " } else { "  " }, style),
            Span::styled(if *chosen { "■ " } else { "□ " }, if *chosen { s.theme.heard() } else { s.theme.dim() }),
            Span::styled(fit(text, inside.width.saturating_sub(4) as usize), style),
        ]);
        put(frame, inside, row as u16, line);
    }
}

/// The choice of the kinds of lines or messages that are shown.
pub fn kinds(s: &State, frame: &mut Frame<'_>, area: Rect, at: usize) {
    let all: Vec<(bool, String)> = match s.view {
        View::Relay => Said::ALL.iter().map(|kind| (!s.relay.without.contains(kind), kind.words().into())).collect(),
        _ => Kind::ALL.iter().map(|kind| (!s.sight.without.contains(kind), kind.words().into())).collect(),
    };
    choices(s, frame, area, "Show", &all, at);
}

/// The choice of the mark at which the flow stops.
pub fn stop_at(s: &State, frame: &mut Frame<'_>, area: Rect, at: usize) {
    let now = s.sight.stop.map(|(mark, _)| mark);
    let marks = Mark::ALL.iter().map(|mark| (now == Some(*mark), format!("{}  {}", mark.shape(), mark.word())));
    let all: Vec<(bool, String)> = [(now.is_none(), "do not stop".to_string())].into_iter().chain(marks).collect();
    choices(s, frame, area, "Stop at the first line with this mark", &all, at);
}

/// What somebody has to do something about.
pub fn alarms(s: &State, frame: &mut Frame<'_>, area: Rect, from: usize) {
    let height = (s.troubles.len() * 4 + 6).min(usize::from(u16::MAX)) as u16;
    let title = counted(s.troubles.len(), "thing to look at", "things to look at");
    let inside = sheet(s, frame, area, (120, height), &title);
    let mut row = 0;
    for alarm in s.troubles.iter().skip(from) {
        let lines = wrap(&alarm.text, inside.width.saturating_sub(2) as usize);
        put(
            frame,
            inside,
            row,
            Text::from(vec![
                Span::styled("▴ ", s.theme.withheld()),
                Span::styled(fit(&alarm.what, inside.width as usize - 2), s.theme.strong()),
            ]),
        );
        for (i, line) in lines.iter().enumerate() {
            put(frame, inside, row + 1 + i as u16, Text::styled(format!("  {line}"), s.theme.dim()));
        }
        row += lines.len() as u16 + 2;
        if row >= inside.height {
            break;
        }
    }
}

/// A proposal to confirm.
pub fn proposal(s: &State, frame: &mut Frame<'_>, area: Rect, p: &Proposal) {
    let lines: Vec<&str> = p.sql.iter().flat_map(|sql| sql.lines()).collect();
    let height = (lines.len() + 2 * p.effects.len() + 8).min(usize::from(u16::MAX)) as u16;
    let inside = sheet(s, frame, area, (130, height), &fit(&p.title, 120));
    let mut row = 0;
    for effect in &p.effects {
        for (i, part) in wrap(effect, inside.width.saturating_sub(2) as usize).into_iter().enumerate() {
            put(frame, inside, row, Text::from(format!("{}{part}", if i == 0 { "· " } else { "  " })));
            row += 1;
        }
    }
    row += u16::from(row > 0);
    let room = inside.height.saturating_sub(row + 1) as usize;
    for line in lines.iter().take(room) {
        put(frame, inside, row, Text::styled(fit(line, inside.width as usize), s.theme.dim()));
        row += 1;
    }
    if lines.len() > room {
        let text = format!("… and {} more lines; gossip prepare --dry-run prints all", lines.len() - room);
        put(frame, inside, row, Text::styled(text, s.theme.dim()));
    }
    if lines.is_empty() && !matches!(p.what, Proposed::Disconnect(_)) {
        put(frame, inside, row, Text::styled("The database stays as it is.", s.theme.dim()));
    }
}

/// The palette.
pub fn palette(s: &State, frame: &mut Frame<'_>, area: Rect, typed: &str, at: usize) {
    let all = found(s, typed);
    let inside = sheet(s, frame, area, (100, 20), "What do you want to do?");
    put(frame, inside, 0, Text::from(vec![Span::styled("▸ ", s.theme.accent()), Span::raw(typed.to_string())]));
    frame.set_cursor_position((inside.x + 2 + typed.width() as u16, inside.y));
    if all.is_empty() {
        put(frame, inside, 2, Text::styled("Nothing here is called so.", s.theme.dim()));
    }
    for (i, e) in all.iter().enumerate() {
        let style = if i == at { s.theme.accent() } else { s.theme.dim() };
        let text = if i == at { s.theme.strong() } else { Style::new() };
        let line = Text::from(vec![
            Span::styled(format!("{:<11}", e.shown), style),
            Span::styled(fit(e.help, inside.width.saturating_sub(12) as usize), text),
        ]);
        put(frame, inside, i as u16 + 2, line);
    }
}
