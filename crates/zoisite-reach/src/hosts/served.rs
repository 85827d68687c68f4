//! What servers show of themselves to the hosts that dial them, and whom they refuse.

use std::sync::Arc;
use std::time::Duration;

use rustls_pki_types::ServerName;
use tokio::io::AsyncReadExt as _;
use tokio_rustls::TlsConnector;
use tokio_rustls::rustls::ClientConfig;
use zoisite_core::cluster::HostName;
use zoisite_core::pki::{San, hex};

use super::Hosts;
use crate::access::{Access, Secured, believing};

/// Within which time a server greets.
const GREETED: Duration = Duration::from_secs(20);
/// For how long a word of refusal is waited for: without one, the client was let in.
const REFUSED: Duration = Duration::from_secs(5);

impl Hosts {
    /// Dials a server as a host does, and as that name, believing these authorities (PEM) and showing nothing; SHA-256
    /// of the certificate that it shows, in hexadecimal.
    ///
    /// # Errors
    /// Why it is not reached, or not believed.
    pub async fn shown_to(
        &self,
        from: &HostName,
        at: (&str, u16),
        name: &San,
        authorities: &str,
    ) -> Result<String, String> {
        let secured = self.greeted(from, at, name, believing(authorities)?).await?;
        let (_, session) = secured.get_ref();
        let shown = session.peer_certificates().and_then(|chain| chain.first());
        let shown = shown.ok_or("it shows no certificate")?;
        Ok(sha256(shown))
    }

    /// Whether a server refuses that certificate, dialled as a host does.
    ///
    /// # Errors
    /// Why it is not reached.
    pub async fn refuses(
        &self,
        from: &HostName,
        at: (&str, u16),
        name: &San,
        stranger: &Access,
    ) -> Result<bool, String> {
        // Before TLS 1.3 the greeting itself fails.
        let mut secured = match self.greeted(from, at, name, stranger.tls(&[b"h2"])?).await {
            Err(why) if why.contains("alert") => return Ok(true),
            greeted => greeted?,
        };
        let mut octet = [0];
        match tokio::time::timeout(REFUSED, secured.read(&mut octet)).await {
            Ok(Err(_) | Ok(0)) => Ok(true),
            Ok(Ok(_)) | Err(_) => Ok(false),
        }
    }

    async fn greeted(
        &self,
        from: &HostName,
        (host, port): (&str, u16),
        name: &San,
        tls: Arc<ClientConfig>,
    ) -> Result<Secured, String> {
        let server = match name {
            San::Ip(ip) => ServerName::IpAddress((*ip).into()),
            San::Dns(name) => {
                ServerName::try_from(name.clone()).map_err(|error| error.to_string())?
            }
        };
        let way = self.way(from, (host.to_owned(), port), false)?;
        let connector = TlsConnector::from(tls);
        match tokio::time::timeout(GREETED, way.connect(&connector, &server)).await {
            Err(_) => Err(format!("no answer within {} seconds", GREETED.as_secs())),
            Ok(greeted) => greeted.map_err(|error| error.to_string()),
        }
    }
}

fn sha256(der: &[u8]) -> String {
    hex(aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, der).as_ref())
}
