//! Throw-away servers and terminals for the tests. Never part of the product.
//!
//! Everything is started on free ports with data that is thrown away, and ended by its handle. What is missing fails
//! the test with the package to install; nothing is skipped.

#![cfg_attr(not(test), warn(clippy::too_many_lines))]

mod broker;
pub mod browser;
mod decider;
mod postgres;
mod proxy;

pub use broker::{Broker, Kind};
pub use decider::{Behaviour, Decider};
pub use postgres::Postgres;
pub use proxy::Proxy;

use std::fmt::Write as _;
use std::fs::File;
use std::io::Write as _;
use std::net::TcpListener;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::process::{Child, Command, Output, Stdio};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How long a test waits for a condition before it fails.
pub const PATIENCE: Duration = Duration::from_secs(60);

/// Fails the test with what to install if a program is missing.
pub fn require(program: &str, package: &str) {
    let found = Command::new("sh").args(["-c", &format!("command -v {program}")]).output();
    assert!(found.is_ok_and(|o| o.status.success()), "{program} is missing: apt-get install {package}");
}

/// Fails the test with what to install if Debian's Python lacks a module.
pub fn require_python(module: &str, package: &str) {
    let found = Command::new("/usr/bin/python3").args(["-c", &format!("import {module}")]).output();
    assert!(found.is_ok_and(|o| o.status.success()), "Python's {module} is missing: apt-get install python3 {package}");
}

/// A port for a server that is started later, and perhaps again: free, like the one after it, and handed out once.
///
/// It lies below the ports that the system gives to whoever names none. One of those would be free for a moment only: any
/// connection that is opened meanwhile may take it. Other test processes keep away from it as long as this one runs.
pub fn free_port() -> u16 {
    static CLAIMED: Mutex<Vec<File>> = Mutex::new(Vec::new());
    const LOWEST: u16 = 10_000;
    let range = std::fs::read_to_string("/proc/sys/net/ipv4/ip_local_port_range").unwrap_or_default();
    let given = range.split_whitespace().next().and_then(|first| first.parse().ok()).unwrap_or(32_768_u16);
    // Where the system gives out low ports too, the higher ones are no worse.
    let end = if given > LOWEST + 2_000 { given } else { 60_000 };
    let user = std::fs::metadata("/proc/self").map_or(0, |own| own.uid());
    let claims = std::env::temp_dir().join(format!("gossip-test-ports-{user}"));
    std::fs::create_dir_all(&claims).expect("a folder for claims");
    let mut claimed = CLAIMED.lock().unwrap_or_else(PoisonError::into_inner);
    let claim = |port: u16| {
        let file = File::create(claims.join(port.to_string())).ok()?;
        // It is ours as long as it is open; one that is open already is not locked again.
        file.try_lock().ok()?;
        (port..=port + 1).all(|p| TcpListener::bind(("0.0.0.0", p)).is_ok()).then_some((port, file))
    };
    // Not always the same ones: something may still look for a server that was there a moment ago.
    let pairs = (end - LOWEST) / 2;
    let first = (std::process::id().wrapping_mul(509) % u32::from(pairs)) as u16;
    let (port, file) = (0..pairs).map(|n| LOWEST + (first + n) % pairs * 2).find_map(claim).expect("a free port");
    claimed.push(file);
    port
}

/// Waits until `done` gives something; fails with what `what` says.
pub fn wait_for<T>(what: impl Fn() -> String, done: impl FnMut() -> Option<T>) -> T {
    wait_up_to(PATIENCE, what, done)
}

/// As [`wait_for`], for what takes long on a machine that has other things to do; `done` fails where there is no hope.
pub fn wait_up_to<T>(longest: Duration, what: impl Fn() -> String, mut done: impl FnMut() -> Option<T>) -> T {
    let start = Instant::now();
    loop {
        if let Some(found) = done() {
            return found;
        }
        assert!(start.elapsed() < longest, "waited {} s for {}", longest.as_secs(), what());
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// A child process that is ended when the test is over.
pub struct Process(pub Child);

impl Drop for Process {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Process {
    /// Waits until it ends by itself.
    pub fn wait(mut self) -> std::process::ExitStatus {
        wait_for(|| "a process to end".into(), || self.0.try_wait().ok().flatten())
    }
}

/// Runs a program and returns its output, success or not. One that does not end by itself is ended.
pub fn run(program: &Path, args: &[&str], dir: &Path, env: &[(&str, &str)]) -> Output {
    Command::new("timeout")
        .arg(PATIENCE.as_secs().to_string())
        .arg(program)
        .args(args)
        .current_dir(dir)
        .envs(env.iter().copied())
        .output()
        .unwrap_or_else(|e| panic!("{}: {e}", program.display()))
}

/// A certificate and its key, and the authority that vouches for it, as PEM.
pub struct Certificates {
    /// The server's certificate.
    pub certificate: String,
    /// Its key.
    pub key: String,
    /// The authority's certificate.
    pub authority: String,
}

/// Makes a certificate for a host, by an authority of its own.
pub fn certificates(host: &str) -> Certificates {
    let made = || -> Result<Certificates, rcgen::Error> {
        let authority_key = rcgen::KeyPair::generate()?;
        let mut params = rcgen::CertificateParams::new(Vec::new())?;
        params.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
        params.distinguished_name.push(rcgen::DnType::CommonName, format!("authority of {host}"));
        let authority = params.self_signed(&authority_key)?;
        let issuer = rcgen::Issuer::from_params(&params, &authority_key);
        let key = rcgen::KeyPair::generate()?;
        let certificate = rcgen::CertificateParams::new(vec![host.to_string()])?.signed_by(&key, &issuer)?;
        Ok(Certificates { certificate: certificate.pem(), key: key.serialize_pem(), authority: authority.pem() })
    };
    made().expect("a certificate")
}

/// Feeds SQL to the `sqlite3` program: a writer that is not ours.
pub fn sqlite3(db: &Path, sql: &str) -> Process {
    require("sqlite3", "sqlite3");
    let mut child = Command::new("sqlite3")
        .args(["-bail", "-cmd", ".timeout 20000"])
        .arg(db)
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .expect("sqlite3");
    let mut stdin = child.stdin.take().expect("a pipe");
    let sql = sql.to_string();
    std::thread::spawn(move || stdin.write_all(sql.as_bytes()));
    Process(child)
}

/// A program in a terminal of its own, driven by keys and read by its screen.
pub struct Tmux {
    socket: String,
}

impl Tmux {
    /// Starts a command in a terminal of this size.
    pub fn start(columns: u16, rows: u16, command: &str) -> Tmux {
        require("tmux", "tmux");
        let socket = format!("gossip-test-{}-{}", std::process::id(), free_port());
        let t = Tmux { socket };
        let (x, y) = (columns.to_string(), rows.to_string());
        let shell = format!("{command}; echo \"[exit $?]\"; sleep 600");
        t.tmux(&["-f", "/dev/null", "new-session", "-d", "-x", &x, "-y", &y, &shell]);
        t.tmux(&["set", "-g", "status", "off"]);
        t
    }

    fn tmux(&self, args: &[&str]) -> String {
        let output = Command::new("tmux").args(["-L", &self.socket]).args(args).output().expect("tmux");
        assert!(output.status.success(), "tmux {args:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    /// Presses a key by tmux's name for it.
    pub fn key(&self, key: &str) {
        self.tmux(&["send-keys", key]);
    }

    /// Types text as it is.
    pub fn type_text(&self, text: &str) {
        self.tmux(&["send-keys", "-l", text]);
    }

    /// Changes the size of the window.
    pub fn resize(&self, columns: u16, rows: u16) {
        self.tmux(&["resize-window", "-x", &columns.to_string(), "-y", &rows.to_string()]);
    }

    /// What is on the screen.
    pub fn screen(&self) -> String {
        self.tmux(&["capture-pane", "-p"])
    }

    /// Waits until the screen fulfils a condition, and returns it. It may be half drawn, new above and old below: put
    /// everything that a test then relies on into the condition.
    pub fn wait(&self, what: &str, done: impl Fn(&str) -> bool) -> String {
        let describe = || {
            let mut text = format!("{what}; the screen is:\n");
            let _ = write!(text, "{}", self.screen());
            text
        };
        wait_for(describe, || Some(self.screen()).filter(|s| done(s)))
    }

    /// Waits until a text is on the screen.
    pub fn wait_text(&self, text: &str) -> String {
        self.wait(&format!("{text:?}"), |s| s.contains(text))
    }
}

impl Drop for Tmux {
    fn drop(&mut self) {
        let _ = Command::new("tmux").args(["-L", &self.socket, "kill-server"]).output();
    }
}
