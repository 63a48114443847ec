//! Which actions are possible now.

use crate::workbench::action::Action;
use crate::workbench::overlays::form::open::topics;
use crate::workbench::rail::View;
use crate::workbench::state::{Overlay, State};
use crate::workbench::views::charts::state::SPANS;
use crate::workbench::views::rules::update::chosen;
use crate::workbench::views::steps::list;
use crate::workbench::views::tables::update::fixable;
use crate::workbench::watchers::choosable;

/// Whether an action is possible now. Others are not shown.
pub fn is_possible(action: Action, s: &State) -> bool {
    let lines = !s.lines.is_empty();
    let in_journey = matches!(s.overlay, Overlay::Journey { .. });
    if let Some(possible) = in_view(action, s) {
        return possible;
    }
    match action {
        Action::Go(View::Ask | View::Relay) if s.recorded => false,
        Action::Go(View::Steps) => s.has_config && s.view != View::Steps,
        Action::Go(view) => view != s.view,
        Action::Grant => s.has_config && s.has_cluster && !s.tables.known.is_empty(),
        Action::NextStep => list::next(s).is_some(),
        Action::Palette => true,
        Action::Play | Action::Rewind | Action::Faster | Action::Slower => s.recorded,
        Action::PlayOne => s.player.as_ref().is_some_and(|player| !player.is_over()),
        Action::Alarms => !s.troubles.is_empty(),
        Action::Frame => in_journey,
        Action::NextWatcher | Action::PreviousWatcher => s.watchers.len() > 1,
        Action::Back if s.view != View::Earshot => {
            let found = [&s.ask.find, &s.tables.find, &s.clients.find];
            s.overlay != Overlay::None || found.iter().any(|text| !text.is_empty()) || s.charts.cursor.is_some()
        }
        Action::Back => {
            let looking = s.sight.only.is_some() || s.sight.stop.is_some() || s.held.is_some();
            s.overlay != Overlay::None || s.why.is_some() || !s.filter.is_empty() || looking
        }
        Action::Help | Action::Quit => true,
        Action::Export => lines,
        Action::Report => lines && !in_journey,
        Action::Copy => lines && !in_journey,
        Action::Record => !s.kept.is_empty(),
        _ if in_journey => false,
        Action::OnlyThisKey => lines,
        Action::StopAt => lines && !s.recorded && !s.watchers.is_empty(),
        Action::Why => lines && !s.watchers.is_empty(),
        Action::Journey | Action::Unfold | Action::Fold => lines,
        Action::Change => s.has_database,
        Action::Broker => s.has_config && s.has_cluster,
        Action::Publish => {
            let somebody = !s.recorded && !choosable(s).is_empty();
            somebody && !topics(s).is_empty()
        }
        Action::StopChanges => s.repeating,
        Action::DropWatcher | Action::Frames | Action::NewWatcher if s.recorded => false,
        Action::NewWatcher => !choosable(s).is_empty(),
        Action::DropWatcher | Action::Frames => !s.watchers.is_empty(),
        Action::NewPersona => s.can_mint,
        Action::Personas => s.can_mint && !s.watchers.is_empty(),
        Action::Instances => !s.recorded,
        _ => true,
    }
}

/// The same of actions that only some views have.
fn in_view(action: Action, s: &State) -> Option<bool> {
    Some(match action {
        Action::Edit if s.view == View::Rules => !s.rules.editing && chosen(s).is_some(),
        Action::Edit => !s.ask.editing,
        Action::SaveRules => s.rules.can_save(),
        Action::UndoRules => s.rules.edited.is_some(),
        Action::NextRole | Action::PreviousRole => s.rules.seen.roles.len() > 1,
        Action::Run => !s.ask.editing && !s.ask.text().trim().is_empty(),
        Action::MoreColumns | Action::FewerColumns => !s.ask.panes.is_empty(),
        Action::Who => s.personas.len() > 1,
        Action::SaveQuery => s.has_config && s.ask.running.is_some(),
        Action::Stream => s.has_database && s.has_config && s.has_cluster && !s.tables.inspected().is_empty(),
        Action::Fix => s.has_database && fixable(s).is_some(),
        Action::NextFinding => s.has_database && fixable(s).is_some(),
        Action::Export if s.view == View::Relay => !s.relay.instances.is_empty(),
        Action::Export if s.view == View::Charts => s.charts.series.ends().is_some(),
        Action::Earlier | Action::Later => s.charts.series.ends().is_some(),
        Action::ShorterSpan => s.charts.span > 0,
        Action::LongerSpan => s.charts.span + 1 < SPANS.len(),
        Action::HoldClient | Action::Disconnect => !s.recorded && s.clients.chosen().is_some(),
        Action::Frames if s.view == View::Clients => s.clients.followed.is_some(),
        _ => return None,
    })
}
