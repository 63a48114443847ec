//! Message brokers of the test's own.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use tempfile::TempDir;

use crate::{Certificates, certificates, free_port, require, wait_up_to};

/// A broker that is asked to start may take so long beside other things; one that has ended is not waited for.
const STARTS_WITHIN: Duration = Duration::from_secs(300);

/// Which broker.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// `nats-server`, with JetStream.
    Nats,
    /// `redis-server`; what it has acknowledged is on disk.
    Redis,
    /// `mosquitto`; it keeps nothing.
    Mosquitto,
    /// `rabbitmq-server`.
    Rabbit,
}

impl Kind {
    /// All of them.
    pub const ALL: [Kind; 4] = [Kind::Nats, Kind::Redis, Kind::Mosquitto, Kind::Rabbit];

    fn program(self) -> (&'static str, &'static str) {
        match self {
            Kind::Nats => ("nats-server", "nats-server"),
            Kind::Redis => ("redis-server", "redis-server"),
            Kind::Mosquitto => ("mosquitto", "mosquitto"),
            Kind::Rabbit => ("rabbitmq-server", "rabbitmq-server"),
        }
    }
}

/// A process with all that it has started, ended together.
struct Group(Child);

impl Drop for Group {
    fn drop(&mut self) {
        let group = format!("-{}", self.0.id());
        let _ = Command::new("kill").args(["-9", "--", &group]).stderr(Stdio::null()).status();
        let _ = self.0.wait();
    }
}

/// A running broker; ended when it is dropped.
pub struct Broker {
    kind: Kind,
    dir: TempDir,
    port: u16,
    running: Option<Group>,
    config: String,
    certificates: Option<Certificates>,
}

impl Broker {
    /// Starts one with data of its own.
    pub fn start(kind: Kind) -> Broker {
        Broker::configured(kind, "")
    }

    /// Starts one with this configuration, in the broker's own words.
    pub fn configured(kind: Kind, config: &str) -> Broker {
        let dir = tempfile::tempdir().expect("a folder");
        let certificates = None;
        let mut broker = Broker { kind, dir, port: free_port(), running: None, config: config.into(), certificates };
        broker.run();
        broker
    }

    /// Starts one that speaks TLS only, as `localhost`, by an authority of its own.
    pub fn secured(kind: Kind) -> Broker {
        let certificates = Some(certificates("localhost"));
        let dir = tempfile::tempdir().expect("a folder");
        let mut broker = Broker { kind, dir, port: free_port(), running: None, config: String::new(), certificates };
        broker.run();
        broker
    }

    /// The file with the authority's certificate, of a secured one.
    pub fn authority(&self) -> PathBuf {
        self.dir.path().join("authority.pem")
    }

    /// Its address.
    pub fn url(&self) -> String {
        let (plain, secured) = match self.kind {
            Kind::Nats => ("nats", "tls"),
            Kind::Redis => ("redis", "rediss"),
            Kind::Mosquitto => ("mqtt", "mqtts"),
            Kind::Rabbit => ("amqp", "amqps"),
        };
        match self.certificates {
            None => format!("{plain}://127.0.0.1:{}", self.port),
            Some(_) => format!("{secured}://localhost:{}", self.port),
        }
    }

    /// Its port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Says something as a program without any of our code does: with the broker's own client, or a general one. `name`
    /// is under which words behind `PREFIX.flow`, like `topic.tide`. Fails unless the broker takes it.
    pub fn say(&self, prefix: &str, name: &str, text: &str) {
        let port = self.port.to_string();
        let run = |program: &str, package: &str, args: &[&str]| {
            require(program, package);
            let o = Command::new(program).args(args).output().unwrap_or_else(|e| panic!("{program}: {e}"));
            assert!(o.status.success(), "{program}: {}", String::from_utf8_lossy(&o.stderr));
        };
        match self.kind {
            Kind::Nats => {
                // Its protocol is text, and Debian has no client of its own.
                let said = format!(
                    "CONNECT {{\"verbose\":false}}\r\nPUB {prefix}.flow.{name} {}\r\n{text}\r\nPING\r\n",
                    text.len()
                );
                let mut socket = TcpStream::connect(("127.0.0.1", self.port)).expect("the broker");
                socket.write_all(said.as_bytes()).expect("it takes it");
                let mut heard = String::new();
                while !heard.contains("PONG") {
                    let mut some = [0; 4_096];
                    let n = socket.read(&mut some).expect("an answer");
                    assert!(n > 0, "it hangs up: {heard}");
                    heard += &String::from_utf8_lossy(&some[..n]);
                }
            }
            Kind::Redis => {
                run("redis-cli", "redis-tools", &["-p", &port, "PUBLISH", &format!("{prefix}.flow.{name}"), text]);
            }
            Kind::Mosquitto => {
                let topic = format!("{prefix}/flow/{}", name.replace('.', "/"));
                run("mosquitto_pub", "mosquitto-clients", &["-p", &port, "-q", "1", "-t", &topic, "-m", text]);
            }
            Kind::Rabbit => {
                let python = "import sys, pika
c = pika.BlockingConnection(pika.ConnectionParameters('127.0.0.1', int(sys.argv[1])))
c.channel().basic_publish(sys.argv[2], sys.argv[3], sys.argv[4])
c.close()";
                let exchange = format!("{prefix}.flow");
                run("/usr/bin/python3", "python3 python3-pika", &["-c", python, &port, &exchange, name, text]);
            }
        }
    }

    /// Ends it at once.
    pub fn kill(&mut self) {
        self.running = None;
    }

    /// Ends it, and loses everything that it kept.
    pub fn lose(&mut self) {
        self.kill();
        self.dir = tempfile::tempdir().expect("a folder");
    }

    /// Starts it again, under the same address.
    pub fn run(&mut self) {
        let (program, package) = self.kind.program();
        require(program, package);
        if let Some(c) = &self.certificates {
            for (name, pem) in [("authority", &c.authority), ("server", &c.certificate), ("key", &c.key)] {
                std::fs::write(self.dir.path().join(format!("{name}.pem")), pem).expect("a file");
            }
        }
        let mut command = self.command(self.dir.path());
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).process_group(0);
        let mut running = Group(command.spawn().unwrap_or_else(|e| panic!("{program}: {e}")));
        let listens = || {
            let ended = running.0.try_wait().expect("its state");
            assert!(ended.is_none(), "{program} has ended: {ended:?}");
            TcpStream::connect(("127.0.0.1", self.port)).ok()
        };
        wait_up_to(STARTS_WITHIN, || format!("{program} to listen"), listens);
        self.running = Some(running);
    }

    #[expect(clippy::too_many_lines, reason = "one arm per broker")]
    fn command(&self, dir: &Path) -> Command {
        let (program, _) = self.kind.program();
        let port = self.port.to_string();
        let config = dir.join("broker.conf");
        let write = |text: String| std::fs::write(&config, text).expect("a file");
        let pem = |name: &str| dir.join(format!("{name}.pem")).display().to_string();
        let [authority, server, key] = ["authority", "server", "key"].map(pem);
        let secured = self.certificates.is_some();
        let mut command = Command::new(program);
        match self.kind {
            Kind::Nats => {
                let tls = format!("tls {{ cert_file: \"{server}\", key_file: \"{key}\" }}");
                write(if secured { tls } else { self.config.clone() });
                command.args(["-js", "-a", "127.0.0.1", "-p", &port, "-sd"]).arg(dir).arg("-c").arg(&config);
            }
            Kind::Redis => {
                let own = &self.config;
                let listen = match secured {
                    false => format!("port {port}"),
                    true => format!(
                        "port 0\ntls-port {port}\ntls-cert-file {server}\ntls-key-file {key}\n\
                         tls-ca-cert-file {authority}\ntls-auth-clients no"
                    ),
                };
                write(format!(
                    "bind 127.0.0.1\n{listen}\ndir {}\nsave \"\"\nappendonly yes\nappendfsync always\n{own}\n",
                    dir.display()
                ));
                command.arg(&config);
            }
            Kind::Mosquitto => {
                let open = if self.config.is_empty() { "allow_anonymous true" } else { &self.config };
                // As root it would change to a user who may not read what belongs to the test.
                let tls = if secured { format!("certfile {server}\nkeyfile {key}\n") } else { String::new() };
                write(format!("listener {port} 127.0.0.1\n{tls}user root\n{open}\n"));
                command.arg("-c").arg(&config);
            }
            Kind::Rabbit => {
                let listen = match secured {
                    false => format!("listeners.tcp.1 = 127.0.0.1:{port}"),
                    true => format!(
                        "listeners.tcp = none\nlisteners.ssl.1 = 127.0.0.1:{port}\nssl_options.certfile = {server}\n\
                         ssl_options.keyfile = {key}\nssl_options.cacertfile = {authority}"
                    ),
                };
                write(format!("{listen}\nloopback_users = none\n{}\n", self.config));
                let plugins = dir.join("plugins");
                std::fs::write(&plugins, "[].\n").expect("a file");
                // Debian's wrapper changes to the user of the service.
                let own = "/usr/lib/rabbitmq/bin/rabbitmq-server";
                if Path::new(own).exists() {
                    command = Command::new(own);
                }
                command
                    .env("RABBITMQ_NODENAME", format!("gossip-test-{port}@localhost"))
                    .env("RABBITMQ_NODE_PORT", if secured { "0" } else { &port })
                    .env("RABBITMQ_DIST_PORT", free_port().to_string())
                    .env("RABBITMQ_MNESIA_BASE", dir.join("data"))
                    .env("RABBITMQ_LOG_BASE", dir.join("log"))
                    .env("RABBITMQ_PID_FILE", dir.join("pid"))
                    .env("RABBITMQ_ENABLED_PLUGINS_FILE", plugins)
                    .env("RABBITMQ_CONFIG_FILE", &config)
                    .env("RABBITMQ_SERVER_ADDITIONAL_ERL_ARGS", "+S 1:1 +sbwt none")
                    .env("HOME", dir);
            }
        }
        command
    }
}
