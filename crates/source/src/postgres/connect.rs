//! Ordinary connections, for everything that is not the stream.

use std::time::Duration;

use tokio_postgres::config::SslMode as DriverSsl;
use tokio_postgres::{Config, NoTls};
use tokio_postgres_rustls::MakeRustlsConnect;

use super::address::{Address, SslMode};
use super::client::Client;
use super::tls;
use crate::{Result, SourceError};

/// Settings of a session that shape how values are written as text. Both kinds of connections have them, whatever the
/// role or the database has been set to.
pub const PINNED: [(&str, &str); 9] = [
    ("client_encoding", "UTF8"),
    ("DateStyle", "ISO, YMD"),
    ("IntervalStyle", "postgres"),
    ("TimeZone", "UTC"),
    ("extra_float_digits", "3"),
    ("bytea_output", "hex"),
    ("lc_monetary", "C"),
    ("search_path", "pg_catalog"),
    ("xmlbinary", "base64"),
];

/// How long a statement of ours may take, unless it says otherwise.
const STATEMENT: Duration = Duration::from_secs(60);

/// How long we wait for a lock before we give way.
const LOCK: Duration = Duration::from_secs(5);

/// TCP keepalive: the silence after which probes are sent.
pub const KEEPALIVE: Duration = Duration::from_secs(4);

/// A peer that acknowledges nothing for so long is gone.
pub const GONE: Duration = Duration::from_secs(15);

/// Connects with the pinned settings.
///
/// # Errors
/// The server cannot be reached in time, or refuses.
pub fn connect(address: &Address) -> Result<Client> {
    let pinned = PINNED.iter().filter(|(name, _)| *name != "client_encoding");
    let mut options: String = pinned.map(|(name, value)| format!("-c {name}={} ", value.replace(' ', "\\ "))).collect();
    options.push_str(&format!(
        "-c statement_timeout={} -c lock_timeout={} -c idle_in_transaction_session_timeout={}",
        STATEMENT.as_millis(),
        LOCK.as_millis(),
        STATEMENT.as_millis(),
    ));
    open(address, &options)
}

/// Connects as any other program would: with the settings that the role and the database have.
///
/// # Errors
/// The server cannot be reached in time, or refuses.
pub fn connect_plainly(address: &Address) -> Result<Client> {
    open(address, "")
}

fn open(address: &Address, options: &str) -> Result<Client> {
    let mut config = Config::new();
    config
        .host(&address.host)
        .port(address.port)
        .user(&address.user)
        .dbname(&address.database)
        .application_name(&address.application_name)
        .connect_timeout(address.connect_timeout)
        .keepalives_idle(KEEPALIVE)
        .keepalives_interval(KEEPALIVE / 2)
        .keepalives_retries(4)
        .tcp_user_timeout(GONE);
    if !options.is_empty() {
        config.options(options);
    }
    if let Some(password) = &address.password {
        config.password(password);
    }
    let fail = |e: SourceError| SourceError::Open {
        path: address.place(),
        problem: match e {
            SourceError::Database(problem) | SourceError::Lost { problem, .. } => problem,
            other => other.to_string(),
        },
    };
    // For each of the addresses that a name may have.
    let within = 2 * address.connect_timeout;
    let plain = |config: &mut Config| -> Result<Client> {
        config.ssl_mode(DriverSsl::Disable);
        Client::connect(config, NoTls, address.place(), within)
    };
    let secured = |config: &mut Config, ssl| -> Result<Client> {
        config.ssl_mode(ssl);
        let tls = MakeRustlsConnect::new(tls::config(address)?);
        Client::connect(config, tls, address.place(), within).map_err(fail)
    };
    match address.ssl {
        _ if address.is_unix() => plain(&mut config).map_err(fail),
        SslMode::Disable => plain(&mut config).map_err(fail),
        SslMode::Allow => match plain(&mut config) {
            Ok(client) => Ok(client),
            Err(first) => secured(&mut config, DriverSsl::Require).map_err(|_| fail(first)),
        },
        SslMode::Prefer => secured(&mut config, DriverSsl::Prefer),
        SslMode::Require | SslMode::VerifyCa | SslMode::VerifyFull => secured(&mut config, DriverSsl::Require),
    }
}

/// A name in double quotes, for SQL.
pub fn quote(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A text in single quotes, for SQL.
pub fn literal(text: &str) -> String {
    match text.contains('\\') {
        true => format!("E'{}'", text.replace('\\', "\\\\").replace('\'', "''")),
        false => format!("'{}'", text.replace('\'', "''")),
    }
}
