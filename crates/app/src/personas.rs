//! Test identities and their watchers: the sections of `gossip.toml` that only the workbench reads. An instance
//! ignores them.

use std::collections::BTreeMap;
use std::path::Path;

use gossip_server::config::{ConfigError, toml_problem};
use serde::Deserialize;
use serde_json::{Map, Value as Json};

/// A test identity: a `[persona.NAME]`.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Persona {
    /// Its roles; none means without a token.
    #[serde(default)]
    pub roles: Vec<String>,
    /// Further claims.
    #[serde(default)]
    pub claims: Map<String, Json>,
}

/// A persona that listens to a live query: a `[[watcher]]`.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Watcher {
    /// The persona's name.
    pub persona: String,
    /// The live query.
    pub query: String,
    /// The instance it connects to, by name; the first if absent.
    pub instance: Option<String>,
}

/// All personas and watchers of a configuration.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
pub struct Personas {
    /// The personas, by name.
    #[serde(default, rename = "persona")]
    pub personas: BTreeMap<String, Persona>,
    /// The watchers, in the order of the file.
    #[serde(default, rename = "watcher")]
    pub watchers: Vec<Watcher>,
}

impl Personas {
    /// Reads those of a configuration file. Its other sections are read by
    /// [`Config::read`](gossip_server::config::Config::read).
    ///
    /// # Errors
    /// The file cannot be read, or one of these sections is invalid; with the line.
    pub fn read(path: &Path) -> Result<Personas, ConfigError> {
        let failed = |what: String| ConfigError(vec![what]);
        let text = std::fs::read_to_string(path).map_err(|e| failed(format!("{}: {e}", path.display())))?;
        let found: Personas = toml::from_str(&text).map_err(|e| failed(toml_problem(path, &text, &e)))?;
        match found.watchers.iter().find(|w| !found.personas.contains_key(&w.persona)) {
            None => Ok(found),
            Some(w) => Err(failed(format!("{}: watcher.persona: there is no [persona.{}]", path.display(), w.persona))),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_wrong_is_told_with_its_line() {
        let file = tempfile::NamedTempFile::new().unwrap();
        let read = |text: &str| {
            std::fs::write(file.path(), text).unwrap();
            Personas::read(file.path()).map_err(|e| e.to_string().replace(&file.path().display().to_string(), "f"))
        };
        let own =
            "[source.s]\nurl = 'sqlite:x'\n[persona.Ada]\nroles = ['r']\n[[watcher]]\npersona = 'Ada'\nquery = 'q'\n";
        assert_eq!(read(own).unwrap().watchers.len(), 1);
        let e = read(&own.replace("roles", "rolls")).unwrap_err();
        assert!(e.starts_with("f:4: unknown key rolls; did you mean roles?"), "{e}");
        assert_eq!(
            read(&own.replace("= 'Ada'", "= 'Ben'")).unwrap_err(),
            "f: watcher.persona: there is no [persona.Ben]"
        );
    }
}
