//! What servers of every kind have in common: who logs in, over what, and how
//! long an answer may take.

use std::fmt;
use std::io::BufReader;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::observe::links::Micros;
use keen_core::topology::{Server, Tls};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};

/// What to do when a certificate cannot be checked.
pub(crate) const UNKNOWN_AUTHORITY: &str = "name the authority that signed it, tls = { ca = \"FILE\" }, and reach the server by a name in the certificate";
/// What to do when a server will not protect the connection.
pub(crate) const NO_TLS: &str = "the server offers no TLS: set it up there, or say tls = \"off\" if nobody can listen on the way";
/// What to do when a server asks for a password and there is none.
pub(crate) const NO_PASSWORD: &str =
    "say where the password is: password = { env = \"NAME\" } or { file = \"PATH\" }";

/// A password, kept out of debug output.
#[derive(Clone, PartialEq, Eq)]
pub struct Password(String);

impl Password {
    /// Takes a password.
    #[must_use]
    pub fn new(text: String) -> Self {
        Self(text)
    }

    pub(crate) fn reveal(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Password {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Password(…)")
    }
}

/// How to get to a server, and how long that may take.
#[derive(Debug, Clone)]
pub struct Access {
    /// Where it is.
    pub server: Server,
    /// The password of its account, if it needs one.
    pub password: Option<Password>,
    /// How the connection is protected.
    pub tls: Tls,
    /// The folder that relative paths of certificates start at.
    pub base: PathBuf,
    /// How long to wait for a connection to be ready, and for locks.
    pub wait: Duration,
    /// A server that sends nothing for so long while it owes an answer is given up.
    pub silence: Duration,
    /// Raised to stop whatever is being read.
    pub stop: Arc<AtomicBool>,
}

impl Access {
    /// A server on the way to which nothing can listen, reached in the usual way.
    #[must_use]
    pub fn plain(server: Server, password: Option<&str>) -> Self {
        Self {
            server,
            password: password.map(|text| Password::new(text.to_owned())),
            tls: Tls::default(),
            base: PathBuf::new(),
            wait: Duration::from_secs(5),
            silence: Duration::from_secs(30),
            stop: Arc::default(),
        }
    }

    /// Whether the connection is to be protected.
    #[must_use]
    pub fn wants_tls(&self) -> bool {
        self.tls.on.unwrap_or_else(|| !self.server.is_loopback())
    }

    /// `host:port`, for messages.
    #[must_use]
    pub fn shown(&self) -> String {
        let host = &self.server.host;
        let host = if host.contains(':') { format!("[{host}]") } else { host.clone() };
        format!("{host}:{}", self.server.port)
    }

    pub(crate) fn path(&self, path: &str) -> PathBuf {
        self.base.join(path)
    }

    pub(crate) fn stopped(&self) -> bool {
        self.stop.load(std::sync::atomic::Ordering::Relaxed)
    }

    /// It took longer than it may.
    pub(crate) fn silent(&self, doing: &str) -> ReadFault {
        let limit = if doing.starts_with("connect") { self.wait } else { self.silence };
        ReadFault::new(
            format!("{} did not answer within {limit:?} when asked to {doing}", self.shown()),
            "the machine or the server may be frozen or overloaded: look at it, or allow more time with --connect-timeout and --idle-timeout",
        )
        .of(FaultKind::NoAnswer)
    }

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

/// The probe does more than read: of a refusal, the right that is lacking; of a table that is not there, how it comes.
pub(crate) fn explain(fault: ReadFault, right: &str, user: &str) -> ReadFault {
    let advice = match fault.kind {
        FaultKind::NotAllowed => format!(
            "{user} lacks the right to {right}: keen probe --ddl prints the table and its grants, for an account that may run them"
        ),
        FaultKind::NoTable => {
            "create the table: keen probe --ddl prints how, --create does it".to_owned()
        }
        _ => return fault,
    };
    ReadFault { advice, ..fault }
}

/// The same of the table of heartbeats.
pub(crate) fn explain_heartbeat(fault: ReadFault, user: &str) -> ReadFault {
    match fault.kind {
        FaultKind::NotAllowed => {
            let advice = format!("grant {user} SELECT, INSERT and UPDATE on the table");
            ReadFault { advice, ..fault }
        }
        _ => fault,
    }
}

/// The present moment by our own clock.
pub(crate) fn now() -> Micros {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_micros()).unwrap_or(i64::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_password_is_in_no_debug_output() {
        assert_eq!(format!("{:?}", Password::new("edelweiss".to_owned())), "Password(…)");
    }
}
