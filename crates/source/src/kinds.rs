//! The kinds of databases: a folder each, and a line here.

use std::path::Path;
use std::sync::Arc;

use crate::settings::without_password;
use crate::{Kind, Result, Settings, Source, SourceError, postgres, sqlite};

const KINDS: [&dyn Kind; 2] = [&sqlite::Sqlite, &postgres::Postgres];

/// The source that a configuration names; relative paths start from `base`. Connects to nothing.
///
/// # Errors
/// No kind of database has such URLs, or the one that has them does not take the settings.
pub fn from_settings(settings: &Settings, base: &Path) -> Result<Arc<dyn Source>> {
    let scheme = settings.url.split_once(':').map_or("", |(scheme, _)| scheme);
    match KINDS.iter().find(|kind| kind.schemes().contains(&scheme)) {
        Some(kind) => kind.source(settings, base),
        None => {
            let forms: Vec<&str> = KINDS.iter().map(|kind| kind.form()).collect();
            let problem = format!("expected {}", forms.join(" or "));
            Err(SourceError::Url { url: without_password(&settings.url), problem })
        }
    }
}
