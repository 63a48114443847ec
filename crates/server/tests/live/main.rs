//! Real instances on a real database over real sockets.
#![allow(clippy::unwrap_used)]

mod apart;
mod arranged;
mod audited;
mod besieged;
mod brokers;
mod clients;
mod common;
mod computed;
mod deciding;
mod events;
mod fire;
mod forged;
mod frozen;
mod hidden;
mod hostile;
mod instance;
mod joined;
mod load;
mod needs;
mod recipes;
mod restored;
mod revoking;
mod rights;
mod row_changes;
mod schema;
mod selective;
mod sending;
mod told;
mod topics;
mod web;
mod what_if;
mod windows;
mod wrapped;
