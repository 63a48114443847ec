//! The palette: searches the actions that are possible now.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

use crate::workbench::action::Action;
use crate::workbench::keymap;
use crate::workbench::message::Effect;
use crate::workbench::perform::act;
use crate::workbench::possible::is_possible;
use crate::workbench::state::{Overlay, State};

/// The actions that match the typed text.
pub fn found(s: &State, typed: &str) -> Vec<&'static keymap::Entry> {
    let wanted = typed.to_lowercase();
    let fits = |e: &&keymap::Entry| {
        let text = format!("{} {}", e.short, e.help).to_lowercase();
        wanted.split_whitespace().all(|w| text.contains(w))
    };
    let does = |e: &&keymap::Entry| e.action != Action::Palette && is_possible(e.action, s);
    keymap::here(s).filter(does).filter(fits).collect()
}

/// A key while the palette is open.
pub(crate) fn in_palette(s: &mut State, key: KeyEvent) -> Vec<Effect> {
    let Overlay::Palette(input, at) = &s.overlay else { return vec![] };
    let (mut input, at) = (input.clone(), *at);
    let n = found(s, input.text()).len().max(1);
    let at = match key.code {
        KeyCode::Esc => {
            s.overlay = Overlay::None;
            return vec![];
        }
        KeyCode::Enter => {
            let action = found(s, input.text()).get(at).map(|e| e.action);
            s.overlay = Overlay::None;
            return action.map_or(vec![], |a| act(s, a));
        }
        KeyCode::Down => (at + 1) % n,
        KeyCode::Up => (at + n - 1) % n,
        KeyCode::Backspace => {
            input.backspace();
            0
        }
        KeyCode::Char(c) if !key.modifiers.intersects(KeyModifiers::CONTROL | KeyModifiers::ALT) => {
            input.insert(c);
            0
        }
        _ => at,
    };
    s.overlay = Overlay::Palette(input, at);
    vec![]
}
