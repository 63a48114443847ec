//! What can be done.

use super::rail::View;

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
    /// All raw frames of the chosen watcher.
    Frames,
    /// Make a change.
    Change,
    /// Make no more of the changes that are being repeated.
    StopChanges,
    /// Add a watcher.
    NewWatcher,
    /// Take the chosen watcher away.
    DropWatcher,
    /// Edit a persona.
    Personas,
    /// Make up another persona.
    NewPersona,
    /// The instances, and what can be done to them.
    Instances,
    /// Save what was recorded of late.
    Record,
    /// Copy the chosen line.
    Copy,
    /// Write the view to files.
    Export,
    /// Show only lines with a text.
    Filter,
    /// All keys.
    Help,
    /// A view of the rail.
    Go(View),
    /// All actions, to be found by their words.
    Palette,
    /// Write a query.
    Edit,
    /// Keep the edited rules and put them in force.
    SaveRules,
    /// Take back what was edited.
    UndoRules,
    /// The next role.
    NextRole,
    /// The role before.
    PreviousRole,
    /// Ask the query.
    Run,
    /// Choose who asks.
    Who,
    /// Columns further to the right.
    MoreColumns,
    /// Back to the left.
    FewerColumns,
    /// Keep the query under a name.
    SaveQuery,
    /// Let a role read a table.
    Grant,
    /// Do the next step.
    NextStep,
    /// Let the chosen table stream, or no longer.
    Stream,
    /// Fix the chosen finding.
    Fix,
    /// The next finding.
    NextFinding,
    /// One step back.
    Back,
    /// Leave.
    Quit,
}
