//! TLS to brokers, with rustls: who vouches for them.

use std::fmt;
use std::path::Path;
use std::sync::Arc;

use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};

use crate::RelayError;

/// The authorities whose word on a broker's certificate counts.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct Trust {
    /// As PEM; `None`: those of the operating system.
    authorities: Option<Arc<str>>,
}

impl Trust {
    /// Those of the operating system.
    pub fn system() -> Trust {
        Trust::default()
    }

    /// Those in a PEM file, and no others.
    ///
    /// # Errors
    /// What is wrong with the file.
    pub fn file(path: &Path) -> Result<Trust, String> {
        let named = |e: &dyn fmt::Display| format!("{}: {e}", path.display());
        let text = std::fs::read_to_string(path).map_err(|e| named(&e))?;
        let trust = Trust { authorities: Some(text.into()) };
        trust.roots().map_err(|e| named(&e))?;
        Ok(trust)
    }

    /// As PEM, where they are not the system's.
    pub fn pem(&self) -> Option<&str> {
        self.authorities.as_deref()
    }

    fn roots(&self) -> Result<RootCertStore, String> {
        let mut roots = RootCertStore::empty();
        let Some(text) = &self.authorities else {
            roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
            return Ok(roots);
        };
        for certificate in CertificateDer::pem_slice_iter(text.as_bytes()) {
            let added = certificate.map_err(|e| e.to_string()).and_then(|c| roots.add(c).map_err(|e| e.to_string()));
            added?;
        }
        if roots.is_empty() { Err("there is no certificate in it".into()) } else { Ok(roots) }
    }

    /// How to speak TLS.
    pub fn config(&self) -> Result<ClientConfig, RelayError> {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(RelayError::unreachable)?;
        let roots = self.roots().map_err(RelayError::Unreachable)?;
        Ok(config.with_root_certificates(roots).with_no_client_auth())
    }
}

impl fmt::Debug for Trust {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if self.authorities.is_some() { "authorities of a file" } else { "authorities of the system" })
    }
}

/// Some clients look for the process's own choice of how to encrypt.
pub(crate) fn choose() {
    // It may have been made.
    let _ = rustls::crypto::ring::default_provider().install_default();
}
