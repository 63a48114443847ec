//! All actions and their keys, in one table. The foot line, the help and key handling derive from it.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

use crate::workbench::action::Action;
use crate::workbench::possible::is_possible;
use crate::workbench::rail::View;
use crate::workbench::state::State;

/// An action with its key and labels.
#[derive(Debug)]
pub struct Entry {
    /// The action.
    pub action: Action,
    /// The view that has it; all if `None`.
    pub view: Option<View>,
    /// The key that does it.
    pub key: KeyCode,
    /// The key as it is shown.
    pub shown: &'static str,
    /// Label in the foot line; empty if it is only in the help.
    pub short: &'static str,
    /// Text in the help.
    pub help: &'static str,
}

const fn entry(action: Action, key: KeyCode, shown: &'static str, short: &'static str, help: &'static str) -> Entry {
    Entry { action, view: None, key, shown, short, help }
}

const fn earshot(action: Action, key: KeyCode, shown: &'static str, short: &'static str, help: &'static str) -> Entry {
    Entry { action, view: Some(View::Earshot), key, shown, short, help }
}

const fn ask(action: Action, key: KeyCode, shown: &'static str, short: &'static str, help: &'static str) -> Entry {
    Entry { action, view: Some(View::Ask), key, shown, short, help }
}

const fn tables(action: Action, key: KeyCode, shown: &'static str, short: &'static str, help: &'static str) -> Entry {
    Entry { action, view: Some(View::Tables), key, shown, short, help }
}

const fn rules(action: Action, key: KeyCode, shown: &'static str, short: &'static str, help: &'static str) -> Entry {
    Entry { action, view: Some(View::Rules), key, shown, short, help }
}

const fn relay(action: Action, key: KeyCode, shown: &'static str, short: &'static str, help: &'static str) -> Entry {
    Entry { action, view: Some(View::Relay), key, shown, short, help }
}

const fn clients(action: Action, key: KeyCode, shown: &'static str, short: &'static str, help: &'static str) -> Entry {
    Entry { action, view: Some(View::Clients), key, shown, short, help }
}

const fn charts(action: Action, key: KeyCode, shown: &'static str, short: &'static str, help: &'static str) -> Entry {
    Entry { action, view: Some(View::Charts), key, shown, short, help }
}

const fn steps(action: Action, key: KeyCode, shown: &'static str, short: &'static str, help: &'static str) -> Entry {
    Entry { action, view: Some(View::Steps), key, shown, short, help }
}

/// All actions.
pub const ACTIONS: &[Entry] = &[
    earshot(Action::Hold, KeyCode::Char(' '), "space", "pause", "pause the flow; press again to resume"),
    earshot(Action::Why, KeyCode::Char('w'), "w", "why", "why the chosen watcher heard this line, or did not"),
    earshot(
        Action::Journey,
        KeyCode::Enter,
        "enter",
        "journey",
        "the line's way from commit to every watcher, with times",
    ),
    earshot(Action::Frame, KeyCode::Char('f'), "f", "frame", "the raw frame as it arrived at the chosen watcher"),
    earshot(Action::Frames, KeyCode::Char('F'), "F", "", "all raw frames of the chosen watcher, both directions"),
    earshot(
        Action::OnlyThisKey,
        KeyCode::Char('o'),
        "o",
        "",
        "show only what happened to the line's first row, and to whom it was told; again: all",
    ),
    earshot(Action::StopAt, KeyCode::Char('s'), "s", "", "stop at the first line that has a mark"),
    earshot(Action::Kinds, KeyCode::Char('k'), "k", "", "which kinds of lines are shown"),
    relay(Action::Kinds, KeyCode::Char('k'), "k", "kinds", "which kinds of messages are shown"),
    ask(Action::Edit, KeyCode::Char('e'), "e", "edit", "write the query"),
    ask(Action::Run, KeyCode::Enter, "enter", "run", "run the query as every chosen persona"),
    ask(Action::Who, KeyCode::Char('a'), "a", "run as", "choose up to five personas to run it side by side"),
    ask(Action::SaveQuery, KeyCode::Char('k'), "k", "save", "save the query under a name that clients can use"),
    ask(Action::MoreColumns, KeyCode::Right, "→", "", "columns further to the right"),
    ask(Action::FewerColumns, KeyCode::Left, "←", "", "back to the left"),
    tables(
        Action::Stream,
        KeyCode::Char('s'),
        "s",
        "stream on or off",
        "stream the chosen table, or stop; shows the effect on the database first",
    ),
    tables(Action::Grant, KeyCode::Char('g'), "g", "grant", "let a role read the chosen table (adds a rule)"),
    rules(Action::Edit, KeyCode::Char('e'), "e", "edit", "change what the chosen role may read of the chosen table"),
    rules(
        Action::SaveRules,
        KeyCode::Char('s'),
        "s",
        "save",
        "save the edited rules to the configuration and apply them",
    ),
    rules(Action::UndoRules, KeyCode::Char('u'), "u", "undo", "take back what was edited and not saved"),
    relay(Action::Hold, KeyCode::Char(' '), "space", "pause", "pause the list of messages; press again to resume"),
    relay(Action::Export, KeyCode::Char('x'), "x", "export", "the drawing as SVG, PDF and text into this folder"),
    clients(Action::Frames, KeyCode::Enter, "enter", "frames", "the chosen client's raw frames, both directions"),
    clients(
        Action::HoldClient,
        KeyCode::Char('l'),
        "l",
        "slow it down",
        "write nothing to the chosen client for 10 seconds, as if it were slow; press again to let it go on",
    ),
    clients(
        Action::Disconnect,
        KeyCode::Char('d'),
        "d",
        "disconnect",
        "end the chosen client's connection; asks first",
    ),
    clients(
        Action::Filter,
        KeyCode::Char('/'),
        "/",
        "find",
        "show only clients with a text in their name, roles, address or queries",
    ),
    charts(Action::Earlier, KeyCode::Left, "←", "earlier", "move the cursor to earlier values"),
    charts(Action::Later, KeyCode::Right, "→", "later", "move the cursor to later values"),
    charts(Action::ShorterSpan, KeyCode::Char('+'), "+", "less time", "show a shorter time"),
    charts(Action::LongerSpan, KeyCode::Char('-'), "-", "more time", "show a longer time, up to an hour"),
    charts(Action::Export, KeyCode::Char('x'), "x", "export", "the charts as SVG, PDF and text into this folder"),
    steps(Action::Grant, KeyCode::Char('g'), "g", "grant", "let a role read a table (adds a rule)"),
    steps(Action::NextStep, KeyCode::Enter, "enter", "next step", "do the first step that is not done"),
    steps(
        Action::Broker,
        KeyCode::Char('b'),
        "b",
        "a broker",
        "connect instances of several processes through a broker: tries it, and writes it to the configuration",
    ),
    steps(Action::NewWatcher, KeyCode::Char('n'), "n", "new watcher", "let a persona listen to a live query"),
    tables(Action::Fix, KeyCode::Char('f'), "f", "fix", "show the fix for the chosen problem, then apply it"),
    tables(Action::NextFinding, KeyCode::Tab, "tab", "next finding", "choose the next problem that can be fixed"),
    entry(Action::Change, KeyCode::Char('m'), "m", "make a change", "change rows of the database and see who hears it"),
    earshot(
        Action::Publish,
        KeyCode::Char('e'),
        "e",
        "",
        "publish an event of a topic as somebody, and see who hears it",
    ),
    entry(Action::StopChanges, KeyCode::Char('S'), "S", "stop changes", "stop repeating changes"),
    earshot(Action::NewWatcher, KeyCode::Char('n'), "n", "new watcher", "let a persona listen to a live query"),
    earshot(
        Action::DropWatcher,
        KeyCode::Char('d'),
        "d",
        "drop watcher",
        "disconnect the chosen watcher and forget it",
    ),
    entry(
        Action::Personas,
        KeyCode::Char('p'),
        "p",
        "persona",
        "edit the chosen watcher's persona: its roles and claims",
    ),
    entry(Action::NewPersona, KeyCode::Char('P'), "P", "", "make up another persona, with roles and claims"),
    entry(
        Action::Instances,
        KeyCode::Char('i'),
        "i",
        "instances",
        "add, end, drain or start an instance, lose a relay message, cut one off",
    ),
    earshot(
        Action::Export,
        KeyCode::Char('x'),
        "x",
        "export",
        "this view, or the journey, as SVG, PDF and text into this folder",
    ),
    earshot(
        Action::Report,
        KeyCode::Char('X'),
        "X",
        "report",
        "what was found, who heard what, the chosen line's journey and the charts, as one PDF of several pages",
    ),
    earshot(
        Action::Copy,
        KeyCode::Char('y'),
        "y",
        "",
        "copy the line: the SQL of a change made here, else what changed",
    ),
    ask(Action::Filter, KeyCode::Char('/'), "/", "find", "show only rows that contain a text"),
    tables(Action::Filter, KeyCode::Char('/'), "/", "find", "show only tables with a text in their name or a column's"),
    earshot(Action::Filter, KeyCode::Char('/'), "/", "filter", "show only lines that contain a text"),
    entry(Action::Go(View::Earshot), KeyCode::Char('1'), "1", "", "Earshot: who heard what, and why not"),
    entry(Action::Go(View::Ask), KeyCode::Char('2'), "2", "", "Ask: one live query as several people side by side"),
    entry(
        Action::Go(View::Tables),
        KeyCode::Char('3'),
        "3",
        "",
        "Tables: what streams, who may read it, what is in the way",
    ),
    entry(
        Action::Go(View::Rules),
        KeyCode::Char('4'),
        "4",
        "",
        "Rules: who may read what, and what another rule would change",
    ),
    entry(
        Action::Go(View::Relay),
        KeyCode::Char('5'),
        "5",
        "",
        "Relay: how changes travel between instances, and where they wait",
    ),
    entry(
        Action::Go(View::Clients),
        KeyCode::Char('6'),
        "6",
        "",
        "Clients: who is connected, who came and went, and what waits for whom",
    ),
    entry(
        Action::Go(View::Charts),
        KeyCode::Char('7'),
        "7",
        "",
        "Charts: how much, how fast, and what waits, over time",
    ),
    entry(
        Action::Go(View::Steps),
        KeyCode::Char('0'),
        "0",
        "",
        "Steps: what is still to be done, up to a first change",
    ),
    entry(Action::Up, KeyCode::Up, "↑", "", "one line up"),
    entry(Action::Down, KeyCode::Down, "↓", "", "one line down; in Earshot this pauses the flow"),
    entry(Action::PageUp, KeyCode::PageUp, "pgup", "", "a page up"),
    entry(Action::PageDown, KeyCode::PageDown, "pgdn", "", "a page down"),
    entry(Action::Newest, KeyCode::Home, "home", "", "to the first line"),
    rules(Action::NextRole, KeyCode::Right, "→", "", "the next role"),
    rules(Action::PreviousRole, KeyCode::Left, "←", "", "the role before"),
    earshot(Action::NextWatcher, KeyCode::Tab, "tab", "", "the next watcher"),
    earshot(Action::PreviousWatcher, KeyCode::BackTab, "shift-tab", "", "the watcher before"),
    earshot(Action::Unfold, KeyCode::Right, "→", "", "show the rows of the chosen line"),
    earshot(Action::Fold, KeyCode::Left, "←", "", "hide them"),
    entry(Action::Record, KeyCode::Char('R'), "R", "", "save recent events as a recording"),
    entry(
        Action::Play,
        KeyCode::Char('>'),
        ">",
        "play or pause",
        "play the recording, or pause; at its end it begins anew",
    ),
    entry(Action::PlayOne, KeyCode::Char('.'), ".", "step", "play the recording's next transaction"),
    entry(Action::Rewind, KeyCode::Char('<'), "<", "begin anew", "go back to the recording's beginning, and pause"),
    entry(Action::Faster, KeyCode::Char(']'), "]", "", "play the recording faster"),
    entry(Action::Slower, KeyCode::Char('['), "[", "", "play the recording more slowly"),
    entry(Action::Alarms, KeyCode::Char('!'), "!", "", "what somebody has to do something about, and what"),
    entry(Action::Palette, KeyCode::Char(':'), ":", "", "find an action by its words"),
    entry(Action::Help, KeyCode::Char('?'), "?", "help", "all keys and marks"),
    entry(Action::Back, KeyCode::Esc, "esc", "back", "close what is open; clear the filter"),
    entry(Action::Quit, KeyCode::Char('q'), "q", "quit", "leave the workbench"),
];

/// The actions of the current view.
pub fn here(s: &State) -> impl Iterator<Item = &'static Entry> + use<> {
    let view = s.view;
    ACTIONS.iter().filter(move |e| e.view.is_none_or(|v| v == view))
}

/// The action of a key, if it is possible now.
pub fn find(key: KeyEvent, s: &State) -> Option<Action> {
    if key.modifiers.contains(KeyModifiers::CONTROL) {
        return (key.code == KeyCode::Char('c')).then_some(Action::Quit);
    }
    let found = here(s).find(|e| e.key == key.code)?;
    is_possible(found.action, s).then_some(found.action)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_action_has_help_and_a_key_of_its_own() {
        for (i, e) in ACTIONS.iter().enumerate() {
            assert!(!e.help.is_empty() && !e.shown.is_empty(), "{:?}", e.action);
            let clash = |o: &&Entry| o.key == e.key && (o.view.is_none() || e.view.is_none() || o.view == e.view);
            assert!(!ACTIONS[i + 1..].iter().any(|o| clash(&o)), "{:?}: its key is taken twice", e.action);
        }
    }
}
