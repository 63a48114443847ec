//! Instances in this process: for `serve`, `open` and `demo`.

use std::net::SocketAddr;
use std::sync::Arc;

use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;
use gossip_core::send_queue::QueueLimits;
use gossip_relay::faulty::{Faults, Faulty};
use gossip_relay::vouch::Keys;
use gossip_relay::{Relay, RelayError};
use gossip_server::auth::{MIN_SECRET, Tokens};
use gossip_server::authz_webhook::Decisions;
use gossip_server::config::Config;
use gossip_server::instance::{Instance, Options, StartError};
use gossip_server::supervisor::OnFailure;
use gossip_source::Source;

use crate::outcome::Failure;

/// Instances of one cluster, each with a relay whose faults can be injected.
pub struct Cluster {
    options: Vec<Options>,
    /// All rules of the configuration.
    rules: Vec<RuleText>,
    faults: Vec<Arc<Faults>>,
    running: Vec<Option<Instance>>,
    settings: gossip_relay::Settings,
    /// Without a broker, all instances share one relay; over a broker each has its own connection.
    hub: Option<Arc<dyn Relay>>,
}

/// Maximum number of instances in a process.
pub const MAX_INSTANCES: usize = 16;

/// The source that a configuration names.
///
/// # Errors
/// The URL is invalid, or its kind of database does not have one of the options.
pub fn source(config: &Config) -> Result<Arc<dyn Source>, Failure> {
    gossip_source::from_settings(&config.source, config.base()).map_err(Failure::usage)
}

/// Whether an address has a password in it.
pub fn has_password(url: &str) -> bool {
    let who = url.split_once("://").and_then(|(_, rest)| rest.rsplit_once('@')).map(|(who, _)| who);
    who.is_some_and(|who| who.contains(':')) || url.contains("password=")
}

/// Checks tokens as a configuration says.
///
/// # Errors
/// The secret or the JWK set is missing or cannot be used.
pub fn tokens(config: &Config) -> Result<Option<Arc<Tokens>>, Failure> {
    let place = |e| Failure::usage(format!("{}: {e}", config.path.display()));
    let of = |auth| Tokens::from_env(auth, config.base()).map(Arc::new).map_err(place);
    config.auth.clone().map(of).transpose()
}

/// Rules with those of one role on one table replaced, in their place.
pub fn replaced(rules: &[RuleText], role: &str, table: &TableName, new: &[RuleText]) -> Vec<RuleText> {
    let own = |r: &RuleText| r.role == role && r.table == *table;
    let place = rules.iter().position(own).unwrap_or(rules.len());
    let mut all: Vec<RuleText> = rules.iter().filter(|r| !own(r)).cloned().collect();
    let place = place.min(all.len());
    all.splice(place..place, new.iter().cloned());
    all
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

/// The decision service, with its key from the environment.
fn decisions(config: &Config) -> Result<Option<Arc<Decisions>>, Failure> {
    let Some(settings) = config.decisions.clone() else { return Ok(None) };
    let key = match &settings.key_env {
        None => String::new(),
        Some(name) => std::env::var(name)
            .map_err(|_| Failure::usage(format!("decisions.key_env: the environment variable {name} is not set")))?,
    };
    Decisions::new(settings, key).map(|d| Some(Arc::new(d))).map_err(Failure::usage)
}

/// The consequence of a relay without a secret.
pub const ANYBODY: &str = "anyone with access to the broker can impersonate an instance";
/// What to do about it.
pub const SET_A_SECRET: &str = "set relay.secret_env, or auth.secret_env";

/// The keys by which instances authenticate each other's messages: from the relay's secret, else from that of tokens.
/// Without either, messages are not authenticated.
///
/// # Errors
/// An environment variable that is named is not set.
pub fn keys(config: &Config, tokens: Option<&Tokens>) -> Result<Option<Keys>, Failure> {
    let read = |field: &str, name: &Option<String>| {
        let Some(name) = name else { return Ok(None) };
        let failed = |why: String| Err(Failure::usage(format!("relay.{field}: the environment variable {name} {why}")));
        match std::env::var(name) {
            Ok(secret) if secret.len() >= MIN_SECRET => Ok(Some(secret.into_bytes())),
            Ok(secret) => failed(format!("holds {} bytes; expected at least {MIN_SECRET}", secret.len())),
            Err(_) => failed("is not set".into()),
        }
    };
    let other = read("other_secret_env", &config.relay_secrets.other)?;
    let own = read("secret_env", &config.relay_secrets.own)?;
    let own = own.or_else(|| tokens.and_then(|t| t.secret().map(<[u8]>::to_vec)));
    if own.is_none() && other.is_some() {
        let text = "relay.other_secret_env: there is no first secret; give relay.secret_env or auth.secret_env too";
        return Err(Failure::usage(text));
    }
    Ok(own.map(|own| Keys::new(&own, other.as_deref())))
}

impl Cluster {
    /// Starts an instance for each name, on consecutive ports from the configured one (each a free one if that is 0).
    ///
    /// # Errors
    /// One of them does not start.
    pub async fn start(config: &Config, names: &[String], tokens: Option<Arc<Tokens>>) -> Result<Cluster, Failure> {
        Cluster::start_with(config, names, tokens, OnFailure::Tell).await
    }

    /// As [`Cluster::start`], with what to do when a part of an instance fails.
    ///
    /// # Errors
    /// As [`Cluster::start`].
    pub async fn start_with(
        config: &Config,
        names: &[String],
        tokens: Option<Arc<Tokens>>,
        on_failure: OnFailure,
    ) -> Result<Cluster, Failure> {
        let source = source(config)?;
        let secret = tokens.as_ref().and_then(|t| t.secret().map(<[u8]>::to_vec));
        // Without a secret that all instances share, cursors are valid only in this process, while it runs.
        let secret = secret.unwrap_or_else(|| rand::random::<[u8; 32]>().to_vec());
        let keys = keys(config, tokens.as_deref())?;
        if keys.is_none() && !config.relay.url.starts_with("inproc:") {
            tracing::warn!("{ANYBODY}: {SET_A_SECRET}");
        }
        let settings = gossip_relay::Settings { keys, ..config.relay.clone() };
        let rules = config.rules.clone();
        let mut cluster = Cluster { options: vec![], rules, faults: vec![], running: vec![], settings, hub: None };
        for (i, name) in names.iter().enumerate() {
            let port = match config.listen.port() {
                0 => 0,
                port => {
                    port.checked_add(i as u16).ok_or_else(|| Failure::usage("instance.listen: the ports run out"))?
                }
            };
            let (relay, faults) = cluster.relay(name).await.map_err(Failure::connect)?;
            cluster.faults.push(faults);
            cluster.options.push(Options {
                name: name.clone(),
                listen: SocketAddr::new(config.listen.ip(), port),
                source: source.clone(),
                topics: config.topics.values().cloned().collect(),
                rules: config.rules.clone(),
                admission: config.admission.clone(),
                queries: config.queries.iter().map(|(name, q)| (name.clone(), q.sql.clone())).collect(),
                tokens: tokens.clone(),
                secret: secret.clone(),
                relay,
                queue: QueueLimits::default(),
                decisions: decisions(config)?,
                on_failure,
            });
            cluster.running.push(None);
            cluster.start_one(i).await.map_err(|e| failure(config, e))?;
        }
        Ok(cluster)
    }

    /// An instance's relay, with the faults that can be injected into it.
    async fn relay(&mut self, name: &str) -> Result<(Arc<dyn Relay>, Arc<Faults>), RelayError> {
        let relay = match &self.hub {
            Some(hub) => Arc::clone(hub),
            None => gossip_relay::connect(&self.settings, name).await?,
        };
        if self.settings.url.starts_with("inproc:") {
            self.hub = Some(relay.clone());
        }
        let faulty = Faulty::new(relay);
        let faults = faulty.faults().clone();
        Ok((Arc::new(faulty), faults))
    }

    /// Starts one more instance, like the first, on a free port. Returns its name and address.
    ///
    /// # Errors
    /// Why it does not start.
    pub async fn add(&mut self) -> Result<(String, SocketAddr), String> {
        if self.options.len() >= MAX_INSTANCES {
            return Err(format!("a process has at most {MAX_INSTANCES} instances"));
        }
        let taken = |name: &String| self.options.iter().any(|o| o.name == *name);
        let name = (1..).map(|n| format!("added-{n}")).find(|name| !taken(name)).unwrap_or_default();
        let (relay, faults) = self.relay(&name).await.map_err(|e| e.to_string())?;
        let first = &self.options[0];
        let listen = SocketAddr::new(first.listen.ip(), 0);
        let options = Options { name: name.clone(), listen, relay, ..first.clone() };
        let instance = Instance::start(options.clone()).await.map_err(|e| e.to_string())?;
        let address = instance.address();
        self.options.push(Options { listen: address, ..options });
        self.faults.push(faults);
        self.running.push(Some(instance));
        Ok((name, address))
    }

    /// Starts an instance that is not running. It keeps its address.
    ///
    /// # Errors
    /// Its address is taken, or the database cannot be read.
    pub async fn start_one(&mut self, i: usize) -> Result<(), StartError> {
        if !self.is_running(i) {
            let instance = Instance::start(self.options[i].clone()).await?;
            self.options[i].listen = instance.address();
            self.running[i] = Some(instance);
        }
        Ok(())
    }

    /// Replaces the rules, also of instances that start later.
    async fn set_rules(&mut self, rules: Vec<RuleText>) {
        self.rules = rules;
        for i in 0..self.options.len() {
            self.options[i].rules = self.rules_for(&self.options[i]);
            if let Some(instance) = &self.running[i] {
                instance.set_rules(self.options[i].rules.clone()).await;
            }
        }
    }

    /// Adds a rule to those in force.
    pub async fn add_rule(&mut self, rule: RuleText) {
        let rules = self.rules.iter().cloned().chain([rule]).collect();
        self.set_rules(rules).await;
    }

    /// Whether these are the rules of one role on one table that are in force.
    pub fn has_rules(&self, role: &str, table: &TableName, rules: &[RuleText]) -> bool {
        let bare = |r: &RuleText| RuleText { line: 0, ..r.clone() };
        let own = self.rules.iter().filter(|r| r.role == role && r.table == *table);
        own.map(bare).eq(rules.iter().map(bare))
    }

    /// Replaces the rules of one role on one table. All others stay as they are in force, whatever somebody who looks at them
    /// knows of them.
    pub async fn replace_rules(&mut self, role: &str, table: &TableName, new: &[RuleText]) {
        self.set_rules(replaced(&self.rules, role, table, new)).await;
    }

    /// The rules on streaming tables and on topics. Others are left out: their tables are unknown to the instance.
    fn rules_for(&self, options: &Options) -> Vec<RuleText> {
        let Options { source, topics, .. } = options;
        let streams = |r: &&RuleText| {
            source.tables().iter().any(|t| source.is_table(t, &r.table))
                || topics.iter().any(|t| t.topic.table.name == r.table)
                || r.table.is_system()
        };
        self.rules.iter().filter(streams).cloned().collect()
    }

    /// Replaces the source: running instances restart with it, at their old addresses.
    ///
    /// # Errors
    /// One of them does not start again.
    pub async fn set_source(&mut self, source: Arc<dyn Source>) -> Result<(), StartError> {
        for i in 0..self.options.len() {
            self.options[i].source = source.clone();
            self.options[i].rules = self.rules_for(&self.options[i]);
            if let Some(instance) = self.running[i].take() {
                instance.stop().await;
                self.start_one(i).await?;
            }
        }
        Ok(())
    }

    /// Stops an instance as a crash would.
    pub fn kill(&mut self, i: usize) {
        if let Some(instance) = self.running[i].take() {
            instance.kill();
        }
    }

    /// Drains an instance: its clients are sent to the other instances.
    pub async fn drain(&mut self, i: usize) {
        if let Some(instance) = self.running[i].take() {
            instance.stop().await;
        }
    }

    /// Whether an instance is running.
    pub fn is_running(&self, i: usize) -> bool {
        self.running[i].as_ref().is_some_and(|instance| !instance.is_over())
    }

    /// Waits until every instance has stopped because operators drained it.
    pub async fn over(&self) {
        for instance in self.running.iter().flatten() {
            instance.over().await;
        }
    }

    /// Name and address of every instance, running or not.
    pub fn places(&self) -> Vec<(String, SocketAddr)> {
        self.options.iter().map(|o| (o.name.clone(), o.listen)).collect()
    }

    /// The faults that can be injected into an instance's relay.
    pub fn faults(&self, i: usize) -> &Arc<Faults> {
        &self.faults[i]
    }

    /// Drains and stops all instances.
    pub async fn stop(mut self) {
        for instance in self.running.drain(..).flatten() {
            instance.stop().await;
        }
    }
}
