//! Instances in this very process: for `serve`, `open` and `demo`.

use std::net::SocketAddr;
use std::sync::Arc;

use gossip_core::rule::RuleText;
use gossip_core::send_queue::QueueLimits;
use gossip_relay::Relay;
use gossip_relay::faulty::{Faults, Faulty};
use gossip_relay::inproc::InProcess;
use gossip_server::auth::Tokens;
use gossip_server::config::Config;
use gossip_server::instance::{Instance, Options, StartError};
use gossip_source::sqlite::SqliteSource;

use crate::cli::Failure;

/// Instances of one cluster, each behind a relay that can be made to fail.
pub struct Cluster {
    options: Vec<Options>,
    /// All rules of the configuration.
    rules: Vec<RuleText>,
    faults: Vec<Arc<Faults>>,
    running: Vec<Option<Instance>>,
}

/// The source that a configuration names.
pub fn source(config: &Config) -> Result<SqliteSource, Failure> {
    SqliteSource::new(&config.source, &config.source_url, config.tables.clone(), config.base()).map_err(Failure::usage)
}

/// Checks tokens as a configuration says.
pub fn tokens(config: &Config) -> Result<Option<Arc<Tokens>>, Failure> {
    let place = |e| Failure::usage(format!("{}: {e}", config.path.display()));
    config.auth.clone().map(|a| Tokens::from_env(a).map(Arc::new).map_err(place)).transpose()
}

fn failure(config: &Config, e: StartError) -> Failure {
    match e {
        StartError::Rules(lines) => {
            let line = |l: &str| format!("{}:{}", config.path.display(), l.trim_start_matches("line "));
            Failure::usage(lines.lines().map(line).collect::<Vec<_>>().join("\n"))
        }
        StartError::Source(e) if !matches!(e, gossip_source::SourceError::NotReady(_)) => Failure::connect(e),
        e => Failure::usage(e),
    }
}

impl Cluster {
    /// Starts an instance for each name, on consecutive ports from the configured one (each a free one if that is 0).
    pub async fn start(config: &Config, names: &[String], tokens: Option<Arc<Tokens>>) -> Result<Cluster, Failure> {
        let source = source(config)?;
        let hub: Arc<dyn Relay> = Arc::new(InProcess::default());
        let secret = match &tokens {
            Some(tokens) => tokens.secret().to_vec(),
            None => rand::random::<[u8; 32]>().to_vec(),
        };
        let mut cluster = Cluster { options: vec![], rules: config.rules.clone(), faults: vec![], running: vec![] };
        for (i, name) in names.iter().enumerate() {
            let port = match config.listen.port() {
                0 => 0,
                port => {
                    port.checked_add(i as u16).ok_or_else(|| Failure::usage("instance.listen: the ports run out"))?
                }
            };
            let faulty = Faulty::new(hub.clone());
            cluster.faults.push(faulty.faults().clone());
            cluster.options.push(Options {
                name: name.clone(),
                listen: SocketAddr::new(config.listen.ip(), port),
                source: source.clone(),
                rules: config.rules.clone(),
                queries: config.queries.iter().map(|(name, q)| (name.clone(), q.sql.clone())).collect(),
                tokens: tokens.clone(),
                secret: secret.clone(),
                relay: Arc::new(faulty),
                queue: QueueLimits::default(),
            });
            cluster.running.push(None);
            cluster.start_one(i).await.map_err(|e| failure(config, e))?;
        }
        Ok(cluster)
    }

    /// Starts an instance that is not running. It keeps its address.
    pub async fn start_one(&mut self, i: usize) -> Result<(), StartError> {
        if self.running[i].is_none() {
            let instance = Instance::start(self.options[i].clone()).await?;
            self.options[i].listen = instance.address();
            self.running[i] = Some(instance);
        }
        Ok(())
    }

    /// Puts other rules in force, also for instances that start later.
    pub async fn set_rules(&mut self, rules: Vec<RuleText>) {
        self.rules = rules;
        for i in 0..self.options.len() {
            self.options[i].rules = self.rules_for(&self.options[i].source);
            if let Some(instance) = &self.running[i] {
                instance.set_rules(self.options[i].rules.clone()).await;
            }
        }
    }

    /// The rules on tables that stream: another one has nothing to hold on to.
    fn rules_for(&self, source: &SqliteSource) -> Vec<RuleText> {
        let streams = |r: &&RuleText| source.tables.iter().any(|t| t.eq_ignore_ascii_case(&r.table.name));
        self.rules.iter().filter(streams).cloned().collect()
    }

    /// Puts another list of tables in force: those that run start again with it, under their old addresses.
    pub async fn set_source(&mut self, source: SqliteSource) -> Result<(), StartError> {
        for i in 0..self.options.len() {
            self.options[i].source = source.clone();
            self.options[i].rules = self.rules_for(&source);
            if let Some(instance) = self.running[i].take() {
                instance.stop().await;
                self.start_one(i).await?;
            }
        }
        Ok(())
    }

    /// Ends an instance as a crash would.
    pub fn kill(&mut self, i: usize) {
        if let Some(instance) = self.running[i].take() {
            instance.kill();
        }
    }

    /// Whether an instance is running.
    pub fn is_running(&self, i: usize) -> bool {
        self.running[i].is_some()
    }

    /// Name and address of every instance, running or not.
    pub fn places(&self) -> Vec<(String, SocketAddr)> {
        self.options.iter().map(|o| (o.name.clone(), o.listen)).collect()
    }

    /// What can go wrong on an instance's relay.
    pub fn faults(&self, i: usize) -> &Arc<Faults> {
        &self.faults[i]
    }

    /// Stops all, politely.
    pub async fn stop(mut self) {
        for instance in self.running.drain(..).flatten() {
            instance.stop().await;
        }
    }
}
