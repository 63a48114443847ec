//! A way to a server that can be cut, or freeze.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::Duration;

/// Passes bytes between a port of its own and a server's, until it is cut.
pub struct Proxy {
    port: u16,
    cut: Arc<AtomicBool>,
    frozen: Arc<AtomicBool>,
    open: Arc<Mutex<Vec<TcpStream>>>,
}

impl Proxy {
    /// A way to the server at this port.
    pub fn to(server: u16) -> Proxy {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = listener.local_addr().expect("a port").port();
        let proxy = Proxy { port, cut: Arc::default(), frozen: Arc::default(), open: Arc::default() };
        let (cut, frozen, open) = (proxy.cut.clone(), proxy.frozen.clone(), Arc::downgrade(&proxy.open));
        thread::spawn(move || {
            for client in listener.incoming().flatten() {
                let Some(open) = open.upgrade() else { return };
                let Ok(server) = TcpStream::connect(("127.0.0.1", server)) else { continue };
                if cut.load(Relaxed) {
                    continue;
                }
                let both = [(&client, &server), (&server, &client)];
                for (from, to) in both {
                    let (Ok(from), Ok(to)) = (from.try_clone(), to.try_clone()) else { continue };
                    let frozen = frozen.clone();
                    thread::spawn(move || pass(from, to, &frozen));
                }
                open.lock().unwrap_or_else(PoisonError::into_inner).extend([client, server]);
            }
        });
        proxy
    }

    /// Its own port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Ends all connections, and makes none, until [`Proxy::fix`].
    pub fn cut(&self) {
        self.cut.store(true, Relaxed);
        for socket in self.open.lock().unwrap_or_else(PoisonError::into_inner).drain(..) {
            let _ = socket.shutdown(Shutdown::Both);
        }
    }

    /// Passes nothing on, on connections that stand and on new ones, and says nothing of it, until [`Proxy::fix`].
    pub fn freeze(&self) {
        self.frozen.store(true, Relaxed);
    }

    /// Lets connections through again.
    pub fn restore(&self) {
        self.cut.store(false, Relaxed);
        self.frozen.store(false, Relaxed);
    }
}

fn pass(mut from: TcpStream, mut to: TcpStream, frozen: &AtomicBool) {
    let mut some = [0; 16 * 1024];
    while let Ok(n @ 1..) = from.read(&mut some) {
        while frozen.load(Relaxed) {
            thread::sleep(Duration::from_millis(20));
        }
        if to.write_all(&some[..n]).is_err() {
            break;
        }
    }
    let _ = (from.shutdown(Shutdown::Both), to.shutdown(Shutdown::Both));
}
