//! Ways to an address as a host reaches it: through its SSH connection, or directly where forwarding is
//! forbidden.

use std::path::PathBuf;

use openssh::{ForwardType, Socket};
use tokio::net::{TcpStream, UnixStream};
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;

use super::SshFleet;
use crate::api::Stream;

/// A way to an address, to be gone as often as connections are wanted.
#[derive(Clone, Debug)]
pub(super) enum Way {
    /// A socket here that leads there through the host.
    Through(PathBuf),
    /// Name or address, and port.
    Directly(String, u16),
}

impl Way {
    pub async fn connect(self) -> std::io::Result<Box<dyn Stream>> {
        Ok(match self {
            Self::Through(socket) => Box::new(UnixStream::connect(socket).await?),
            Self::Directly(host, port) => Box::new(TcpStream::connect((host, port)).await?),
        })
    }
}

impl SshFleet {
    /// Path of a host's socket of one kind, which is a letter: paths have little room.
    pub(super) fn socket(&self, host: &HostName, kind: &str) -> PathBuf {
        let index = self.hosts.keys().position(|name| name == host).unwrap_or(0);
        self.folder.path().join(format!("{kind}{index}"))
    }

    /// The way to an address as a host reaches it.
    pub(super) async fn way(
        &self,
        host: &HostName,
        kind: &str,
        to: (String, u16),
    ) -> Result<Way, Trouble> {
        let session = self.session(host).await?;
        let socket = self.socket(host, kind);
        let there = Socket::TcpSocket { host: to.0.clone().into(), port: to.1 };
        let leads = socket.exists()
            || session
                .request_port_forward(ForwardType::Local, socket.as_path(), there)
                .await
                .is_ok();
        Ok(if leads { Way::Through(socket) } else { Way::Directly(to.0, to.1) })
    }
}
