//! Which relay, and what is put on it.

use std::fmt;
use std::time::Duration;

use crate::tls::TlsRoots;
use crate::vouch::Keys;

/// What stands before the colon of any address. The rest may hold a password.
pub fn scheme(url: &str) -> &str {
    url.split_once(':').map_or("", |(scheme, _)| scheme)
}

/// How much of what was published a broker keeps, for those who missed it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RetentionLimits {
    /// For how long.
    pub age: Duration,
    /// Bytes for each source.
    pub bytes: u64,
}

impl Default for RetentionLimits {
    fn default() -> Self {
        RetentionLimits { age: Duration::from_secs(600), bytes: 64 << 20 }
    }
}

/// Which relay, and what is put on it.
#[derive(Clone, PartialEq, Eq)]
pub struct Settings {
    /// Its address: `inproc:`, or of a broker, and then whether to speak TLS. May hold a password.
    pub url: String,
    /// What all names on the broker begin with; the same for all instances of a cluster.
    pub prefix: String,
    /// What the broker keeps for those who missed it.
    pub keep: RetentionLimits,
    /// The certificates that the broker's is checked against, and those of the brokers that topics come from.
    pub roots: TlsRoots,
    /// By what instances know each other; `None`: whatever is said on the broker is believed.
    pub keys: Option<Keys>,
}

impl Default for Settings {
    fn default() -> Settings {
        let (url, prefix) = ("inproc:".into(), "gossip".into());
        Settings { url, prefix, keep: RetentionLimits::default(), roots: TlsRoots::system(), keys: None }
    }
}

impl fmt::Debug for Settings {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Settings({}: under {})", scheme(&self.url), self.prefix)
    }
}
