//! TLS as `libpq`'s `sslmode` means it, with rustls.

use std::path::Path;
use std::sync::Arc;

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};

use super::address::{Address, SslMode};
use crate::{Result, SourceError};

/// How to speak TLS to a server.
///
/// # Errors
/// A file of certificates or keys cannot be read.
pub fn config(address: &Address) -> Result<ClientConfig> {
    let fail = |problem: String| SourceError::Open { path: address.place(), problem };
    let provider = Arc::new(ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider.clone())
        .with_safe_default_protocol_versions()
        .map_err(|e| fail(e.to_string()))?;
    let checks = match address.ssl {
        SslMode::VerifyCa | SslMode::VerifyFull => true,
        // A root certificate that is there is used.
        SslMode::Require => address.root_cert.is_some(),
        SslMode::Disable | SslMode::Allow | SslMode::Prefer => false,
    };
    let verifier: Arc<dyn ServerCertVerifier> = if checks {
        let roots = Arc::new(roots(address.root_cert.as_deref()).map_err(fail)?);
        let authorities = WebPkiServerVerifier::builder_with_provider(roots, provider.clone())
            .build()
            .map_err(|e| fail(format!("sslrootcert: {e}")))?;
        match address.ssl {
            SslMode::VerifyFull => authorities,
            _ => Arc::new(Lenient { provider, authorities: Some(authorities) }),
        }
    } else {
        Arc::new(Lenient { provider, authorities: None })
    };
    let builder = builder.dangerous().with_custom_certificate_verifier(verifier);
    let Some((cert, key)) = &address.own_cert else { return Ok(builder.with_no_client_auth()) };
    let read = |file: &Path, e: &dyn std::fmt::Display| fail(format!("{}: {e}", file.display()));
    let certs = CertificateDer::pem_file_iter(cert).and_then(Iterator::collect).map_err(|e| read(cert, &e))?;
    let own_key = PrivateKeyDer::from_pem_file(key).map_err(|e| read(key, &e))?;
    builder.with_client_auth_cert(certs, own_key).map_err(|e| read(cert, &e))
}

fn roots(file: Option<&Path>) -> std::result::Result<RootCertStore, String> {
    let mut roots = RootCertStore::empty();
    match file {
        Some(file) if file != Path::new("system") => {
            let named = |e: &dyn std::fmt::Display| format!("sslrootcert {}: {e}", file.display());
            for cert in CertificateDer::pem_file_iter(file).map_err(|e| named(&e))? {
                roots.add(cert.map_err(|e| named(&e))?).map_err(|e| named(&e))?;
            }
            if roots.is_empty() {
                return Err(named(&"no certificate in it"));
            }
        }
        Some(_) => {
            roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
        None => return Err("sslmode asks for a checked certificate: name the authorities with sslrootcert".into()),
    }
    Ok(roots)
}

/// Asks less of a certificate than rustls does by itself: that it comes from a trusted authority, for whatever host; or,
/// without authorities, nothing. Then the connection is encrypted, but the server is not authenticated.
#[derive(Debug)]
struct Lenient {
    provider: Arc<CryptoProvider>,
    authorities: Option<Arc<WebPkiServerVerifier>>,
}

impl ServerCertVerifier for Lenient {
    fn verify_server_cert(
        &self,
        cert: &CertificateDer<'_>,
        chain: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> std::result::Result<ServerCertVerified, Error> {
        let Some(authorities) = &self.authorities else { return Ok(ServerCertVerified::assertion()) };
        match authorities.verify_server_cert(cert, chain, name, ocsp, now) {
            // Looked at last, when all else is right.
            Err(Error::InvalidCertificate(
                CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. },
            )) => Ok(ServerCertVerified::assertion()),
            other => other,
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> std::result::Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, cert, signed, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> std::result::Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, cert, signed, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
