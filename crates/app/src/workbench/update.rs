//! What a message does to the state.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use gossip_core::explain::Tally;
use gossip_server::config::Persona;
use serde_json::{Map, Value as Json};

use super::actions::{self, Action};
use super::input::Input;
use super::message::{Effect, InstanceAction, Made, Message};
use super::state::{
    At, Field, Form, FormKind, Line, Link, MAX_LINES, Micros, Overlay, RowShown, Stage, State, WatcherId, WatcherState,
    Why,
};

/// Cursors and early frames that are remembered.
const MAX_REMEMBERED: usize = 20_000;

/// Absences and snapshots that are remembered of a watcher.
const MAX_PAST: usize = 100;

/// Takes a message and returns what is to be done.
pub fn update(s: &mut State, message: Message) -> Vec<Effect> {
    match message {
        Message::Key(key) => return key_pressed(s, key),
        Message::Resized => {}
        Message::Tick(now) => {
            s.now = now;
            s.shown_rates = s.rates.now(now);
            if s.notice.as_ref().is_some_and(|(at, _)| now - at > 6_000_000) {
                s.notice = None;
            }
        }
        Message::Place(i, at, Ok(())) => s.places[i].link = Link::Up(at),
        Message::Place(i, at, Err(why)) => {
            // Tried again and again: what counts is since when.
            if !matches!(s.places[i].link, Link::Down(..)) {
                s.places[i].link = Link::Down(at, why);
            }
        }
        Message::Instance(i, row) => {
            if let Some(name) = row.get("name").and_then(Json::as_str) {
                s.places[i].name = name.to_string();
            }
            s.places[i].info = row;
        }
        Message::Change(place, row) => change(s, place, &row),
        Message::Verdict(row) => verdict(s, &row),
        Message::Listening(id, at, rows) => listening(s, id, at, rows),
        Message::WatcherLost(id, at, why) => {
            if let Some(w) = s.watcher_mut(id)
                && !matches!(w.link, Link::Down(..))
            {
                w.link = Link::Down(at, why);
                w.subscription = None;
                w.absent.push((at, None));
                trim(&mut w.absent);
            }
        }
        Message::Refused(id, why) => {
            if let Some(w) = s.watcher_mut(id) {
                w.refused = Some(why);
            }
        }
        Message::Delta { watcher, at, cursor, frame, rows } => {
            if let Some(w) = s.watcher_mut(watcher) {
                w.heard += 1;
                w.rows = rows;
            }
            let key = (watcher, cursor);
            match s.by_cursor.remove(&key) {
                Some(position) => arrived(s, watcher, &position, at, frame),
                None => {
                    if s.early.len() >= MAX_REMEMBERED {
                        s.early.clear();
                    }
                    s.early.insert(key, (at, frame));
                }
            }
        }
        Message::Snapshot(id, why, rows) => {
            let newest = newest_position(s);
            if let Some(w) = s.watcher_mut(id) {
                w.rows = rows;
                w.snapshots.push((newest, why));
                trim(&mut w.snapshots);
            }
        }
        Message::Current(id, position) => {
            if let Some(w) = s.watcher_mut(id) {
                w.current = At::parse(&position).or(w.current.take());
            }
        }
        Message::Explained(line, watcher, steps) => {
            if let Some(why) = s.why.as_mut().filter(|w| w.line == line && w.watcher == watcher) {
                why.steps = Some(steps);
            }
        }
        Message::Made(line, made) => return was_made(s, line, made),
        Message::Running(running) => s.running = running,
        Message::Notice(text) => s.notice = Some((s.now, text)),
    }
    Vec::new()
}

fn trim<T>(past: &mut Vec<T>) {
    if past.len() > MAX_PAST {
        past.remove(0);
    }
}

fn newest_position(s: &State) -> Option<At> {
    s.lines.iter().filter_map(|l| l.at.clone()).max()
}

fn listening(s: &mut State, id: WatcherId, at: Micros, rows: usize) {
    let newest = newest_position(s);
    if let Some(w) = s.watcher_mut(id) {
        if let Some(last) = w.absent.last_mut().filter(|a| a.1.is_none()) {
            last.1 = Some(at);
        }
        w.link = Link::Up(at);
        w.refused = None;
        w.rows = rows;
        w.current = None;
        // What was told before it listened can not have been meant for it.
        let nothing_yet = At { source: String::new(), number: 0 };
        w.listens_after = Some(w.listens_after.take().or(newest).unwrap_or(nothing_yet));
    }
}

fn text(row: &Map<String, Json>, name: &str) -> String {
    row.get(name).and_then(Json::as_str).unwrap_or("").to_string()
}

fn int(row: &Map<String, Json>, name: &str) -> i64 {
    let value = row.get(name);
    value.and_then(|v| v.as_i64().or_else(|| v.as_str()?.parse().ok())).unwrap_or(0)
}

/// A transaction that an instance has taken. Each instance tells of it; the first one makes the line.
fn change(s: &mut State, place: usize, row: &Map<String, Json>) {
    let Some(at) = At::parse(&text(row, "position")) else { return };
    let received = int(row, "received_at");
    if let Some(id) = s.by_position.get(&at).copied() {
        if let Some(line) = s.line_mut(id) {
            line.received.insert(place, received);
        }
        return;
    }
    let rows: Vec<RowShown> = serde_json::from_str::<Vec<Json>>(&text(row, "changes"))
        .unwrap_or_default()
        .into_iter()
        .map(row_shown)
        .collect();
    let row_count = int(row, "rows").unsigned_abs();
    if row_count == 0 {
        return;
    }
    let after = At::parse(&text(row, "after"));
    s.rates.changed(received, row_count);
    // A change made here that lies in this stretch has come true.
    let mine = s.lines.iter().position(|l| match (&l.made, &l.at) {
        (Some((_, Stage::Committed(p))), None) => {
            p.source == at.source && *p <= at && after.as_ref().is_none_or(|a| p > a)
        }
        _ => false,
    });
    let id = s.line_id();
    let (id, made, unfolded) = match mine.and_then(|i| s.lines.remove(i)) {
        Some(pending) => {
            let keep = |place: &mut Option<u64>| {
                if *place == Some(pending.id) {
                    *place = Some(id);
                }
            };
            keep(&mut s.chosen);
            keep(&mut s.held);
            (id, pending.made, pending.unfolded)
        }
        None => (id, None, false),
    };
    let line = Line {
        id,
        at: Some(at.clone()),
        after,
        committed: (int(row, "committed_from"), int(row, "committed_to")),
        read_at: int(row, "read_at"),
        reader: text(row, "reader"),
        received: [(place, received)].into(),
        rows,
        row_count,
        cells: Default::default(),
        made,
        unfolded,
    };
    s.by_position.insert(at.clone(), id);
    insert(s, line);
    for row in s.orphans.remove(&at).unwrap_or_default() {
        verdict(s, &row);
    }
}

/// Puts a line where it belongs: newest first; what is only made here stays on top.
fn insert(s: &mut State, line: Line) {
    let place = match &line.at {
        None => 0,
        Some(at) => s.lines.iter().position(|l| l.at.as_ref().is_some_and(|o| o < at)).unwrap_or(s.lines.len()),
    };
    s.lines.insert(place, line);
    while s.lines.len() > MAX_LINES {
        if let Some(Line { at: Some(at), .. }) = s.lines.pop_back() {
            s.by_position.remove(&at);
        }
    }
}

fn row_shown(json: Json) -> RowShown {
    let object = |v: &Json| v.as_object().cloned();
    let key = match json.get("key") {
        Some(Json::Array(parts)) => parts.iter().map(plain).collect::<Vec<_>>().join(" "),
        _ => String::new(),
    };
    RowShown {
        table: json.get("table").and_then(Json::as_str).unwrap_or("").to_string(),
        key,
        old: json.get("old").and_then(object),
        new: json.get("new").and_then(object),
    }
}

/// A value as people write it: text without quotes.
pub fn plain(v: &Json) -> String {
    match v {
        Json::String(s) => s.clone(),
        Json::Null => "NULL".into(),
        other => other.to_string(),
    }
}

fn verdict(s: &mut State, row: &Map<String, Json>) {
    let label = text(row, "label");
    let Some(watcher) = label.rsplit('-').next().and_then(|n| n.parse::<WatcherId>().ok()) else { return };
    let Some(at) = At::parse(&text(row, "position")) else { return };
    let Some(id) = s.by_position.get(&at).copied() else {
        // Its line comes on another feed or from another instance.
        if s.orphans.len() >= MAX_REMEMBERED {
            s.orphans.clear();
        }
        s.orphans.entry(at).or_default().push(row.clone());
        return;
    };
    let word = text(row, "verdict");
    let tally = Tally {
        added: int(row, "added") as u32,
        replaced: int(row, "replaced") as u32,
        removed: int(row, "removed") as u32,
    };
    let time = int(row, "at");
    let cursor = text(row, "cursor");
    let subscription = int(row, "subscription").unsigned_abs();
    if let Some(w) = s.watcher_mut(watcher) {
        w.subscription = Some(subscription);
    }
    let Some(line) = s.line_mut(id) else { return };
    let cell = line.cells.entry(watcher).or_default();
    if word == "written" {
        cell.written_at = Some(time);
        return;
    }
    cell.verdict = word;
    cell.tally = tally;
    cell.matched_at = Some(time);
    if cursor.is_empty() {
        return;
    }
    let key = (watcher, cursor);
    match s.early.remove(&key) {
        Some((arrived_at, frame)) => arrived(s, watcher, &at, arrived_at, frame),
        None => {
            if s.by_cursor.len() >= MAX_REMEMBERED {
                s.by_cursor.clear();
            }
            s.by_cursor.insert(key, at);
        }
    }
}

fn arrived(s: &mut State, watcher: WatcherId, position: &At, at: Micros, frame: std::sync::Arc<str>) {
    let Some(id) = s.by_position.get(position).copied() else { return };
    let Some(line) = s.line_mut(id) else { return };
    let took = (at - line.committed.1).max(0).unsigned_abs();
    let cell = line.cells.entry(watcher).or_default();
    cell.arrived_at = Some(at);
    cell.frame = Some(frame);
    s.rates.arrived(at, took);
}

fn was_made(s: &mut State, id: u64, made: Made) -> Vec<Effect> {
    let source = s.places.first().map(|p| text(&p.info, "source")).unwrap_or_default();
    let stage = match made {
        Made::Logged(number) => Stage::Committed(At { source, number }),
        Made::Unheard(tables, rows) => Stage::NeverComes(format!(
            "{} row{} of {} changed, but {} not streamed: nobody can hear it",
            rows,
            if rows == 1 { "" } else { "s" },
            tables.join(", "),
            if tables.len() == 1 { "that table is" } else { "those tables are" },
        )),
        Made::Nothing => Stage::NeverComes("it changed no row".into()),
        Made::Failed(e) => Stage::NeverComes(format!("rolled back: {e}")),
    };
    // The stream may have been faster than the word of the commit.
    let seen = match &stage {
        Stage::Committed(p) => s.lines.iter().find(|l| match (&l.at, &l.after) {
            (Some(at), after) => p.source == at.source && p <= at && after.as_ref().is_none_or(|a| p > a),
            _ => false,
        }),
        _ => None,
    };
    let seen = seen.map(|l| l.id);
    let Some(pending) = s.lines.iter().position(|l| l.id == id) else { return vec![] };
    match seen {
        None => {
            if let Some((_, old)) = s.lines[pending].made.as_mut() {
                *old = stage;
            }
        }
        Some(real) => {
            let gone = s.lines.remove(pending);
            if s.chosen == Some(id) {
                s.chosen = Some(real);
            }
            if let (Some(line), Some(gone)) = (s.line_mut(real), gone) {
                line.made = gone.made.map(|(sql, _)| (sql, stage));
            }
        }
    }
    vec![]
}

/// Adds a watcher and lets it listen.
pub fn add_watcher(s: &mut State, persona: &str, query: &str, place: usize) -> Vec<Effect> {
    let Some(identity) = s.personas.get(persona).cloned() else { return vec![] };
    let id = s.watcher_id();
    s.watchers.push(WatcherState {
        id,
        persona: persona.to_string(),
        role: identity.roles.first().cloned().unwrap_or_else(|| "anyone".into()),
        query: query.to_string(),
        place,
        link: Link::Connecting,
        refused: None,
        current: None,
        listens_after: None,
        subscription: None,
        rows: 0,
        heard: 0,
        snapshots: vec![],
        absent: vec![],
    });
    vec![Effect::Listen { watcher: id, persona: persona.into(), identity, query: query.into(), place }]
}

fn key_pressed(s: &mut State, key: KeyEvent) -> Vec<Effect> {
    if key.modifiers.contains(KeyModifiers::CONTROL) && key.code == KeyCode::Char('c') {
        s.leaving = true;
        return vec![];
    }
    match &mut s.overlay {
        Overlay::Form(_) => return in_form(s, key),
        Overlay::Instances(chosen) => {
            let chosen = *chosen;
            return in_instances(s, key, chosen);
        }
        Overlay::Help => {
            s.overlay = Overlay::None;
            return vec![];
        }
        Overlay::None | Overlay::Journey { .. } => {}
    }
    match actions::find(key, s) {
        Some(action) => act(s, action),
        None => vec![],
    }
}

fn act(s: &mut State, action: Action) -> Vec<Effect> {
    match action {
        Action::Quit => s.leaving = true,
        Action::Help => s.overlay = Overlay::Help,
        Action::Hold => match s.held.take() {
            Some(_) => s.chosen = None,
            None => hold(s),
        },
        Action::Up => step(s, -1),
        Action::Down => step(s, 1),
        Action::PageUp => step(s, -(s.page.max(2) as isize - 1)),
        Action::PageDown => step(s, s.page.max(2) as isize - 1),
        Action::Newest => {
            s.held = None;
            s.chosen = None;
        }
        Action::NextWatcher => return choose_column(s, (s.column + 1) % s.watchers.len().max(1)),
        Action::PreviousWatcher => {
            let n = s.watchers.len().max(1);
            return choose_column(s, (s.column + n - 1) % n);
        }
        Action::Unfold | Action::Fold => {
            hold(s);
            let id = s.chosen_line().map(|l| l.id);
            if let Some(line) = id.and_then(|id| s.line_mut(id)) {
                line.unfolded = action == Action::Unfold;
            }
        }
        Action::Why => {
            if s.why.take().is_none() {
                hold(s);
                return ask_why(s);
            }
        }
        Action::Journey => {
            hold(s);
            if let Some(line) = s.chosen_line().map(|l| l.id) {
                s.overlay = Overlay::Journey { line, frame: false };
            }
        }
        Action::Frame => {
            if let Overlay::Journey { frame, .. } = &mut s.overlay {
                *frame = !*frame;
            }
        }
        Action::Change => {
            let sql = suggest(s);
            s.overlay = Overlay::Form(form(FormKind::Change, vec![field("SQL", &sql, vec![])]));
        }
        Action::NewWatcher => {
            let can = |p: &Persona| s.can_mint || p.roles.is_empty();
            let personas: Vec<String> = s.personas.iter().filter(|(_, p)| can(p)).map(|(n, _)| n.clone()).collect();
            let places: Vec<String> = s.places.iter().map(|p| p.name.clone()).collect();
            let first = |v: &[String]| v.first().cloned().unwrap_or_default();
            let fields = vec![
                field("persona", &first(&personas), personas.clone()),
                field("query", "SELECT * FROM ", vec![]),
                field("instance", &first(&places), places.clone()),
            ];
            s.overlay = Overlay::Form(form(FormKind::Watcher, fields));
        }
        Action::DropWatcher => {
            if s.column < s.watchers.len() {
                let gone = s.watchers.remove(s.column);
                s.column = s.column.min(s.watchers.len().saturating_sub(1));
                s.why = s.why.take().filter(|w| w.watcher != gone.id);
                return vec![Effect::Hush(gone.id)];
            }
        }
        Action::Personas => {
            let watcher = s.watchers.get(s.column).map(|w| w.persona.clone()).unwrap_or_default();
            let p = s.personas.get(&watcher).cloned().unwrap_or_default();
            let claims = Json::Object(p.claims.clone()).to_string();
            let fields = vec![
                field("name", &watcher, vec![]),
                field("roles", &p.roles.join(", "), vec![]),
                field("claims", &claims, vec![]),
            ];
            s.overlay = Overlay::Form(form(FormKind::Persona, fields));
        }
        Action::Instances => s.overlay = Overlay::Instances(0),
        Action::Filter => {
            let now = s.filter.clone();
            s.overlay = Overlay::Form(form(FormKind::Filter, vec![field("only lines with", &now, vec![])]));
        }
        Action::Back => {
            if s.overlay != Overlay::None {
                s.overlay = Overlay::None;
            } else if s.why.take().is_none() {
                if s.filter.is_empty() {
                    s.held = None;
                    s.chosen = None;
                }
                s.filter.clear();
            }
        }
    }
    vec![]
}

fn form(kind: FormKind, fields: Vec<Field>) -> Form {
    Form { kind, fields, focus: 0, problem: None }
}

fn field(label: &'static str, text: &str, choices: Vec<String>) -> Field {
    Field { label, input: Input::new(text), choices }
}

/// Holds the flow with the newest line on top.
fn hold(s: &mut State) {
    if s.held.is_none() {
        let top = s.visible().next().map(|l| l.id);
        s.held = top;
        s.chosen = s.chosen.or(top);
    }
}

fn step(s: &mut State, by: isize) {
    hold(s);
    let ids: Vec<u64> = s.visible().map(|l| l.id).collect();
    if ids.is_empty() {
        return;
    }
    let place = |id: Option<u64>| ids.iter().position(|i| Some(*i) == id);
    let at = place(s.chosen).unwrap_or(0).saturating_add_signed(by).min(ids.len() - 1);
    s.chosen = Some(ids[at]);
    let top = place(s.held).unwrap_or(0);
    // The chosen line stays on the screen.
    let page = s.page.max(1);
    let top = if at < top { at } else { top.max((at + 1).saturating_sub(page)) };
    s.held = Some(ids[top]);
    if s.why.is_some() {
        s.why = None;
    }
}

fn choose_column(s: &mut State, column: usize) -> Vec<Effect> {
    s.column = column;
    if s.why.is_some() { ask_why(s) } else { vec![] }
}

fn ask_why(s: &mut State) -> Vec<Effect> {
    let (Some(line), Some(w)) = (s.chosen_line(), s.watchers.get(s.column)) else { return vec![] };
    let (id, watcher, place, at) = (line.id, w.id, w.place, line.at.clone());
    let subscription = w.subscription;
    let unanswerable = match (&at, &line.made) {
        (None, Some((_, Stage::NeverComes(why)))) => Some(why.clone()),
        (None, _) => Some("it has not been seen in the stream yet".to_string()),
        _ if w.refused.is_some() => w.refused.clone(),
        (Some(at), _) if w.listens_after.as_ref().is_none_or(|after| at <= after) => {
            Some("it was not listening yet when this was committed".to_string())
        }
        _ if subscription.is_none() => Some("its instance has not told of anything for it yet".to_string()),
        _ => None,
    };
    s.why = Some(Why { line: id, watcher, steps: unanswerable.clone().map(Err) });
    match (at, subscription) {
        (Some(at), Some(subscription)) if unanswerable.is_none() => {
            vec![Effect::Explain { line: id, watcher, subscription, at, place }]
        }
        _ => vec![],
    }
}

/// SQL that changes the row of the chosen line, to begin with.
fn suggest(s: &State) -> String {
    let row = s.chosen_line().and_then(|l| l.rows.first());
    match row {
        Some(RowShown { table, new: Some(new), .. }) => {
            let literal = |v: &Json| match v {
                Json::String(s) => format!("'{}'", s.replace('\'', "''")),
                Json::Null => "NULL".into(),
                other => other.to_string(),
            };
            let mut cells = new.iter();
            let key = cells.next().map(|(k, v)| format!("{k} = {}", literal(v))).unwrap_or_default();
            let set = cells.next().map(|(k, v)| format!("{k} = {}", literal(v))).unwrap_or_default();
            format!("UPDATE {table} SET {set} WHERE {key}")
        }
        _ => "UPDATE ".into(),
    }
}

fn in_instances(s: &mut State, key: KeyEvent, chosen: usize) -> Vec<Effect> {
    let last = s.places.len().saturating_sub(1);
    let action = match key.code {
        KeyCode::Up => {
            s.overlay = Overlay::Instances(chosen.saturating_sub(1));
            return vec![];
        }
        KeyCode::Down => {
            s.overlay = Overlay::Instances((chosen + 1).min(last));
            return vec![];
        }
        KeyCode::Char('e') => InstanceAction::EndOrStart,
        KeyCode::Char('l') => InstanceAction::LoseNext,
        KeyCode::Char('c') => InstanceAction::CutOrMend,
        KeyCode::Esc | KeyCode::Char('q' | 'i') => {
            s.overlay = Overlay::None;
            return vec![];
        }
        _ => return vec![],
    };
    vec![Effect::Instance(chosen, action)]
}

fn in_form(s: &mut State, key: KeyEvent) -> Vec<Effect> {
    let Overlay::Form(form) = &mut s.overlay else { return vec![] };
    let n = form.fields.len();
    let focus = form.focus;
    let f = &mut form.fields[focus];
    match key.code {
        KeyCode::Esc => s.overlay = Overlay::None,
        KeyCode::Enter => return submit(s),
        KeyCode::Tab | KeyCode::Down => form.focus = (focus + 1) % n,
        KeyCode::BackTab | KeyCode::Up => form.focus = (focus + n - 1) % n,
        KeyCode::Left | KeyCode::Right if !f.choices.is_empty() => {
            let at = f.choices.iter().position(|c| c == f.input.text()).unwrap_or(0);
            let step = if key.code == KeyCode::Right { 1 } else { f.choices.len() - 1 };
            f.input = Input::new(f.choices[(at + step) % f.choices.len()].clone());
        }
        _ if !f.choices.is_empty() => {}
        KeyCode::Left => f.input.step(false),
        KeyCode::Right => f.input.step(true),
        KeyCode::Home => f.input.to_end(false),
        KeyCode::End => f.input.to_end(true),
        KeyCode::Backspace => f.input.backspace(),
        KeyCode::Delete => f.input.delete(),
        KeyCode::Char('u') if key.modifiers.contains(KeyModifiers::CONTROL) => f.input.clear(),
        KeyCode::Char(c) if !key.modifiers.intersects(KeyModifiers::CONTROL | KeyModifiers::ALT) => f.input.insert(c),
        _ => {}
    }
    vec![]
}

fn submit(s: &mut State) -> Vec<Effect> {
    let Overlay::Form(form) = &s.overlay else { return vec![] };
    let kind = form.kind;
    let texts: Vec<String> = form.fields.iter().map(|f| f.input.text().trim().to_string()).collect();
    match fulfil(s, kind, &texts) {
        Ok(effects) => {
            s.overlay = Overlay::None;
            effects
        }
        Err(problem) => {
            if let Overlay::Form(form) = &mut s.overlay {
                form.problem = Some(problem);
            }
            vec![]
        }
    }
}

fn fulfil(s: &mut State, kind: FormKind, texts: &[String]) -> Result<Vec<Effect>, String> {
    match (kind, texts) {
        (FormKind::Filter, [text]) => {
            s.filter.clone_from(text);
            s.held = None;
            s.chosen = None;
            Ok(vec![])
        }
        (FormKind::Change, [sql]) => {
            if sql.is_empty() {
                return Err("write the SQL that makes the change".into());
            }
            let id = s.line_id();
            let now = s.now;
            insert(
                s,
                Line {
                    id,
                    at: None,
                    after: None,
                    committed: (now, now),
                    read_at: now,
                    reader: String::new(),
                    received: Default::default(),
                    rows: vec![],
                    row_count: 0,
                    cells: Default::default(),
                    made: Some((sql.clone(), Stage::Running)),
                    unfolded: false,
                },
            );
            // One wants to see what becomes of it.
            s.held = None;
            s.chosen = Some(id);
            Ok(vec![Effect::Make(id, sql.clone())])
        }
        (FormKind::Watcher, [persona, query, place]) => {
            if query.split_whitespace().count() < 4 {
                return Err("write the whole query, like SELECT * FROM calls".into());
            }
            let place = s.places.iter().position(|p| p.name == *place).unwrap_or(0);
            let effects = add_watcher(s, persona, query, place);
            s.column = s.watchers.len().saturating_sub(1);
            Ok(effects)
        }
        (FormKind::Persona, [name, roles, claims]) => {
            if name.is_empty() || name.len() > 40 {
                return Err("give it a name of at most 40 characters".into());
            }
            let claims: Map<String, Json> = serde_json::from_str(claims)
                .map_err(|_| "claims: expected a JSON object, like {\"agency\": \"Brightwater\"}")?;
            let roles: Vec<String> =
                roles.split(',').map(str::trim).filter(|r| !r.is_empty()).map(String::from).collect();
            let persona = Persona { roles, claims };
            s.personas.insert(name.clone(), persona.clone());
            let mut effects = vec![Effect::KeepPersona(name.clone(), persona.clone())];
            // Its watchers come again as who they are now.
            for w in s.watchers.iter_mut().filter(|w| w.persona == *name) {
                w.role = persona.roles.first().cloned().unwrap_or_else(|| "anyone".into());
                w.link = Link::Connecting;
                effects.push(Effect::Hush(w.id));
                effects.push(Effect::Listen {
                    watcher: w.id,
                    persona: name.clone(),
                    identity: persona.clone(),
                    query: w.query.clone(),
                    place: w.place,
                });
            }
            Ok(effects)
        }
        _ => Ok(vec![]),
    }
}
