//! Protected connections to servers.

use std::fmt;
use std::io::BufReader;
use std::path::Path;
use std::sync::Arc;

use keen_core::fault::ReadFault;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};

use crate::server::Access;

impl Access {
    /// TLS as this node wants it.
    pub(crate) fn tls_config(&self) -> Result<ClientConfig, ReadFault> {
        let provider = Arc::new(ring::default_provider());
        let unusable = |error: &dyn fmt::Display| {
            ReadFault::new(
                format!("cannot set up TLS: {error}"),
                "correct the node's tls = ... in the topology file",
            )
        };
        let builder = ClientConfig::builder_with_provider(Arc::clone(&provider))
            .with_safe_default_protocol_versions()
            .map_err(|error| unusable(&error))?;
        let builder = if self.tls.unverified {
            builder.dangerous().with_custom_certificate_verifier(Arc::new(Unverified(provider)))
        } else {
            builder.with_root_certificates(self.roots()?)
        };
        match &self.tls.client {
            None => Ok(builder.with_no_client_auth()),
            Some((cert, key)) => {
                let key_path = self.path(key);
                let key = PrivateKeyDer::from_pem_file(&key_path)
                    .map_err(|error| unreadable(&key_path, &error))?;
                let chain = certificates(&self.path(cert))?;
                builder.with_client_auth_cert(chain, key).map_err(|error| unusable(&error))
            }
        }
    }

    fn roots(&self) -> Result<RootCertStore, ReadFault> {
        let mut roots = RootCertStore::empty();
        match &self.tls.ca {
            Some(path) => {
                let path = self.path(path);
                for certificate in certificates(&path)? {
                    roots.add(certificate).map_err(|error| unreadable(&path, &error))?;
                }
            }
            None => {
                roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
            }
        }
        if roots.is_empty() {
            return Err(ReadFault::new(
                "there is no authority to check the server's certificate with",
                "name one in the topology file: tls = { ca = \"FILE\" }",
            ));
        }
        Ok(roots)
    }
}

fn certificates(path: &Path) -> Result<Vec<CertificateDer<'static>>, ReadFault> {
    let file = std::fs::File::open(path).map_err(|error| unreadable(path, &error))?;
    CertificateDer::pem_reader_iter(BufReader::new(file))
        .collect::<Result<_, _>>()
        .map_err(|error| unreadable(path, &error))
}

fn unreadable(path: &Path, error: &dyn fmt::Display) -> ReadFault {
    ReadFault::new(
        format!("cannot read {}: {error}", path.display()),
        "name a PEM file that this account may read in the node's tls = { ... }",
    )
}

/// Takes any certificate: for `tls = "unverified"`, which says so in the topology file.
#[derive(Debug)]
struct Unverified(Arc<CryptoProvider>);

impl ServerCertVerifier for Unverified {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, cert, signed, &self.0.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, cert, signed, &self.0.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}
