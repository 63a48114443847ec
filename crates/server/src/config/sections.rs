//! What the sections of `gossip.toml` say. A problem is noted with its place, and reading goes on, so that all of them are
//! told at once.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use gossip_core::schema::{SYSTEM_SCHEMA, TOPIC_SOURCE};
use gossip_relay::RetentionLimits;
use gossip_relay::ingest::Ingest;
use gossip_relay::tls::TlsRoots;
use gossip_source::{BadOption, Settings};
use toml::Spanned;

use super::file::{AuthSection, DecisionsSection, Instance, Relay, Source, TopicSection};
use super::settings::{Auth, DEFAULT_LISTEN, RelaySecrets, TopicSettings};
use super::text::{line_of, offset_of_key, plain_name, scheme};
use super::topic::topic_of;
use crate::admission::Admission;
use crate::authz_webhook;

/// The sections of one file, and what is wrong in those that were read.
pub(super) struct Sections<'a> {
    pub(super) path: &'a Path,
    pub(super) text: &'a str,
    pub(super) problems: Vec<String>,
}

impl Sections<'_> {
    /// Notes a problem at an offset of the text, in bytes.
    pub(super) fn fail(&mut self, offset: usize, what: impl AsRef<str>) {
        let line = line_of(self.text, offset);
        self.problems.push(format!("{}:{line}: {}", self.path.display(), what.as_ref()));
    }

    /// Notes a number that is out of its bounds.
    fn bounds(&mut self, offset: usize, name: &str, value: u64, (least, most): (u64, u64)) {
        if !(least..=most).contains(&value) {
            self.fail(offset, format!("{name}: {value}; expected {least} to {most}"));
        }
    }

    pub(super) fn listen(&mut self, instance: &Instance) -> SocketAddr {
        let given = instance.listen.as_ref();
        let text = given.map_or(DEFAULT_LISTEN, |l| l.get_ref());
        text.parse().unwrap_or_else(|_| {
            let expected = format!("expected host:port, like {DEFAULT_LISTEN}");
            let what = format!("instance.listen: {text:?} is not an address; {expected}");
            self.fail(given.map_or(0, |l| l.span().start), what);
            SocketAddr::from(([127, 0, 0, 1], 0))
        })
    }

    pub(super) fn admission(&mut self, instance: &Instance) -> Admission {
        let mut admission = Admission::default();
        if let Some(queries) = &instance.queries {
            admission.stored_only = queries.get_ref() == "stored";
            if !matches!(queries.get_ref().as_str(), "any" | "stored") {
                let what = format!("instance.queries: {:?}; expected \"any\" or \"stored\"", queries.get_ref());
                self.fail(queries.span().start, what);
            }
        }
        for origin in instance.origins.iter().flatten() {
            let is_one = origin.get_ref().split_once("://").is_some_and(|(scheme, rest)| {
                matches!(scheme, "http" | "https") && !rest.is_empty() && !rest.contains('/')
            });
            if !is_one {
                let expected = "expected scheme://host[:port], like https://app.example";
                let what = format!("instance.origins: {:?} is not an origin; {expected}", origin.get_ref());
                self.fail(origin.span().start, what);
            }
        }
        let listed = instance.origins.as_ref();
        admission.origins = listed.map(|o| o.iter().map(|o| o.get_ref().clone()).collect());
        if let Some(silence) = &instance.silence_seconds {
            admission.silence = Duration::from_secs(*silence.get_ref());
            self.bounds(silence.span().start, "instance.silence_seconds", *silence.get_ref(), (3, 3_600));
        }
        admission
    }

    /// Exactly one.
    pub(super) fn source(&mut self, named: BTreeMap<String, Spanned<Source>>) -> Settings {
        if named.len() != 1 {
            let offset = named.values().nth(1).map_or(0, |s| s.span().start);
            let expected = "exactly one [source.NAME] with url and tables is supported";
            self.fail(offset, format!("{} sources are named; {expected}", named.len()));
        }
        let Some((name, section)) = named.into_iter().next() else { return Settings::default() };
        let (offset, section) = (section.span().start, section.into_inner());
        if name == SYSTEM_SCHEMA || name == TOPIC_SOURCE {
            self.fail(offset, format!("the name {name} is reserved for Gossip; choose another"));
        }
        let Source { url, tables, options } = section;
        let settings = Settings { name, url, tables, options };
        if let Err(BadOption { name: option, problem }) = gossip_source::check_options(&settings) {
            let offset = offset_of_key(self.text, offset, &option);
            self.fail(offset, format!("source.{}.{option}: {problem}", settings.name));
        }
        settings
    }

    pub(super) fn relay(&mut self, section: Spanned<Relay>) -> (gossip_relay::Settings, RelaySecrets) {
        let (offset, r) = (section.span().start, section.into_inner());
        if !r.url.split_once(':').is_some_and(|(scheme, _)| gossip_relay::schemes().any(|s| s == scheme)) {
            let expected = gossip_relay::expected_schemes();
            self.fail(offset, format!("relay.url: {:?} is not supported; expected {expected}", scheme(&r.url)));
        }
        let usual = gossip_relay::Settings::default();
        let prefix = r.prefix.unwrap_or(usual.prefix);
        let fits = |c: char| c.is_ascii_alphanumeric() || c == '-' || c == '_';
        if prefix.is_empty() || prefix.len() > 40 || !prefix.chars().all(fits) {
            self.fail(offset, "relay.prefix: expected at most 40 letters, digits, - and _");
        }
        let minutes = r.keep_minutes.unwrap_or(usual.keep.age.as_secs() / 60);
        let mb = r.keep_mb.unwrap_or(usual.keep.bytes >> 20);
        self.bounds(offset, "relay.keep_minutes", minutes, (1, 10_080));
        self.bounds(offset, "relay.keep_mb", mb, (1, 102_400));
        let keep =
            RetentionLimits { age: Duration::from_secs(minutes.saturating_mul(60)), bytes: mb.saturating_mul(1 << 20) };
        let base = self.path.parent().unwrap_or(Path::new("."));
        let roots = r.ca.map(|ca| TlsRoots::file(&base.join(ca))).unwrap_or_else(|| Ok(TlsRoots::system()));
        let roots = roots.unwrap_or_else(|why| {
            self.fail(offset, format!("relay.ca: {why}"));
            TlsRoots::system()
        });
        let secrets = RelaySecrets { own: r.secret_env, other: r.other_secret_env };
        (gossip_relay::Settings { url: r.url, prefix, keep, roots, keys: None }, secrets)
    }

    pub(super) fn auth(&mut self, section: Spanned<AuthSection>) -> Auth {
        let (offset, a) = (section.span().start, section.into_inner());
        if a.secret_env.is_none() && a.jwks.is_none() {
            let what = "auth names no keys: give jwks, a file or address with a JWK set, or secret_env, the \
                        environment variable that holds a shared secret";
            self.fail(offset, what);
        }
        let usual = Auth::default();
        let mut at_most = |name: &str, given: Option<u64>, usual: Duration, most: u64| {
            let seconds = given.map_or(usual, Duration::from_secs);
            if seconds.as_secs() > most {
                self.fail(offset, format!("auth.{name}: at most {most}"));
            }
            seconds
        };
        Auth {
            leeway: at_most("leeway_seconds", a.leeway_seconds, usual.leeway, 300),
            grace: at_most("grace_seconds", a.grace_seconds, usual.grace, 3_600),
            secret_env: a.secret_env,
            jwks: a.jwks,
            issuer: a.issuer,
            audience: a.audience,
            roles: a.roles.unwrap_or(usual.roles),
            operators: a.operators,
        }
    }

    pub(super) fn decisions(
        &mut self,
        section: Spanned<DecisionsSection>,
        source: &Settings,
        default_schema: &str,
    ) -> authz_webhook::Settings {
        let (offset, d) = (section.span().start, section.into_inner());
        if !d.url.starts_with("http://") && !d.url.starts_with("https://") {
            self.fail(offset, "decisions.url: expected an address with http: or https:");
        }
        if let Some(t) = d.tables.iter().find(|t| !source.tables.contains(t)) {
            self.fail(offset, format!("decisions.tables: {t} is not among the source's tables"));
        }
        let (timeout, cache) = (d.timeout_ms.unwrap_or(1_000), d.cache_seconds.unwrap_or(30));
        self.bounds(offset, "decisions.timeout_ms", timeout, (1, 10_000));
        self.bounds(offset, "decisions.cache_seconds", cache, (1, 3_600));
        authz_webhook::Settings {
            url: d.url,
            key_env: d.key_env,
            tables: d.tables.iter().map(|t| plain_name(t, default_schema).to_string()).collect(),
            timeout: Duration::from_millis(timeout),
            cache: Duration::from_secs(cache),
        }
    }

    pub(super) fn topics(
        &mut self,
        sections: BTreeMap<String, Spanned<TopicSection>>,
        source: &Settings,
        relay: &gossip_relay::Settings,
    ) -> BTreeMap<String, TopicSettings> {
        let mut topics = BTreeMap::new();
        for (name, section) in sections {
            let (offset, section) = (section.span().start, section.into_inner());
            match topic_of(&name, section, &source.tables) {
                Ok((topic, from)) => {
                    let group = format!("{}-{}-{name}", relay.prefix, source.name);
                    let from = from.map(|url| Ingest { url, group, roots: relay.roots.clone() });
                    topics.insert(name, TopicSettings { topic: Arc::new(topic), from });
                }
                Err(why) => self.fail(offset, format!("topic.{name}: {why}")),
            }
        }
        topics
    }
}
