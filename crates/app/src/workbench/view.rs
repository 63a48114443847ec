//! Drawing. Reads the state and nothing else; never does I/O.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;
use unicode_width::UnicodeWidthStr;

use crate::workbench::action::Action;
use crate::workbench::keymap::here;
use crate::workbench::overlays::frames::draw as frames;
use crate::workbench::overlays::popup;
use crate::workbench::paint::{put, rule};
use crate::workbench::possible::is_possible;
use crate::workbench::rail::View;
use crate::workbench::state::{Click, Link, Overlay, State};
use crate::workbench::views::earshot::{draw as earshot, journey};
use crate::workbench::views::{ask, charts, clients, relay, rules, steps, tables};
use crate::workbench::words::{fit, span, time};

/// Smallest usable size of the terminal.
const SMALLEST: (u16, u16) = (80, 24);

/// Draws the whole screen.
pub fn view(s: &mut State, frame: &mut Frame<'_>) {
    let area = frame.area();
    if area.width < SMALLEST.0 || area.height < SMALLEST.1 {
        let text = format!(
            "This window has {} columns and {} rows.\nGossip needs {} and {}: make it larger, or press q to leave.",
            area.width, area.height, SMALLEST.0, SMALLEST.1
        );
        return frame.render_widget(Paragraph::new(text), area);
    }
    s.places_on_screen.clear();
    let rail = if area.width >= 120 { 14 } else { 4 };
    head(s, frame, Rect { height: 2, ..area });
    draw_rail(s, frame, Rect { x: 0, y: 3, width: rail, height: area.height - 5 });
    foot(s, frame, Rect { y: area.height - 1, height: 1, ..area });
    rule(s, frame, Rect { y: area.height - 2, height: 1, ..area });
    let body = Rect { x: rail + 1, y: 3, width: area.width - rail - 2, height: area.height - 5 };
    match s.overlay.clone() {
        Overlay::Journey { line, frame: raw } => journey::draw(s, frame, body, line, raw),
        Overlay::Frames(looking) => frames::draw(s, frame, body, &looking),
        _ => match s.view {
            View::Earshot => earshot::draw(s, frame, body),
            View::Ask => ask::draw::draw(s, frame, body),
            View::Tables => tables::draw::draw(s, frame, body),
            View::Rules => rules::draw::draw(s, frame, body),
            View::Relay => relay::draw::draw(s, frame, body),
            View::Clients => clients::draw::draw(s, frame, body),
            View::Charts => charts::draw::draw(s, frame, body),
            View::Steps => steps::draw::draw(s, frame, body),
        },
    }
    match s.overlay.clone() {
        Overlay::Help(from) => popup::help(s, frame, area, from),
        Overlay::Alarms(from) => popup::alarms(s, frame, area, from),
        Overlay::Form(form) => popup::form(s, frame, area, &form),
        Overlay::Instances(chosen) => popup::instances(s, frame, area, chosen),
        Overlay::Who(at) => popup::who(s, frame, area, at),
        Overlay::Refused(title, steps) => popup::refused(s, frame, area, &title, &steps),
        Overlay::Kinds(at) => popup::kinds(s, frame, area, at),
        Overlay::StopAt(at) => popup::stop_at(s, frame, area, at),
        Overlay::Proposal(p) => popup::proposal(s, frame, area, &p),
        Overlay::Palette(input, at) => popup::palette(s, frame, area, input.text(), at),
        Overlay::None | Overlay::Journey { .. } | Overlay::Frames(_) => {}
    }
}

fn right(frame: &mut Frame<'_>, area: Rect, row: u16, line: Line<'_>) {
    frame.render_widget(
        Paragraph::new(line).right_aligned(),
        Rect { y: area.y + row, height: 1, width: area.width - 1, ..area },
    );
}

fn head(s: &State, frame: &mut Frame<'_>, area: Rect) {
    let t = s.theme;
    let (view, question) = match s.overlay {
        Overlay::Journey { .. } => ("Journey", "from commit to every watcher"),
        Overlay::Frames(_) => ("Frames", "what went over a connection, both ways"),
        _ => (s.view.name(), s.view.question()),
    };
    // On a narrow screen, the state matters more than the view's question.
    let question = if area.width < 120 { "" } else { question };
    let left = vec![
        Span::styled(" GOSSIP", t.accent()),
        Span::raw("   "),
        Span::styled(view, t.strong()),
        Span::styled(format!("   {question}"), t.dim()),
    ];
    let used: usize = left.iter().map(|x| x.content.width()).sum();
    put(frame, area, 0, Line::from(left));

    let up = s.places.iter().filter(|p| matches!(p.link, Link::Up(_))).count();
    let reads = |p: &&crate::workbench::state::PlaceState| matches!(p.link, Link::Up(_)) && p.info.reads;
    let reader = s.places.iter().find(reads).map_or("none".into(), |p| p.name.clone());
    let instances = match (up, s.places.len()) {
        (1, 1) => "1 instance".into(),
        (u, n) if u == n => format!("{n} instances"),
        (u, n) => format!("{u} of {n} instances"),
    };
    let (instances, reader) = match s.recorded {
        true => {
            let player = s.player.as_ref().map_or(String::new(), |player| format!(", {}", player.text()));
            (format!("{instances}, as it was at {}{player}", time(s.now)), "—".to_string())
        }
        false => (instances, reader),
    };
    let title = if s.title.is_empty() { String::new() } else { format!("{} · ", s.title) };
    let whole = fit(&format!("{title}{instances} · reader {reader}"), (area.width as usize).saturating_sub(used + 3));
    right(frame, area, 0, Line::styled(whole, if up < s.places.len() { t.withheld() } else { t.strong() }));

    let (changes, heard, p99) = s.shown_rates;
    let p99 = p99.map_or(String::new(), |p| format!("   p99 {}", span(p as i64)));
    right(frame, area, 1, Line::styled(format!("{changes:.1} changes/s   {heard:.1} heard/s{p99}"), t.dim()));

    let failing = |p: &crate::workbench::state::PlaceState| {
        let state = p.info.decisions.as_deref()?.strip_prefix("failing since ")?;
        let (since, why) = state.split_once(": ")?;
        let since = since.parse::<jiff::Timestamp>().map_or(since.into(), |at| time(at.as_microsecond()));
        Some(format!(" {}: no decisions from elsewhere since {since}: {why}", p.name))
    };
    let worst = s.troubles.first().map(|worst| {
        let others = match s.troubles.len() {
            1 => String::new(),
            n => format!(", and {} more", n - 1),
        };
        format!(" ▴ {}{others}: press !", worst.what)
    });
    let down = s.places.iter().find_map(failing).or(worst);
    let width = (area.width as usize).saturating_sub(44);
    let notice = s.notice.as_ref().map(|(_, n)| (format!(" {n}"), ratatui::style::Style::new()));
    if let Some((text, style)) = notice.or(down.map(|text| (text, t.withheld()))) {
        put(frame, Rect { width: width as u16, ..area }, 1, Line::styled(fit(&text, width), style));
    }
}

fn draw_rail(s: &mut State, frame: &mut Frame<'_>, area: Rect) {
    let there = View::ALL.into_iter().filter(|v| is_possible(Action::Go(*v), s) || *v == s.view);
    for (i, view) in there.collect::<Vec<_>>().into_iter().enumerate() {
        // First steps stands apart from the views of traffic.
        let i = i as u16 + u16::from(view == View::Steps);
        let style = if view == s.view { s.theme.accent() } else { ratatui::style::Style::new() };
        let mends = match view {
            View::Tables => s.tables.needs_mending(),
            View::Relay => {
                !s.relay.instances.is_empty() && crate::workbench::views::relay::update::picture(s).has_trouble()
            }
            _ => false,
        };
        let name =
            if area.width > 6 { format!(" {}  {:<8}", view.key(), view.name()) } else { format!(" {}", view.key()) };
        let fix = if mends { "▴" } else { "" };
        let line = Line::from(vec![Span::styled(name, style), Span::styled(fix, s.theme.withheld())]);
        put(frame, area, i, line);
        let here = Rect { y: area.y + i, height: 1, ..area };
        s.places_on_screen.push((here, Click::View(view)));
    }
    let edge = Rect { x: area.x + area.width - 1, width: 1, ..area };
    for row in 0..area.height {
        put(frame, edge, row, Line::styled("┊", s.theme.dim()));
    }
}

#[expect(clippy::too_many_lines, reason = "one line, from left to right")]
fn foot(s: &State, frame: &mut Frame<'_>, area: Rect) {
    let t = s.theme;
    let mut spans = vec![Span::raw(" ")];
    let editing = s.view == View::Ask && s.ask.editing;
    let writing = s.view == View::Rules && s.rules.editing;
    let in_popup = editing || writing || !matches!(s.overlay, Overlay::None | Overlay::Journey { .. });
    let keys: Vec<(&str, &str)> = match &s.overlay {
        Overlay::Help(_) | Overlay::Alarms(_) => vec![("↑↓", "more"), ("any other key", "back")],
        Overlay::Form(_) => vec![("enter", "do it"), ("tab", "next field"), ("←→", "choose"), ("esc", "leave it")],
        Overlay::Instances(_) if !s.has_cluster => vec![("d", "drain"), ("esc", "back")],
        Overlay::Instances(_) => {
            vec![
                ("a", "add one"),
                ("e", "end or start"),
                ("d", "drain"),
                ("l", "lose next change"),
                ("c", "cut off or reconnect"),
                ("esc", "back"),
            ]
        }
        Overlay::Frames(l) if l.finding => vec![("enter", "find"), ("esc", "leave it")],
        Overlay::Frames(_) => {
            vec![("↑↓", "choose"), ("/", "find"), ("h", "heartbeats on or off"), ("y", "copy"), ("esc", "back")]
        }
        Overlay::Who(_) => vec![("space", "choose"), ("enter", "ask"), ("esc", "leave it")],
        Overlay::Refused(..) => vec![("any key", "back")],
        Overlay::Kinds(_) => vec![("space", "show or not"), ("enter", "done")],
        Overlay::StopAt(_) => vec![("enter", "stop there"), ("esc", "leave it")],
        Overlay::Proposal(_) => vec![("enter", "do it"), ("esc", "leave it")],
        Overlay::Palette(..) => vec![("enter", "do it"), ("↑↓", "choose"), ("esc", "leave it")],
        Overlay::None if writing => {
            vec![("pgup pgdn", "more of what would change"), ("esc", "leave the text, to save it or take it back")]
        }
        Overlay::None if editing => vec![
            ("enter", "ask"),
            ("alt-enter", "new line"),
            ("tab", "complete"),
            ("↑↓", "earlier queries"),
            ("esc", "leave the query"),
        ],
        _ => {
            let possible = |e: &&crate::workbench::keymap::Entry| !e.short.is_empty() && is_possible(e.action, s);
            let name = |e: &crate::workbench::keymap::Entry| match e.action {
                Action::Hold if s.held.is_some() => (e.shown, "resume"),
                _ => (e.shown, e.short),
            };
            here(s).filter(possible).map(name).collect()
        }
    };
    let mut used = 1;
    let steps = crate::workbench::views::steps::list::steps(s);
    let done = steps.iter().filter(|x| x.done).count();
    let ready = match done < steps.len() && s.has_config {
        true => format!("Steps: {done} of {} done  ", steps.len()),
        false => String::new(),
    };
    right(frame, area, 0, Line::styled(ready.clone(), t.late()));
    for (key, name) in &keys {
        let width = key.width() + name.width() + 4;
        // Help and quit come last and must be visible.
        let last = matches!(*name, "help" | "quit");
        let room = (area.width as usize - ready.len()).saturating_sub(if last || in_popup { 0 } else { 18 });
        if used + width > room {
            continue;
        }
        used += width;
        spans.push(Span::styled(key.to_string(), t.accent()));
        spans.push(Span::raw(format!(" {name}   ")));
    }
    put(frame, Rect { width: area.width - ready.len() as u16, ..area }, 0, Line::from(spans));
}
