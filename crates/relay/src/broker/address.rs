//! Where a broker is and who connects, from an address with a password in it. No error repeats the address.

use percent_encoding::percent_decode_str;

use crate::RelayError;

/// An address, taken apart.
pub struct Address {
    /// The host.
    pub host: String,
    /// The port, or the usual one.
    pub port: u16,
    /// User and password.
    pub who: Option<(String, String)>,
    /// What follows the port, without the first slash.
    pub path: String,
}

impl Address {
    /// Takes an address apart; `like` shows how one looks.
    ///
    /// # Errors
    /// What in the address is not as the protocol has it, without secrets.
    pub fn parse(url: &str, usual_port: u16, like: &'static str) -> Result<Address, RelayError> {
        let wrong = || RelayError::Address(like);
        let parsed = url::Url::parse(url).map_err(|_| wrong())?;
        let host = parsed.host_str().filter(|h| !h.is_empty()).ok_or_else(wrong)?;
        let plain = |text: &str| percent_decode_str(text).decode_utf8().map(String::from).map_err(|_| wrong());
        let who = match (parsed.username(), parsed.password()) {
            ("", None) => None,
            (user, password) => Some((plain(user)?, plain(password.unwrap_or(""))?)),
        };
        let path = plain(parsed.path().strip_prefix('/').unwrap_or(""))?;
        Ok(Address { host: host.into(), port: parsed.port().unwrap_or(usual_port), who, path })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_taken_apart_and_never_repeated() {
        let a = Address::parse("amqp://me:p%40ss@[::1]/my%2Fhost", 5672, "amqp://…").unwrap();
        assert_eq!((a.host.as_str(), a.port, a.path.as_str()), ("[::1]", 5672, "my/host"));
        assert_eq!(a.who, Some(("me".into(), "p@ss".into())));
        for bad in ["nats:secret", "nats://", "nats://me:secret@", "secret"] {
            let e = Address::parse(bad, 1, "nats://host:4222").err().map(|e| e.to_string()).unwrap_or_default();
            assert!(e.contains("nats://host:4222") && !e.contains("secret"), "{bad}: {e}");
        }
    }
}
