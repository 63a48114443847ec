//! The kinds of databases: a folder each, and a line here.

use std::path::Path;
use std::sync::Arc;

use crate::settings::{BadOption, without_password};
use crate::{Kind, Result, Settings, Source, SourceError, postgres, sqlite};

const KINDS: [&dyn Kind; 2] = [&sqlite::Sqlite, &postgres::Postgres];

fn kind_of(settings: &Settings) -> Option<&'static dyn Kind> {
    let scheme = settings.url.split_once(':').map_or("", |(scheme, _)| scheme);
    KINDS.into_iter().find(|kind| kind.schemes().contains(&scheme))
}

/// The schema of tables that a configuration names without one; empty where there are no schemas, and where no kind of
/// database has such a URL.
pub fn default_schema(settings: &Settings) -> &str {
    kind_of(settings).map_or("", |kind| kind.default_schema(settings))
}

/// Whether the options of a source are ones that its kind of database has. Of a URL that no kind has, nothing is known.
///
/// # Errors
/// The first that is not.
pub fn check_options(settings: &Settings) -> std::result::Result<(), BadOption> {
    kind_of(settings).map_or(Ok(()), |kind| kind.check_options(settings))
}

/// The source that a configuration names; relative paths start from `base`. Connects to nothing.
///
/// # Errors
/// No kind of database has such URLs, or the one that has them does not take the settings.
pub fn from_settings(settings: &Settings, base: &Path) -> Result<Arc<dyn Source>> {
    match kind_of(settings) {
        Some(kind) => kind.source(settings, base),
        None => {
            let forms: Vec<&str> = KINDS.iter().map(|kind| kind.form()).collect();
            let problem = format!("expected {}", forms.join(" or "));
            Err(SourceError::Url { url: without_password(&settings.url), problem })
        }
    }
}
