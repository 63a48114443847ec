//! The raw frames of watchers, as they went over the socket: the newest few hundred of each, both directions.

use std::collections::VecDeque;
use std::sync::Arc;

use gossip_client::Direction;
use parking_lot::Mutex;
use serde_json::Value as Json;

use crate::workbench::ids::{Micros, WatcherId};
use crate::workbench::input::Input;

/// Frames of one watcher that are kept.
const MAX_FRAMES: usize = 300;

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
        frames.truncate(MAX_FRAMES);
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

/// A frame on several lines.
pub fn pretty(text: &str) -> String {
    serde_json::from_str::<Json>(text).and_then(|j| serde_json::to_string_pretty(&j)).unwrap_or(text.to_string())
}
