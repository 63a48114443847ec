//! Everything that a key can do, in one table: it makes the foot line and the help, and finds what a key means.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

use super::state::{Overlay, State};

/// Something that a key does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Action {
    /// Hold the flow, or let it go on.
    Hold,
    /// One line up.
    Up,
    /// One line down.
    Down,
    /// One page up.
    PageUp,
    /// One page down.
    PageDown,
    /// To the newest line.
    Newest,
    /// The next watcher.
    NextWatcher,
    /// The watcher before.
    PreviousWatcher,
    /// Show a transaction's rows.
    Unfold,
    /// Hide them.
    Fold,
    /// Why the chosen watcher heard it or did not.
    Why,
    /// The journey of the chosen transaction.
    Journey,
    /// The raw frame, in the journey.
    Frame,
    /// Make a change.
    Change,
    /// Add a watcher.
    NewWatcher,
    /// Take the chosen watcher away.
    DropWatcher,
    /// Add or edit a persona.
    Personas,
    /// The instances, and what can be done to them.
    Instances,
    /// Show only lines with a text.
    Filter,
    /// All keys.
    Help,
    /// One step back.
    Back,
    /// Leave.
    Quit,
}

/// An action with its key and what it is called.
#[derive(Debug)]
pub struct Entry {
    /// The action.
    pub action: Action,
    /// The key that does it.
    pub key: KeyCode,
    /// The key as it is shown.
    pub shown: &'static str,
    /// In the foot line; empty if it is only in the help.
    pub short: &'static str,
    /// In the help.
    pub help: &'static str,
}

const fn entry(action: Action, key: KeyCode, shown: &'static str, short: &'static str, help: &'static str) -> Entry {
    Entry { action, key, shown, short, help }
}

/// All actions.
pub const ACTIONS: &[Entry] = &[
    entry(Action::Hold, KeyCode::Char(' '), "space", "hold", "hold the flow where it is; again to let it go on"),
    entry(Action::Why, KeyCode::Char('w'), "w", "why", "why the chosen watcher heard this line, or did not"),
    entry(
        Action::Journey,
        KeyCode::Enter,
        "enter",
        "journey",
        "the line's way from commit to every watcher, with times",
    ),
    entry(Action::Frame, KeyCode::Char('f'), "f", "frame", "the raw frame as it arrived at the chosen watcher"),
    entry(Action::Change, KeyCode::Char('m'), "m", "make a change", "run SQL on the database and see who hears it"),
    entry(Action::NewWatcher, KeyCode::Char('n'), "n", "new watcher", "let a persona listen to a live query"),
    entry(Action::DropWatcher, KeyCode::Char('d'), "d", "drop watcher", "disconnect the chosen watcher and forget it"),
    entry(Action::Personas, KeyCode::Char('p'), "p", "personas", "add a persona or edit its roles and claims"),
    entry(
        Action::Instances,
        KeyCode::Char('i'),
        "i",
        "instances",
        "end or start an instance, lose a relay message, cut one off",
    ),
    entry(Action::Filter, KeyCode::Char('/'), "/", "filter", "show only lines that contain a text"),
    entry(Action::Up, KeyCode::Up, "↑", "", "the newer line"),
    entry(Action::Down, KeyCode::Down, "↓", "", "the older line; holds the flow"),
    entry(Action::PageUp, KeyCode::PageUp, "pgup", "", "a page of newer lines"),
    entry(Action::PageDown, KeyCode::PageDown, "pgdn", "", "a page of older lines; holds the flow"),
    entry(Action::Newest, KeyCode::Home, "home", "", "the newest line"),
    entry(Action::NextWatcher, KeyCode::Tab, "tab", "", "the next watcher"),
    entry(Action::PreviousWatcher, KeyCode::BackTab, "shift-tab", "", "the watcher before"),
    entry(Action::Unfold, KeyCode::Right, "→", "", "show the rows of the chosen line"),
    entry(Action::Fold, KeyCode::Left, "←", "", "hide them"),
    entry(Action::Help, KeyCode::Char('?'), "?", "help", "all keys and marks"),
    entry(Action::Back, KeyCode::Esc, "esc", "back", "close what is open; clear the filter"),
    entry(Action::Quit, KeyCode::Char('q'), "q", "quit", "leave the workbench"),
];

/// Whether an action does something now. What does nothing is not shown.
pub fn is_possible(action: Action, s: &State) -> bool {
    let lines = !s.lines.is_empty();
    let in_journey = matches!(s.overlay, Overlay::Journey { .. });
    match action {
        Action::Frame => in_journey,
        Action::NextWatcher | Action::PreviousWatcher => s.watchers.len() > 1,
        Action::Back => s.overlay != Overlay::None || s.why.is_some() || !s.filter.is_empty() || s.held.is_some(),
        Action::Help | Action::Quit => true,
        _ if in_journey => false,
        Action::Why => lines && !s.watchers.is_empty(),
        Action::Journey | Action::Unfold | Action::Fold => lines,
        Action::Change => s.has_database,
        Action::NewWatcher => s.can_mint || s.personas.values().any(|p| p.roles.is_empty()),
        Action::DropWatcher => !s.watchers.is_empty(),
        Action::Personas => s.can_mint,
        Action::Instances => s.has_cluster,
        _ => true,
    }
}

/// What a key means, if it does something now.
pub fn find(key: KeyEvent, s: &State) -> Option<Action> {
    if key.modifiers.contains(KeyModifiers::CONTROL) {
        return (key.code == KeyCode::Char('c')).then_some(Action::Quit);
    }
    let found = ACTIONS.iter().find(|e| e.key == key.code)?;
    is_possible(found.action, s).then_some(found.action)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_action_has_help_and_a_key_of_its_own() {
        for (i, e) in ACTIONS.iter().enumerate() {
            assert!(!e.help.is_empty() && !e.shown.is_empty(), "{:?}", e.action);
            assert!(ACTIONS[i + 1..].iter().all(|o| o.key != e.key), "{:?}: its key is taken twice", e.action);
        }
    }
}
