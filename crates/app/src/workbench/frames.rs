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
    /// Its number among all of its watcher.
    pub number: u64,
    /// When it was sent or arrived.
    pub at: Micros,
    /// Which way it went.
    pub direction: Direction,
    /// Its text.
    pub text: Arc<str>,
}

/// A watcher's frames, newest first. The watcher's connection writes, the screen reads.
#[derive(Clone, Debug, Default)]
pub struct Log(Arc<Mutex<(u64, VecDeque<Frame>)>>);

impl Log {
    /// Notes a frame.
    pub fn note(&self, at: Micros, direction: Direction, text: &str) {
        let (number, frames) = &mut *self.0.lock();
        *number += 1;
        frames.push_front(Frame { number: *number, at, direction, text: text.into() });
        frames.truncate(KEPT);
    }

    /// The frames that contain a text.
    pub fn with(&self, text: &str) -> Vec<Frame> {
        let wanted = text.to_lowercase();
        let fits = |f: &&Frame| wanted.is_empty() || f.text.to_lowercase().contains(&wanted);
        self.0.lock().1.iter().filter(fits).cloned().collect()
    }
}

/// What is looked at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Looking {
    /// Whose frames.
    pub watcher: WatcherId,
    /// The number of the chosen one; the newest if `None`. More may come meanwhile.
    pub chosen: Option<u64>,
    /// Only frames with this text.
    pub find: Input,
    /// Whether keys go into it.
    pub finding: bool,
}

/// The place of the chosen frame among those that fit. One that is gone is followed by the oldest that is there.
pub fn place(frames: &[Frame], looking: &Looking) -> usize {
    let last = frames.len().saturating_sub(1);
    looking.chosen.map_or(0, |n| frames.iter().position(|f| f.number <= n).unwrap_or(last))
}

/// The frames that fit.
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
