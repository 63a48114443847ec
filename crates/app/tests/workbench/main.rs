//! The real workbench in a real terminal, driven by keys.
#![allow(clippy::unwrap_used)]

mod demo;
mod elsewhere;
mod own;
mod relay;
mod rules;
