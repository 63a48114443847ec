//! A form: fields that are typed or chosen.

use crate::workbench::input::Input;

/// A form that is being filled in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Form {
    /// What it is for.
    pub kind: FormKind,
    /// Its fields; one with choices is changed by ← and →.
    pub fields: Vec<Field>,
    /// The field that has the focus.
    pub focus: usize,
    /// The current error.
    pub problem: Option<String>,
    /// The subject of a prefilled value, which is replaced when the subject changes.
    pub about: String,
}

/// What a form is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FormKind {
    /// Make a change.
    Change,
    /// Add a watcher.
    Watcher,
    /// Add or edit a persona.
    Persona,
    /// Set the filter.
    Filter,
    /// Save a query under a name.
    KeepQuery,
    /// Let a role read a table.
    Grant,
    /// Save what was recorded.
    Record,
    /// Publish an event as somebody.
    Publish,
    /// Connect instances through a broker.
    Broker,
}

/// A field of a form.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Field {
    /// Its label.
    pub label: String,
    /// What was typed or chosen.
    pub input: Input,
    /// What can be chosen; empty if it is typed.
    pub choices: Vec<String>,
    /// Suggestions, which a key cycles through.
    pub offers: Vec<String>,
}

pub(crate) fn form(kind: FormKind, fields: Vec<Field>) -> Form {
    Form { kind, fields, focus: 0, problem: None, about: String::new() }
}

pub(crate) fn field(label: &'static str, text: &str, choices: Vec<String>) -> Field {
    Field { label: label.into(), input: Input::new(text), choices, offers: vec![] }
}

/// A typed field with a proposal, which typing replaces.
pub(crate) fn proposed(label: &'static str, text: &str) -> Field {
    Field { input: Input::proposed(text), ..field(label, "", vec![]) }
}
