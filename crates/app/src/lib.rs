//! The command line and the workbench.
//!
//! [`cli`] lists the commands; [`commands`] has one file for each. [`demo`] is the shipped scenario, [`workbench`] the
//! full-screen application, [`setup`] the first steps
//! that lead to it, [`relay_map`] the picture of a cluster. The workbench knows instances only as a client does: through the protocol.

pub mod cli;
pub mod commands;
pub mod config_file;
pub mod demo;
pub mod local;
pub mod outcome;
pub mod personas;
pub mod recording;
pub mod relay_map;
pub mod setup;
pub mod workbench;
