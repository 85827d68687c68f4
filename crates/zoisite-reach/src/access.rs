//! With what a run proves who it is, how it verifies whom it dials, and that something dials at all.

use std::sync::Arc;

use async_trait::async_trait;

use rustls_pki_types::pem::PemObject as _;
use rustls_pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;
use tokio_rustls::rustls::client::WantsClientCert;
use tokio_rustls::rustls::{ClientConfig, ConfigBuilder, RootCertStore};
use zoisite_core::pki::Secret;

/// Any stream of octets, both ways.
pub trait Stream: AsyncRead + AsyncWrite + Send + Unpin {}
impl<S: AsyncRead + AsyncWrite + Send + Unpin> Stream for S {}

/// A verified connection.
pub(crate) type Secured = TlsStream<Box<dyn Stream>>;

/// A way to an address, to be gone as often as connections are wanted.
#[async_trait]
pub(crate) trait Dial: Send + Sync {
    /// Dials, and greets by TLS.
    async fn connect(
        &self,
        tls: &TlsConnector,
        server: &ServerName<'static>,
    ) -> std::io::Result<Secured>;
}

/// How a run reaches the API, or etcd's client side.
#[derive(Clone, Debug)]
pub struct Access {
    /// The authority that signed whom it dials, PEM.
    pub authority: String,
    /// The run's own certificate, PEM.
    pub certificate: String,
    /// Its key.
    pub key: Secret,
    /// Name and password for the cluster's own registry, as basic authentication has them (RFC 7617).
    pub registry_login: Option<Secret>,
}

/// TLS from a side that believes these authorities, PEM.
fn verifying(authorities: &str) -> Result<ConfigBuilder<ClientConfig, WantsClientCert>, String> {
    let mut roots = RootCertStore::empty();
    for certificate in CertificateDer::pem_slice_iter(authorities.as_bytes()) {
        let certificate = certificate.map_err(|e| e.to_string())?;
        roots.add(certificate).map_err(|e| e.to_string())?;
    }
    let provider = tokio_rustls::rustls::crypto::aws_lc_rs::default_provider();
    let config = ClientConfig::builder_with_provider(Arc::new(provider))
        .with_safe_default_protocol_versions()
        .map_err(|e| e.to_string())?;
    Ok(config.with_root_certificates(roots))
}

/// The same, of a side that shows nothing of itself.
///
/// # Errors
/// When the authorities cannot be read.
pub(crate) fn believing(authorities: &str) -> Result<Arc<ClientConfig>, String> {
    Ok(Arc::new(verifying(authorities)?.with_no_client_auth()))
}

impl Access {
    /// TLS from this side, with the protocols that may be spoken in it (RFC 7301).
    ///
    /// # Errors
    /// When the certificates cannot be used.
    pub(crate) fn tls(&self, protocols: &[&[u8]]) -> Result<Arc<ClientConfig>, String> {
        let chain = CertificateDer::pem_slice_iter(self.certificate.as_bytes())
            .collect::<Result<Vec<_>, _>>()
            .map_err(|e| e.to_string())?;
        let key = PrivateKeyDer::from_pem_slice(self.key.expose().as_bytes())
            .map_err(|e| e.to_string())?;
        let config = verifying(&self.authority)?;
        let mut config =
            config.with_client_auth_cert(chain, key).map_err(|error| error.to_string())?;
        config.alpn_protocols = protocols.iter().map(|name| name.to_vec()).collect();
        Ok(Arc::new(config))
    }
}
