//! State and keys of the dialog that creates a `gossip.toml`.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use gossip_source::Plan;

use crate::workbench::input::Input;
use crate::workbench::theme::Theme;

/// A table that can be chosen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Choice {
    /// Its name.
    pub name: String,
    /// Number of columns and of rows.
    pub size: (usize, Option<u64>),
    /// Its key, or why it cannot stream and the SQL that fixes it.
    pub key: Result<String, (String, Option<String>)>,
    /// Whether it is selected to stream.
    pub chosen: bool,
}

/// The current step.
#[derive(Clone, Debug)]
pub enum Stage {
    /// Which database?
    Source,
    /// Which tables?
    Tables(Vec<Choice>, usize),
    /// Review the plan; for a file that is not in WAL mode, whether it is to be.
    Plan(Plan, Option<bool>),
}

/// The dialog's state.
#[derive(Clone, Debug)]
pub struct Setup {
    /// The databases found in the folder, as relative paths.
    pub files: Vec<String>,
    /// Index of the selected file; one past the end selects the typed path.
    pub at: usize,
    /// The path or address being typed.
    pub typed: Input,
    /// The current step.
    pub stage: Stage,
    /// The chosen database: a file, or a server's address.
    pub place: String,
    /// The current error.
    pub problem: Option<String>,
    /// Colours.
    pub theme: Theme,
}

/// I/O that the dialog asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Do {
    /// Inspect a database.
    Look(String),
    /// Plan what streaming these tables needs.
    Plan(Vec<String>),
    /// Prepare the database and write the file.
    Write,
    /// Leave without changing anything.
    Leave,
}

impl Setup {
    /// Starts with the databases that were found.
    pub fn new(files: Vec<String>, theme: Theme) -> Setup {
        let typed = Input::default();
        Setup { files, at: 0, typed, stage: Stage::Source, place: String::new(), problem: None, theme }
    }

    /// The selected tables.
    fn tables(choices: &[Choice]) -> Vec<String> {
        choices.iter().filter(|c| c.chosen).map(|c| c.name.clone()).collect()
    }

    /// Handles a key.
    #[expect(clippy::too_many_lines, reason = "one arm per key")]
    pub fn key(&mut self, key: KeyEvent) -> Option<Do> {
        if key.modifiers.contains(KeyModifiers::CONTROL) && key.code == KeyCode::Char('c') {
            return Some(Do::Leave);
        }
        self.problem = None;
        match (&mut self.stage, key.code) {
            (Stage::Source, KeyCode::Esc) => Some(Do::Leave),
            (Stage::Source, KeyCode::Up) => {
                self.at = self.at.saturating_sub(1);
                None
            }
            (Stage::Source, KeyCode::Down) => {
                self.at = (self.at + 1).min(self.files.len());
                None
            }
            (Stage::Source, KeyCode::Enter) => {
                let typed = self.typed.text().trim().to_string();
                let place = self.files.get(self.at).cloned().unwrap_or(typed);
                (!place.is_empty()).then(|| {
                    self.place.clone_from(&place);
                    Do::Look(place)
                })
            }
            (Stage::Source, KeyCode::Backspace) => {
                self.typed.backspace();
                None
            }
            (Stage::Source, KeyCode::Char('u')) if key.modifiers.contains(KeyModifiers::CONTROL) => {
                self.typed = Input::default();
                None
            }
            (Stage::Source, KeyCode::Char(c)) => {
                self.at = self.files.len();
                self.typed.insert(c);
                None
            }
            (Stage::Tables(all, at), KeyCode::Up) => {
                *at = at.saturating_sub(1).min(all.len());
                None
            }
            (Stage::Tables(all, at), KeyCode::Down) => {
                *at = (*at + 1).min(all.len().saturating_sub(1));
                None
            }
            (Stage::Tables(all, at), KeyCode::Char(' ')) => {
                match all.get_mut(*at) {
                    Some(c) if c.key.is_ok() => c.chosen = !c.chosen,
                    _ => self.problem = Some("this one cannot stream as it is".into()),
                }
                None
            }
            (Stage::Tables(all, _), KeyCode::Enter) => match Setup::tables(all) {
                none if none.is_empty() => {
                    self.problem = Some("choose at least one table with space".into());
                    None
                }
                tables => Some(Do::Plan(tables)),
            },
            (Stage::Tables(..), KeyCode::Esc) => {
                self.stage = Stage::Source;
                None
            }
            (Stage::Plan(_, Some(wal)), KeyCode::Char('w')) => {
                *wal = !*wal;
                None
            }
            (Stage::Plan(..), KeyCode::Enter) => Some(Do::Write),
            (Stage::Plan(..), KeyCode::Esc) => Some(Do::Look(self.place.clone())),
            _ => None,
        }
    }
}
