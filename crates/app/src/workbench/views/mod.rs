//! The views: a folder each, with its state, what changes it, and how it is drawn.

pub mod ask;
pub mod charts;
pub mod clients;
pub mod earshot;
pub mod relay;
pub mod rules;
pub mod steps;
pub mod tables;
