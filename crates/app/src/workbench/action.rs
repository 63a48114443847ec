//! The actions that keys trigger.

use super::rail::View;

/// An action.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Action {
    /// Hold the flow, or resume it.
    Hold,
    /// Choose which kinds of lines or messages are shown.
    Kinds,
    /// Choose a mark at which the flow stops.
    StopAt,
    /// Show only what happened to the selected line's key, or all again.
    OnlyThisKey,
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
    /// The previous watcher.
    PreviousWatcher,
    /// Show a transaction's rows.
    Unfold,
    /// Hide its rows.
    Fold,
    /// Explain why the selected watcher heard the change or did not.
    Why,
    /// The journey of the selected transaction.
    Journey,
    /// The raw frame, in the journey.
    Frame,
    /// All raw frames of the selected watcher.
    Frames,
    /// Make a change.
    Change,
    /// Publish an event as somebody.
    Publish,
    /// Connect instances through a broker.
    Broker,
    /// Stop repeating changes.
    StopChanges,
    /// Add a watcher.
    NewWatcher,
    /// Remove the selected watcher.
    DropWatcher,
    /// Edit a persona.
    Personas,
    /// Create a persona.
    NewPersona,
    /// The instances and their actions.
    Instances,
    /// Save recent events as a recording.
    Record,
    /// Copy the selected line.
    Copy,
    /// Write the view to files.
    Export,
    /// Write a report of several pages.
    Report,
    /// Show only lines with a text.
    Filter,
    /// All keys.
    Help,
    /// What somebody has to do something about.
    Alarms,
    /// A view of the rail.
    Go(View),
    /// Search all actions.
    Palette,
    /// Write a query.
    Edit,
    /// Save the edited rules and put them in force.
    SaveRules,
    /// Discard the edited rules.
    UndoRules,
    /// The next role.
    NextRole,
    /// The previous role.
    PreviousRole,
    /// Run the query.
    Run,
    /// Choose the personas to run the query as.
    Who,
    /// Columns further to the right.
    MoreColumns,
    /// Back to the left.
    FewerColumns,
    /// Save the query under a name.
    SaveQuery,
    /// Let a role read a table.
    Grant,
    /// Do the next step.
    NextStep,
    /// Start or stop streaming the selected table.
    Stream,
    /// Fix the selected finding.
    Fix,
    /// The next finding.
    NextFinding,
    /// Write nothing to the selected client for a while, or go on.
    HoldClient,
    /// End the selected client's connection.
    Disconnect,
    /// Move the charts' cursor to later values.
    Later,
    /// Move it to earlier ones.
    Earlier,
    /// Show more time in the charts.
    LongerSpan,
    /// Show less.
    ShorterSpan,
    /// Play a recording, or pause.
    Play,
    /// Play a recording's next transaction.
    PlayOne,
    /// Begin a recording anew.
    Rewind,
    /// Play faster.
    Faster,
    /// Play more slowly.
    Slower,
    /// Close the topmost overlay or mode.
    Back,
    /// Leave.
    Quit,
}
