//! Keys of the frames overlay.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

use super::state::{Frame, Log, Looking, Whose, place};
use crate::workbench::message::Effect;
use crate::workbench::state::{Overlay, State};

/// Handles a key.
pub fn key(s: &mut State, key: KeyEvent, mut looking: Looking) -> Vec<Effect> {
    let frames = shown(s, &looking);
    let last = frames.len().saturating_sub(1);
    let at = place(&frames, &looking);
    let choose = |at: usize| frames.get(at.min(last)).map(|f| f.number);
    let plain = !key.modifiers.intersects(KeyModifiers::CONTROL | KeyModifiers::ALT);
    match key.code {
        KeyCode::Esc | KeyCode::Enter if looking.finding => looking.finding = false,
        KeyCode::Backspace if looking.finding => looking.find.backspace(),
        KeyCode::Char(c) if looking.finding && plain => {
            looking.find.insert(c);
            looking.chosen = None;
        }
        KeyCode::Esc => {
            s.overlay = Overlay::None;
            return vec![];
        }
        KeyCode::Up => looking.chosen = choose(at.saturating_sub(1)),
        KeyCode::Down => looking.chosen = choose(at + 1),
        KeyCode::PageUp => looking.chosen = choose(at.saturating_sub(20)),
        KeyCode::PageDown => looking.chosen = choose(at + 20),
        KeyCode::Home => looking.chosen = None,
        KeyCode::Char('/') => looking.finding = true,
        KeyCode::Char('h') => looking.beats = !looking.beats,
        KeyCode::Char('y') => {
            if let Some(frame) = frames.get(at) {
                s.notice = Some((s.now, format!("copied: {} bytes", frame.text.len())));
                return vec![Effect::Copy(frame.text.to_string())];
            }
        }
        _ => {}
    }
    s.overlay = Overlay::Frames(looking);
    vec![]
}

/// The frames that match the search.
pub fn shown(s: &State, looking: &Looking) -> Vec<Frame> {
    let of = |log: &Log| log.with(looking.find.text(), looking.beats);
    match looking.whose {
        Whose::Watcher(id) => s.watcher(id).map(|w| of(&w.frames)).unwrap_or_default(),
        Whose::Client => of(&s.clients.frames),
    }
}
