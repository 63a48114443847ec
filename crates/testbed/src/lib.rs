//! Throw-away servers and terminals for the tests. Never part of the product.
//!
//! Everything is started on free ports with data that is thrown away, and ended by its handle. What is missing fails
//! the test with the package to install; nothing is skipped.

use std::fmt::Write as _;
use std::io::Write as _;
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

/// How long a test waits for a condition before it fails.
pub const PATIENCE: Duration = Duration::from_secs(60);

/// Fails the test with what to install if a program is missing.
pub fn require(program: &str, package: &str) {
    let found = Command::new("sh").args(["-c", &format!("command -v {program}")]).output();
    assert!(found.is_ok_and(|o| o.status.success()), "{program} is missing: apt-get install {package}");
}

/// A port that was free a moment ago.
pub fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).map(|a| a.port()).expect("a free port")
}

/// Waits until `done` gives something; fails with what `what` says.
pub fn wait_for<T>(what: impl Fn() -> String, mut done: impl FnMut() -> Option<T>) -> T {
    let start = Instant::now();
    loop {
        if let Some(found) = done() {
            return found;
        }
        assert!(start.elapsed() < PATIENCE, "waited {} s for {}", PATIENCE.as_secs(), what());
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

    /// Waits until the screen fulfils a condition, and returns it.
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

/// A PostgreSQL server with an empty database.
pub struct Postgres {
    dir: tempfile::TempDir,
    bin: PathBuf,
    port: u16,
}

impl Postgres {
    /// Starts one. As root it runs as the user `postgres`, as the server insists.
    pub fn start() -> Postgres {
        let bin = Self::binaries();
        let dir = tempfile::tempdir().expect("a directory");
        let data = dir.path().join("data");
        let port = free_port();
        let own = |path: &Path| {
            if is_root() {
                let done = Command::new("chown").arg("postgres").arg(path).status();
                assert!(done.is_ok_and(|s| s.success()), "chown");
            }
        };
        own(dir.path());
        let server = Postgres { dir, bin, port };
        let data = data.to_string_lossy().into_owned();
        server.as_owner("initdb", &["-D", &data, "-U", "test", "-A", "trust", "--locale=C", "-E", "UTF8", "-N"]);
        let options = format!("-F -p {port} -c listen_addresses=127.0.0.1 -c unix_socket_directories=''");
        let log = format!("{data}/log");
        server.as_owner("pg_ctl", &["-D", &data, "-l", &log, "-w", "-o", &options, "start"]);
        server
    }

    fn binaries() -> PathBuf {
        let versions = std::fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
        let mut found: Vec<PathBuf> =
            versions.map(|v| v.path().join("bin")).filter(|b| b.join("initdb").exists()).collect();
        found.sort();
        found.pop().expect("PostgreSQL is missing: apt-get install postgresql")
    }

    fn as_owner(&self, program: &str, args: &[&str]) {
        let program = self.bin.join(program);
        let mut command = match is_root() {
            true => {
                let mut c = Command::new("runuser");
                c.args(["-u", "postgres", "--"]).arg(&program);
                c
            }
            false => Command::new(&program),
        };
        // The server keeps what it inherits: a pipe here would never end.
        let status =
            command.args(args).current_dir(self.dir.path()).stdout(Stdio::null()).stderr(Stdio::null()).status();
        assert!(status.is_ok_and(|s| s.success()), "{} {args:?}", program.display());
    }

    /// How to connect.
    pub fn url(&self) -> String {
        format!("host=127.0.0.1 port={} user=test dbname=postgres", self.port)
    }
}

impl Drop for Postgres {
    fn drop(&mut self) {
        let data = self.dir.path().join("data").to_string_lossy().into_owned();
        self.as_owner("pg_ctl", &["-D", &data, "-m", "immediate", "-w", "stop"]);
    }
}

fn is_root() -> bool {
    std::fs::metadata("/proc/self").is_ok_and(|m| std::os::unix::fs::MetadataExt::uid(&m) == 0)
}
