//! Performs actions.

use crate::incident::report::report;
use crate::workbench::access::UNKNOWN_ROLES;
use crate::workbench::action::Action;
use crate::workbench::export;
use crate::workbench::input::Input;
use crate::workbench::line::{Kind, Stage};
use crate::workbench::marks::Mark;
use crate::workbench::message::Effect;
use crate::workbench::overlays::form::open;
use crate::workbench::overlays::frames::state::{Looking, Whose};
use crate::workbench::page::Page;
use crate::workbench::rail::View;
use crate::workbench::state::{Overlay, State, Why};
use crate::workbench::views::ask::update as ask;
use crate::workbench::views::charts::update as charts;
use crate::workbench::views::clients::update as clients;
use crate::workbench::views::earshot::sight::{self, hold};
use crate::workbench::views::relay::update as relay;
use crate::workbench::views::rules::update as rules;
use crate::workbench::views::tables::update as tables;
use crate::workbench::watchers::watchers_to_save;

#[expect(clippy::too_many_lines, reason = "one arm per action")]
pub(super) fn act(s: &mut State, action: Action) -> Vec<Effect> {
    match action {
        Action::Quit => s.leaving = true,
        Action::Play | Action::PlayOne | Action::Rewind | Action::Faster | Action::Slower => played(s, action),
        Action::Help => s.overlay = Overlay::Help(0),
        Action::Alarms => s.overlay = Overlay::Alarms(0),
        Action::Hold if s.view == View::Relay => relay::hold(s),
        Action::Hold => match s.held.take() {
            Some(_) => s.chosen = None,
            None => hold(s),
        },
        Action::Kinds => s.overlay = Overlay::Kinds(0),
        Action::StopAt => s.overlay = Overlay::StopAt(0),
        Action::OnlyThisKey => sight::only_this_key(s),
        Action::Go(view) => {
            s.view = view;
            s.overlay = Overlay::None;
            if view == View::Tables {
                return tables::look(s);
            }
        }
        Action::Palette => s.overlay = Overlay::Palette(Input::default(), 0),
        Action::Edit if s.view == View::Rules => rules::edit(s),
        Action::Edit => s.ask.editing = true,
        Action::SaveRules => return rules::save(s),
        Action::UndoRules => rules::undo(s),
        Action::NextRole => rules::step(s, 0, 1),
        Action::PreviousRole => rules::step(s, 0, -1),
        Action::PageUp | Action::PageDown if s.view == View::Rules => {
            return rules::scroll(s, if action == Action::PageDown { 5 } else { -5 });
        }
        Action::Run => return ask::run(s),
        Action::MoreColumns => ask::aside(s, 1),
        Action::FewerColumns => ask::aside(s, -1),
        Action::Who => s.overlay = Overlay::Who(0),
        Action::SaveQuery => s.overlay = Overlay::Form(open::save_query()),
        Action::Stream => return tables::switch(s),
        Action::Record => s.overlay = Overlay::Form(open::record()),
        Action::Copy => return copy(s),
        Action::Frames if s.view == View::Clients => clients::frames(s),
        Action::Frames => {
            if let Some(w) = s.watchers.get(s.column) {
                s.overlay = Overlay::Frames(Looking::of(Whose::Watcher(w.id)));
            }
        }
        Action::HoldClient => return clients::hold(s),
        Action::Disconnect => clients::disconnect(s),
        Action::Earlier => charts::cursor(s, -1),
        Action::Later => charts::cursor(s, 1),
        Action::ShorterSpan => charts::zoom(s, -1),
        Action::LongerSpan => charts::zoom(s, 1),
        Action::Export => return vec![Effect::Export(Box::new(page(s)))],
        Action::Report => return vec![Effect::WriteReport(Box::new(report(s, &s.recording())))],
        Action::Grant => s.overlay = Overlay::Form(crate::workbench::overlays::form::update::grant(s)),
        Action::NextStep => {
            let step = crate::workbench::views::steps::list::next(s)
                .and_then(|i| crate::workbench::views::steps::list::steps(s).into_iter().nth(i));
            return step.map_or(vec![], |step| act(s, step.action));
        }
        Action::Fix => return tables::fix(s),
        Action::NextFinding => s.tables.finding += 1,
        Action::Up => step(s, -1),
        Action::Down => step(s, 1),
        Action::PageUp => step(s, -(s.page.max(2) as isize - 1)),
        Action::PageDown => step(s, s.page.max(2) as isize - 1),
        Action::Newest if s.view != View::Earshot => step(s, isize::MIN),
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
                return explain_selected(s);
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
            let (form, effects) = crate::workbench::overlays::form::change::form(s);
            s.overlay = Overlay::Form(form);
            return effects;
        }
        Action::Broker => s.overlay = Overlay::Form(open::broker()),
        Action::Publish => s.overlay = Overlay::Form(open::publish(s)),
        Action::StopChanges => return vec![Effect::StopRepeating],
        Action::NewWatcher => s.overlay = Overlay::Form(open::watcher(s)),
        Action::DropWatcher => return drop_watcher(s),
        Action::NewPersona => s.overlay = Overlay::Form(open::new_persona(s)),
        Action::Personas => s.overlay = Overlay::Form(open::persona(s)),
        Action::Instances => s.overlay = Overlay::Instances(0),
        Action::Filter => s.overlay = Overlay::Form(open::filter(s)),
        Action::Back => back(s),
    }
    vec![]
}

/// What is to become of a recording; it is played on the next tick.
fn played(s: &mut State, action: Action) {
    let Some(player) = s.player.as_mut() else { return };
    match action {
        Action::Play => player.play_or_pause(),
        Action::PlayOne => (player.playing, player.steps) = (false, player.steps + 1),
        Action::Rewind => (player.playing, player.rewind) = (false, true),
        Action::Faster => player.change_speed(1),
        _ => player.change_speed(-1),
    }
}

/// Copies the selected line, or its SQL.
fn copy(s: &mut State) -> Vec<Effect> {
    let Some(line) = s.chosen_line() else { return vec![] };
    let text = line.made.as_ref().map_or_else(|| crate::workbench::words::whole(line), |(sql, _)| sql.clone());
    s.notice = Some((s.now, format!("copied: {text}")));
    vec![Effect::Copy(text)]
}

/// The page to export for the current view.
fn page(s: &State) -> Page {
    match s.overlay {
        _ if s.view == View::Relay => relay::export(s),
        _ if s.view == View::Charts => charts::export(s),
        Overlay::Journey { line, .. } => s.line(line).map_or_else(|| export::earshot(s), |l| export::journey(s, l)),
        _ => export::earshot(s),
    }
}

fn drop_watcher(s: &mut State) -> Vec<Effect> {
    if s.column >= s.watchers.len() {
        return vec![];
    }
    let gone = s.watchers.remove(s.column);
    s.column = s.column.min(s.watchers.len().saturating_sub(1));
    s.why = s.why.take().filter(|w| w.watcher != gone.id);
    vec![Effect::Hush(gone.id), Effect::KeepWatchers(watchers_to_save(s))]
}

/// Closes the topmost of: overlay, filter, explanation, hold.
fn back(s: &mut State) {
    if s.overlay != Overlay::None {
        s.overlay = Overlay::None;
    } else if s.view != View::Earshot {
        s.ask.find.clear();
        s.tables.find.clear();
        s.clients.find.clear();
        s.charts.cursor = None;
    } else if s.why.take().is_none() {
        let looking = !s.filter.is_empty() || s.sight.only.is_some() || s.sight.stop.is_some();
        if !looking {
            s.held = None;
            s.chosen = None;
        }
        s.filter.clear();
        (s.sight.only, s.sight.stop) = (None, None);
    }
}

pub(super) fn step(s: &mut State, by: isize) {
    match s.view {
        View::Earshot => step_line(s, by),
        View::Tables => tables::step(s, by),
        View::Rules => rules::step(s, by, 0),
        View::Relay => relay::step(s, by),
        View::Clients => clients::step(s, by),
        View::Charts => charts::step(s, by),
        View::Steps => {}
        View::Ask => {
            let most = s.ask.panes.iter().map(|p| p.rows.len()).max().unwrap_or(0);
            s.ask.scroll = s.ask.scroll.saturating_add_signed(by).min(most.saturating_sub(1));
        }
    }
}

pub(super) fn step_line(s: &mut State, by: isize) {
    hold(s);
    let ids: Vec<u64> = s.visible().map(|l| l.id).collect();
    if ids.is_empty() {
        return;
    }
    let place = |id: Option<u64>| ids.iter().position(|i| Some(*i) == id);
    let at = place(s.chosen).unwrap_or(0).saturating_add_signed(by).min(ids.len() - 1);
    s.chosen = Some(ids[at]);
    let top = place(s.held).unwrap_or(0);
    // Keep the selected line on screen.
    let page = s.page.max(1);
    let top = if at < top { at } else { top.max((at + 1).saturating_sub(page)) };
    s.held = Some(ids[top]);
    if s.why.is_some() {
        s.why = None;
    }
}

pub(super) fn choose_column(s: &mut State, column: usize) -> Vec<Effect> {
    s.column = column;
    if s.why.is_some() { explain_selected(s) } else { vec![] }
}

pub(super) fn explain_selected(s: &mut State) -> Vec<Effect> {
    let (Some(line), Some(w)) = (s.chosen_line(), s.watchers.get(s.column)) else { return vec![] };
    let (id, watcher, place) = (line.id, w.id, w.place);
    // An event has another position at each instance.
    let instance = s.places.get(place).map_or("", |p| p.name.as_str());
    let at = line.at_place(instance).or(line.at.as_ref()).cloned();
    let subscription = w.subscription;
    let judged = line.cells.contains_key(&watcher);
    let mark = s.mark(line, w).word();
    // Whoever is refused hears nothing of any line: the rules say why.
    let refused = w.refused.as_ref().filter(|_| !s.recorded).and_then(|_| {
        let identity = s.personas.get(&w.persona).filter(|i| i.roles != [UNKNOWN_ROLES])?;
        let (identity, query) = (identity.clone(), w.query.clone());
        Some(Effect::WhyRefused { line: id, watcher, identity, query, place })
    });
    if let Some(effect) = refused {
        s.why = Some(Why { line: id, watcher, steps: None });
        return vec![effect];
    }
    let unanswerable = match (&at, &line.made) {
        _ if s.recorded => {
            let known = at.as_ref().and_then(|at| s.explained.get(&(at.clone(), watcher)));
            if let Some(steps) = known.cloned() {
                s.why = Some(Why { line: id, watcher, steps: Some(Ok(steps)) });
                return vec![];
            }
            Some(format!("{mark}; the recording does not have the steps"))
        }
        (None, Some((_, Stage::NeverComes(why)))) => Some(why.clone()),
        (None, _) => Some("it has not been seen in the stream yet".to_string()),
        _ if w.refused.is_some() => w.refused.clone(),
        // A verdict proves that it was listening, whatever the position of its snapshot.
        (Some(at), _) if !judged && line.kind == Kind::Tables && w.listens_after.as_ref().is_none_or(|a| at <= a) => {
            Some("it was not listening yet when this was committed".to_string())
        }
        _ if !judged && s.mark(line, w) == Mark::Elsewhere => {
            Some(format!("its query is about {}, and this is about something else", w.table))
        }
        _ if subscription.is_none() => Some("its instance has reported nothing for it yet".to_string()),
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
