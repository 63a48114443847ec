//! PostgreSQL servers that are thrown away.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use crate::free_port;

/// A PostgreSQL server with an empty database, ready for logical replication.
pub struct Postgres {
    dir: tempfile::TempDir,
    bin: PathBuf,
    port: u16,
}

/// Settings of every server here, over which a test may give others.
const SETTINGS: [&str; 5] = [
    "wal_level=logical",
    "max_prepared_transactions=50",
    "listen_addresses=127.0.0.1",
    // Data that is thrown away need not survive the machine, only the server.
    "fsync=off",
    "max_connections=200",
];

impl Postgres {
    /// Starts one. As root it runs as the user `postgres`, as the server insists.
    pub fn start() -> Postgres {
        Postgres::start_with(&[])
    }

    /// Starts one with further settings, as `name=value`.
    pub fn start_with(settings: &[&str]) -> Postgres {
        let server = Postgres { dir: tempfile::tempdir().expect("a directory"), bin: binaries(), port: free_port() };
        if is_root() {
            let done = Command::new("chown").arg("postgres").arg(server.dir.path()).status();
            assert!(done.is_ok_and(|s| s.success()), "chown");
        }
        let (data, sockets) = (server.data(), server.dir.path().to_string_lossy().into_owned());
        server.run("initdb", &["-D", &data, "-U", "test", "-A", "trust", "--locale=C", "-E", "UTF8", "-N"]);
        let mut text = format!("port={}\nunix_socket_directories='{sockets}'\n", server.port);
        for setting in SETTINGS.iter().chain(settings) {
            let (name, value) = setting.split_once('=').expect("name=value");
            text.push_str(&format!("{name} = '{value}'\n"));
        }
        server.configure(&text);
        server.start_again();
        server
    }

    fn data(&self) -> String {
        self.dir.path().join("data").to_string_lossy().into_owned()
    }

    /// A standby of this server, which follows it.
    pub fn standby(&self) -> Postgres {
        let standby = Postgres { dir: tempfile::tempdir().expect("a directory"), bin: binaries(), port: free_port() };
        if is_root() {
            let done = Command::new("chown").arg("postgres").arg(standby.dir.path()).status();
            assert!(done.is_ok_and(|s| s.success()), "chown");
        }
        let (data, port) = (standby.data(), self.port.to_string());
        let primary = ["-h", "127.0.0.1", "-p", &port, "-U", "test", "-R", "-X", "stream", "-c", "fast", "-D", &data];
        self.run("pg_basebackup", &primary);
        standby.configure(&format!(
            "port={}\nunix_socket_directories='{}'\nhot_standby=on\n",
            standby.port,
            standby.dir.path().display()
        ));
        standby.start_again();
        standby
    }

    /// Adds to the configuration; in force after the next start.
    pub fn configure(&self, text: &str) {
        self.append("postgresql.conf", text);
    }

    /// Replaces how clients must authenticate; in force after the next start.
    pub fn authenticate(&self, lines: &str) {
        let file = Path::new(&self.data()).join("pg_hba.conf");
        std::fs::write(file, lines).expect("pg_hba.conf");
    }

    /// A file in the server's own folder, readable by the server alone.
    pub fn file(&self, name: &str, content: &str) {
        let path = Path::new(&self.data()).join(name);
        std::fs::write(&path, content).expect("a file");
        let _ = Command::new("chmod").arg("600").arg(&path).status();
        if is_root() {
            let _ = Command::new("chown").arg("postgres").arg(&path).status();
        }
    }

    fn append(&self, file: &str, text: &str) {
        let path = Path::new(&self.data()).join(file);
        let before = std::fs::read_to_string(&path).expect("a configuration");
        std::fs::write(path, before + text).expect("a configuration");
    }

    /// Starts it after it was stopped.
    pub fn start_again(&self) {
        let (data, log) = (self.data(), self.log());
        self.run("pg_ctl", &["-D", &data, "-l", &log, "-w", "-t", "60", "start"]);
    }

    /// Where the server writes what happens.
    pub fn log(&self) -> String {
        self.dir.path().join("log").to_string_lossy().into_owned()
    }

    /// Stops it in order.
    pub fn stop(&self) {
        let data = self.data();
        self.run("pg_ctl", &["-D", &data, "-m", "fast", "-w", "stop"]);
    }

    /// Ends it as a crash would.
    pub fn crash(&self) {
        let data = self.data();
        self.run("pg_ctl", &["-D", &data, "-m", "immediate", "-w", "stop"]);
    }

    /// Runs one of the server's programs.
    pub fn run(&self, program: &str, args: &[&str]) {
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
        format!("postgres://test@127.0.0.1:{}/postgres", self.port)
    }

    /// The port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// The folder of its Unix-domain socket.
    pub fn socket_folder(&self) -> &Path {
        self.dir.path()
    }
}

impl Drop for Postgres {
    fn drop(&mut self) {
        let data = self.data();
        if Path::new(&data).join("postmaster.pid").exists() {
            self.run("pg_ctl", &["-D", &data, "-m", "immediate", "-w", "stop"]);
        }
    }
}

fn binaries() -> PathBuf {
    let versions = std::fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
    let mut found: Vec<PathBuf> =
        versions.map(|v| v.path().join("bin")).filter(|b| b.join("initdb").exists()).collect();
    found.sort();
    found.pop().expect("PostgreSQL is missing: apt-get install postgresql")
}

fn is_root() -> bool {
    std::fs::metadata("/proc/self").is_ok_and(|m| std::os::unix::fs::MetadataExt::uid(&m) == 0)
}
