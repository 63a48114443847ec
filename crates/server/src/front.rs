//! Where connections come in: who gets a seat, and how long anybody may take to say what they want.
//!
//! A seat is a file descriptor, of which a process has few; so there is one for every connection from its first byte on,
//! also for those who never say anything. An address has a share of them, so that nobody is kept out by one machine. A
//! request's head has to come within [`HEAD`], however slowly it drips, and a connection that waits for its next request
//! waits no longer than that either.

use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::extract::ConnectInfo;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use parking_lot::Mutex;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;
use tokio::task::JoinSet;
use tower::ServiceExt;

use crate::supervisor::faults;

/// Longest time from one request, or from the beginning, to the end of the next request's head.
pub const HEAD: Duration = Duration::from_secs(10);

/// Connections of one instance, where the system has that many descriptors.
const MAX_CONNECTIONS: usize = 20_000;

/// Descriptors that are left for everything else: the database, the broker, files.
const RESERVED: usize = 64;

/// A process asks the system for so many descriptors, as far as it may.
const DESCRIPTORS: u64 = 65_536;

/// After the system has refused another descriptor.
const REST: Duration = Duration::from_millis(50);

/// The seats of one instance.
#[derive(Debug)]
pub struct Seats {
    most: usize,
    of_address: usize,
    taken: Mutex<(usize, HashMap<IpAddr, usize>)>,
}

/// A seat, given back when it is dropped.
#[derive(Debug)]
pub struct Seat {
    seats: Arc<Seats>,
    address: IpAddr,
}

impl Seats {
    /// As many as the system has descriptors for; three quarters of them for one address.
    pub fn new() -> Seats {
        Seats::of(descriptors().saturating_sub(RESERVED).clamp(16, MAX_CONNECTIONS))
    }

    fn of(most: usize) -> Seats {
        Seats { most, of_address: most - most / 4, taken: Mutex::default() }
    }

    /// A seat for a client at this address, unless all are taken or its share is.
    pub fn take(self: &Arc<Self>, address: IpAddr) -> Option<Arc<Seat>> {
        let mut taken = self.taken.lock();
        let (all, by_address) = &mut *taken;
        let own = by_address.get(&address).copied().unwrap_or(0);
        if *all >= self.most || own >= self.of_address {
            return None;
        }
        *all += 1;
        by_address.insert(address, own + 1);
        Some(Arc::new(Seat { seats: self.clone(), address }))
    }
}

impl Default for Seats {
    fn default() -> Self {
        Seats::new()
    }
}

impl Drop for Seat {
    fn drop(&mut self) {
        let mut taken = self.seats.taken.lock();
        let (all, by_address) = &mut *taken;
        *all -= 1;
        if let Some(own) = by_address.get_mut(&self.address) {
            *own -= 1;
            if *own == 0 {
                by_address.remove(&self.address);
            }
        }
    }
}

/// How many descriptors this process may have open; asks for more where it may.
fn descriptors() -> usize {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let now = getrlimit(Resource::Nofile);
    let wanted = now.maximum.map_or(DESCRIPTORS, |most| most.min(DESCRIPTORS));
    if now.current.is_some_and(|current| current < wanted) {
        let _ = setrlimit(Resource::Nofile, Rlimit { current: Some(wanted), ..now });
    }
    getrlimit(Resource::Nofile).current.map_or(usize::MAX, |n| usize::try_from(n).unwrap_or(usize::MAX))
}

/// Serves until `stopping`, and then what has begun to its end.
pub async fn serve(listener: TcpListener, router: Router, seats: Arc<Seats>, mut stopping: watch::Receiver<bool>) {
    let mut connections = JoinSet::new();
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            _ = stopping.wait_for(|s| *s) => break,
            Some(_) = connections.join_next(), if !connections.is_empty() => continue,
        };
        faults::pass("front");
        match accepted {
            Ok((tcp, address)) => {
                // A client without a seat is refused at once.
                let Some(seat) = seats.take(address.ip()) else { continue };
                connections.spawn(connection(tcp, address, seat, router.clone(), stopping.clone()));
            }
            Err(e) if is_of_one(&e) => {}
            Err(e) => {
                tracing::warn!("listener: {e}");
                tokio::time::sleep(REST).await;
            }
        }
    }
    while connections.join_next().await.is_some() {}
}

/// Whether it is the connection that is gone, and not the listener that is in trouble.
fn is_of_one(e: &io::Error) -> bool {
    use io::ErrorKind::{ConnectionAborted, ConnectionRefused, ConnectionReset};
    matches!(e.kind(), ConnectionAborted | ConnectionRefused | ConnectionReset)
}

async fn connection(
    tcp: TcpStream,
    address: SocketAddr,
    seat: Arc<Seat>,
    router: Router,
    mut stopping: watch::Receiver<bool>,
) {
    // A delta must not wait for another one to fill a segment.
    let _ = tcp.set_nodelay(true);
    let service = service_fn(move |mut request: hyper::Request<Incoming>| {
        request.extensions_mut().insert(ConnectInfo(address));
        // A socket that outlives the request keeps its seat.
        request.extensions_mut().insert(seat.clone());
        router.clone().oneshot(request)
    });
    let mut builder = http1::Builder::new();
    builder.timer(TokioTimer::new()).header_read_timeout(HEAD);
    let mut serving = std::pin::pin!(builder.serve_connection(TokioIo::new(tcp), service).with_upgrades());
    tokio::select! {
        // What goes wrong with one connection is its own affair.
        _ = &mut serving => return,
        _ = stopping.wait_for(|s| *s) => {}
    }
    serving.as_mut().graceful_shutdown();
    let _ = serving.await;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_address_leaves_seats_for_others() {
        let seats = Arc::new(Seats::of(16));
        let (eve, bob): (IpAddr, IpAddr) = ([10, 0, 0, 1].into(), [10, 0, 0, 2].into());
        let taken: Vec<_> = (0..100).filter_map(|_| seats.take(eve)).collect();
        assert_eq!(taken.len(), 12);
        let others: Vec<_> = (0..100).filter_map(|_| seats.take(bob)).collect();
        assert_eq!(others.len(), 4);
        drop(taken);
        assert!(seats.take(eve).is_some());
        drop(others);
        assert_eq!(seats.taken.lock().0, 0);
    }
}
