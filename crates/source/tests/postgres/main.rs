//! The PostgreSQL source against a real server: values, structure, findings, ways to connect.
#![allow(clippy::unwrap_used)]

mod common;
mod connections;
mod findings;
mod structure;
mod types;
