//! The raw frames of watchers, as they went over the socket: the newest few hundred of each, both directions.

use std::collections::VecDeque;
use std::sync::Arc;

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use gossip_client::Direction;
use parking_lot::Mutex;
use serde_json::Value as Json;

use super::input::Input;
use super::message::Effect;
use super::state::{Micros, Overlay, State, WatcherId};

/// Frames of one watcher that are kept.
const KEPT: usize = 300;

/// A frame.
#[derive(Clone, Debug)]
pub struct Frame {
    /// When it was sent or arrived.
    pub at: Micros,
    /// Which way it went.
    pub direction: Direction,
    /// Its text.
    pub text: Arc<str>,
}

/// A watcher's frames, newest first. The watcher's connection writes, the screen reads.
#[derive(Clone, Debug, Default)]
pub struct Log(Arc<Mutex<VecDeque<Frame>>>);

impl Log {
    /// Notes a frame.
    pub fn note(&self, at: Micros, direction: Direction, text: &str) {
        let mut frames = self.0.lock();
        frames.push_front(Frame { at, direction, text: text.into() });
        frames.truncate(KEPT);
    }

    /// The frames that contain a text.
    pub fn with(&self, text: &str) -> Vec<Frame> {
        let wanted = text.to_lowercase();
        let fits = |f: &&Frame| wanted.is_empty() || f.text.to_lowercase().contains(&wanted);
        self.0.lock().iter().filter(fits).cloned().collect()
    }
}

/// What is looked at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Looking {
    /// Whose frames.
    pub watcher: WatcherId,
    /// The chosen one, by its place among those that fit.
    pub at: usize,
    /// Only frames with this text.
    pub find: Input,
    /// Whether keys go into it.
    pub finding: bool,
}

/// The frames that fit, as they were when the flow of them was last let go.
pub fn shown(s: &State, looking: &Looking) -> Vec<Frame> {
    s.watcher(looking.watcher).map(|w| w.frames.with(looking.find.text())).unwrap_or_default()
}

/// A frame on several lines.
pub fn pretty(text: &str) -> String {
    serde_json::from_str::<Json>(text).and_then(|j| serde_json::to_string_pretty(&j)).unwrap_or(text.to_string())
}

/// A key while frames are looked at.
pub fn key(s: &mut State, key: KeyEvent, mut looking: Looking) -> Vec<Effect> {
    let frames = shown(s, &looking);
    let last = frames.len().saturating_sub(1);
    let plain = !key.modifiers.intersects(KeyModifiers::CONTROL | KeyModifiers::ALT);
    match key.code {
        KeyCode::Esc | KeyCode::Enter if looking.finding => looking.finding = false,
        KeyCode::Backspace if looking.finding => looking.find.backspace(),
        KeyCode::Char(c) if looking.finding && plain => {
            looking.find.insert(c);
            looking.at = 0;
        }
        KeyCode::Esc => {
            s.overlay = Overlay::None;
            return vec![];
        }
        KeyCode::Up => looking.at = looking.at.saturating_sub(1),
        KeyCode::Down => looking.at = (looking.at + 1).min(last),
        KeyCode::PageUp => looking.at = looking.at.saturating_sub(20),
        KeyCode::PageDown => looking.at = (looking.at + 20).min(last),
        KeyCode::Char('/') => looking.finding = true,
        KeyCode::Char('y') => {
            if let Some(frame) = frames.get(looking.at.min(last)) {
                s.notice = Some((s.now, format!("copied: {} bytes", frame.text.len())));
                return vec![Effect::Copy(frame.text.to_string())];
            }
        }
        _ => {}
    }
    s.overlay = Overlay::Frames(looking);
    vec![]
}
