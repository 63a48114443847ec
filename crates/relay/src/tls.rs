//! TLS to brokers, with rustls.

use std::fmt;
use std::path::Path;
use std::sync::Arc;

use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};

use crate::RelayError;

/// The root certificates that a broker's certificate is checked against.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct TlsRoots {
    /// As PEM; `None`: those of the operating system.
    authorities: Option<Arc<str>>,
}

impl TlsRoots {
    /// Those of the operating system.
    pub fn system() -> TlsRoots {
        TlsRoots::default()
    }

    /// Those in a PEM file, and no others.
    ///
    /// # Errors
    ///
    /// What is wrong with the file.
    pub fn file(path: &Path) -> Result<TlsRoots, String> {
        let named = |e: &dyn fmt::Display| format!("{}: {e}", path.display());
        let text = std::fs::read_to_string(path).map_err(|e| named(&e))?;
        let roots = TlsRoots { authorities: Some(text.into()) };
        roots.roots().map_err(|e| named(&e))?;
        Ok(roots)
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

    /// The client's side of TLS.
    ///
    /// # Errors
    ///
    /// The roots cannot be used.
    pub fn config(&self) -> Result<ClientConfig, RelayError> {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(RelayError::unreachable)?;
        let roots = self.roots().map_err(RelayError::Unreachable)?;
        Ok(config.with_root_certificates(roots).with_no_client_auth())
    }
}

impl fmt::Debug for TlsRoots {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if self.authorities.is_some() { "authorities of a file" } else { "authorities of the system" })
    }
}

/// Installs the process's default cryptography, which some clients look for.
pub(crate) fn install_provider() {
    // Somebody may have done so before.
    let _ = rustls::crypto::ring::default_provider().install_default();
}
