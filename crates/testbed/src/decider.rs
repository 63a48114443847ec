//! A stand-in for an application that decides about rights: it is asked over HTTP, and can be slow, dead or lying.

use std::collections::HashMap;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// How it behaves.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Behaviour {
    /// It answers as configured.
    Answers,
    /// It takes the question and says nothing.
    Silent,
    /// It breaks the connection off.
    Dead,
    /// It answers this status and body to everything.
    Says(u16, String),
}

#[derive(Default)]
struct Known {
    /// Bodies by subject.
    answers: HashMap<String, String>,
    behaviour: Option<Behaviour>,
    /// Every question, its head and its body.
    asked: Vec<(String, String)>,
}

/// The server. Ends when it is dropped.
pub struct Decider {
    address: SocketAddr,
    known: Arc<Mutex<Known>>,
    ended: Arc<AtomicBool>,
}

impl Decider {
    /// Listens on a free port and answers nothing to nobody.
    pub fn start() -> Decider {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a free port");
        let address = listener.local_addr().expect("its address");
        let (known, ended) = (Arc::new(Mutex::new(Known::default())), Arc::new(AtomicBool::new(false)));
        let (of, end) = (known.clone(), ended.clone());
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                if end.load(SeqCst) {
                    return;
                }
                let (of, end) = (of.clone(), end.clone());
                std::thread::spawn(move || drop(serve(stream, &of, &end)));
            }
        });
        Decider { address, known, ended }
    }

    /// Where it is asked.
    pub fn url(&self) -> String {
        format!("http://{}/rights", self.address)
    }

    /// From now on this is the answer about a subject.
    pub fn about(&self, subject: &str, body: &str) {
        self.with(|k| k.answers.insert(subject.into(), body.into()));
    }

    /// From now on it behaves so.
    pub fn behave(&self, behaviour: Behaviour) {
        self.with(|k| k.behaviour = Some(behaviour));
    }

    /// Every question so far: head and body.
    pub fn asked(&self) -> Vec<(String, String)> {
        self.with(|k| k.asked.clone())
    }

    fn with<T>(&self, f: impl FnOnce(&mut Known) -> T) -> T {
        f(&mut self.known.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

impl Drop for Decider {
    fn drop(&mut self) {
        self.ended.store(true, SeqCst);
        let _ = TcpStream::connect(self.address);
    }
}

fn serve(mut stream: TcpStream, known: &Mutex<Known>, ended: &AtomicBool) -> std::io::Result<()> {
    stream.set_read_timeout(Some(Duration::from_secs(60)))?;
    let mut reader = BufReader::new(stream.try_clone()?);
    loop {
        let (mut head, mut length) = (String::new(), 0);
        loop {
            let mut line = String::new();
            if reader.read_line(&mut line)? == 0 {
                return Ok(());
            }
            if line == "\r\n" {
                break;
            }
            if let Some(n) = line.to_ascii_lowercase().strip_prefix("content-length:") {
                length = n.trim().parse().unwrap_or(0);
            }
            head += &line;
        }
        let mut body = vec![0; length];
        reader.read_exact(&mut body)?;
        let body = String::from_utf8_lossy(&body).into_owned();
        let (behaviour, answer) = {
            let mut k = known.lock().unwrap_or_else(PoisonError::into_inner);
            k.asked.push((head, body.clone()));
            let named = |subject: &&String| body.contains(&format!("\"subject\":\"{subject}\""));
            let subject = k.answers.keys().find(named).cloned();
            let answer = subject.and_then(|s| k.answers.get(&s).cloned()).unwrap_or_else(|| r#"{"claims":{}}"#.into());
            (k.behaviour.clone().unwrap_or(Behaviour::Answers), answer)
        };
        let (status, text) = match behaviour {
            Behaviour::Answers => (200, answer),
            Behaviour::Says(status, text) => (status, text),
            Behaviour::Dead => return Ok(()),
            Behaviour::Silent => {
                while !ended.load(SeqCst) {
                    std::thread::sleep(Duration::from_millis(50));
                }
                return Ok(());
            }
        };
        write!(stream, "HTTP/1.1 {status} X\r\nContent-Length: {}\r\n\r\n{text}", text.len())?;
    }
}
