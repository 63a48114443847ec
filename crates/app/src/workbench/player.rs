//! How far a recording has been played, and how fast it goes on.

use std::collections::HashMap;

use crate::recording::Event;
use crate::workbench::ids::{Timestamp, WatcherId};

/// How many times as fast as it was a recording can be played.
pub const SPEEDS: [f64; 7] = [0.1, 0.25, 0.5, 1.0, 2.0, 5.0, 20.0];

/// As fast as it was.
const USUAL: usize = 3;

/// A recording that is played.
#[derive(Clone, Debug)]
pub struct Player {
    /// All events, in the order in which they arrived.
    pub events: Vec<Event>,
    /// Those that have been applied.
    pub applied: usize,
    /// Until when it has been played, by the recording's clock.
    pub clock: Timestamp,
    /// Whether it goes on by itself.
    pub playing: bool,
    /// Which of [`SPEEDS`].
    pub speed: usize,
    /// Whether it is to begin anew.
    pub rewind: bool,
    /// Transactions that are still to be played at once.
    pub steps: usize,
    /// When it was looked at last, by our own clock.
    pub looked: Option<Timestamp>,
    /// Watchers by the labels that the recording has.
    pub watchers: HashMap<String, WatcherId>,
}

impl Player {
    /// At the beginning.
    pub fn new(events: Vec<Event>) -> Player {
        let clock = events.first().map_or(0, |event| event.at);
        Player {
            events,
            applied: 0,
            clock,
            playing: false,
            speed: USUAL,
            rewind: false,
            steps: 0,
            looked: None,
            watchers: HashMap::new(),
        }
    }

    /// Whether everything has been played.
    pub fn is_over(&self) -> bool {
        self.applied >= self.events.len()
    }

    /// Plays, or pauses; at the end it begins anew.
    pub fn play_or_pause(&mut self) {
        self.playing = !self.playing;
        self.rewind = self.playing && self.is_over();
        self.looked = None;
    }

    /// Goes on faster or more slowly.
    pub fn change_speed(&mut self, by: isize) {
        self.speed = self.speed.saturating_add_signed(by).min(SPEEDS.len() - 1);
    }

    /// How it stands, for the head line.
    pub fn text(&self) -> String {
        let speed = SPEEDS[self.speed.min(SPEEDS.len() - 1)];
        match (self.playing, self.is_over()) {
            (true, _) => format!("played at {speed}×"),
            (false, true) => "at its end".into(),
            (false, false) => format!("paused, {} of {} events, {speed}×", self.applied, self.events.len()),
        }
    }
}
