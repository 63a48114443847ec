//! The seven first steps, each with its state and action.

use gossip_core::schema::TOPIC_SOURCE;

use crate::workbench::action::Action;
use crate::workbench::rail::View;
use crate::workbench::state::{Link, State};
use crate::workbench::words::counted;

/// A step.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    /// Its name.
    pub name: &'static str,
    /// Whether it is done.
    pub done: bool,
    /// Its state, or what is missing.
    pub text: String,
    /// The action that does it.
    pub action: Action,
}

/// All steps, in their order.
#[expect(clippy::too_many_lines, reason = "seven steps, in order")]
pub fn steps(s: &State) -> Vec<Step> {
    let wanted = s.tables.inspected().iter().filter(|t| t.wanted).count();
    let streaming = s.tables.known.values().filter(|known| known.row.source != TOPIC_SOURCE).count();
    let unfit = match &s.tables.inspection {
        Some(Ok(i)) => i.findings.iter().filter(|f| f.blocks).count(),
        _ => 0,
    };
    let up = s.watchers.iter().filter(|w| matches!(w.link, Link::Up(_)) && w.refused.is_none()).count();
    let refused = s.watchers.iter().find(|w| w.refused.is_some());
    let heard = s.watchers.iter().any(|w| w.heard > 0);
    let source = s.places.iter().map(|p| p.info.source.as_str()).find(|source| !source.is_empty()).unwrap_or("");
    let step = |name, done, text: String, action| Step { name, done, text, action };
    let missing = |done: bool, yes: String, no: &str| if done { yes } else { no.to_string() };
    vec![
        step(
            "source",
            !source.is_empty(),
            missing(!source.is_empty(), source.to_string(), "connecting"),
            Action::Go(View::Tables),
        ),
        step(
            "tables",
            streaming > 0,
            missing(
                streaming > 0,
                counted(streaming, "table streams", "tables stream"),
                "no table streams: choose one",
            ),
            Action::Go(View::Tables),
        ),
        step(
            "keys",
            unfit == 0 && wanted > 0,
            match unfit {
                0 => "every table that streams has one".into(),
                n => format!("{} in the way", counted(n, "finding is", "findings are")),
            },
            Action::Go(View::Tables),
        ),
        step(
            "rules",
            !s.tables.rules.is_empty(),
            missing(
                !s.tables.rules.is_empty(),
                counted(s.tables.rules.len(), "rule grants", "rules grant") + " something",
                "no rules yet: let a role read a table",
            ),
            Action::Grant,
        ),
        step(
            "persona",
            !s.personas.is_empty(),
            missing(
                !s.personas.is_empty(),
                counted(s.personas.len(), "persona", "personas"),
                "no persona yet: create one",
            ),
            Action::NewPersona,
        ),
        step(
            "watcher",
            up > 0,
            match refused {
                Some(w) if up == 0 => format!("{} was refused: {}", w.persona, w.refused.clone().unwrap_or_default()),
                _ => missing(
                    up > 0,
                    counted(up, "watcher listens", "watchers listen"),
                    "no watchers yet: let a persona listen to a live query",
                ),
            },
            Action::NewWatcher,
        ),
        step(
            "first change",
            heard,
            missing(
                heard,
                "a watcher has heard one: Earshot shows it".into(),
                "change a row here, or with any other program",
            ),
            Action::Change,
        ),
    ]
}

/// The first step that is not done.
pub fn next(s: &State) -> Option<usize> {
    steps(s).iter().position(|step| !step.done)
}
