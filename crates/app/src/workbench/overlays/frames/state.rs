//! Raw frames: the newest few hundred, in both directions.

use std::collections::VecDeque;
use std::sync::Arc;

use gossip_client::Direction;
use parking_lot::Mutex;
use serde_json::Value as Json;

use super::words::is_beat;

use crate::workbench::ids::{Timestamp, WatcherId};
use crate::workbench::input::Input;

/// Most frames kept per watcher.
const MAX_FRAMES: usize = 300;

/// A frame.
#[derive(Clone, Debug)]
pub struct Frame {
    /// Its number, per watcher.
    pub number: u64,
    /// When it was sent or arrived.
    pub at: Timestamp,
    /// Sent or received.
    pub direction: Direction,
    /// Its text; of a client that is not this workbench's own it may be cut.
    pub text: Arc<str>,
    /// Bytes of the whole text.
    pub bytes: usize,
}

/// A watcher's frames, newest first. Written by the watcher's task, read by the screen.
#[derive(Clone, Debug, Default)]
pub struct Log(Arc<Mutex<(u64, VecDeque<Frame>)>>);

impl Log {
    /// Adds a frame.
    pub fn note(&self, at: Timestamp, direction: Direction, text: &str) {
        self.note_cut(at, direction, text, text.len());
    }

    /// Adds a frame of which perhaps only the beginning is known.
    pub fn note_cut(&self, at: Timestamp, direction: Direction, text: &str, bytes: usize) {
        let (number, frames) = &mut *self.0.lock();
        *number += 1;
        frames.push_front(Frame { number: *number, at, direction, text: text.into(), bytes });
        frames.truncate(MAX_FRAMES);
    }

    /// The frames that contain a text; without those that only say that all is well, if these are not wanted.
    pub fn with(&self, text: &str, beats: bool) -> Vec<Frame> {
        let wanted = text.to_lowercase();
        let fits =
            |f: &&Frame| (beats || !is_beat(&f.text)) && (wanted.is_empty() || f.text.to_lowercase().contains(&wanted));
        self.0.lock().1.iter().filter(fits).cloned().collect()
    }
}

/// State of the overlay.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Looking {
    /// Whose frames.
    pub whose: Whose,
    /// Number of the selected frame; the newest if `None`. More frames may arrive meanwhile.
    pub chosen: Option<u64>,
    /// Only frames with this text.
    pub find: Input,
    /// Whether the search field has the focus.
    pub finding: bool,
    /// Whether frames are shown that only say that all is well.
    pub beats: bool,
}

/// Whose frames are shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Whose {
    /// A watcher's.
    Watcher(WatcherId),
    /// Those of the client that Clients follows.
    Client,
}

impl Looking {
    /// At the newest frame.
    pub fn of(whose: Whose) -> Looking {
        Looking { whose, chosen: None, find: Input::default(), finding: false, beats: false }
    }
}

/// Index of the selected frame among those shown; the oldest one if the selected frame is gone.
pub fn place(frames: &[Frame], looking: &Looking) -> usize {
    let last = frames.len().saturating_sub(1);
    looking.chosen.map_or(0, |n| frames.iter().position(|f| f.number <= n).unwrap_or(last))
}

/// A frame, pretty-printed.
pub fn pretty(text: &str) -> String {
    serde_json::from_str::<Json>(text).and_then(|j| serde_json::to_string_pretty(&j)).unwrap_or(text.to_string())
}
