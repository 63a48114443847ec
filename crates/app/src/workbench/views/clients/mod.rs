//! Clients: who is connected to the cluster, what waits for whom, and what goes over a connection.

pub mod draw;
pub mod state;
pub mod update;
