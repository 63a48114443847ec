//! The real workbench in a real terminal, driven by keys.
#![allow(clippy::unwrap_used)]

mod actions;
mod demo;
mod elsewhere;
mod first_steps;
mod relay;
mod rules;
