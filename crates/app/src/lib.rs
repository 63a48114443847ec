//! The command line and the workbench.
//!
//! [`charts`] counts what happens over time; [`cli`] lists the commands; [`commands`] has one file for each. [`demo`] is
//! the shipped scenario, [`workbench`] the full-screen application, [`setup`] the first-run dialog that creates a
//! configuration, [`relay_map`] the drawing of a cluster. The workbench knows instances only as a client does: through the
//! protocol.

#![cfg_attr(not(test), warn(clippy::too_many_lines))]

pub mod charts;
pub mod cli;
pub mod commands;
pub mod config_file;
pub mod demo;
pub mod following;
pub mod incident;
pub mod local;
pub mod outcome;
pub mod personas;
pub mod recording;
pub mod relay_map;
pub mod setup;
pub mod signals;
pub mod workbench;
