//! What carries octets between this machine and a host.
//!
//! A [`Carrier`] opens [`Connection`]s. A connection starts commands by the host's login shell, and dials
//! addresses as the host reaches them. Opening again, bounds, deadlines and becoming root are the channel's
//! work and the same over any carrier: over the person's own OpenSSH, or over a stand-in that misbehaves by
//! order.

use std::net::IpAddr;
use std::sync::Arc;

use async_trait::async_trait;
use futures_util::future::BoxFuture;
use tokio::io::{AsyncRead, AsyncWrite};
use zoisite_core::cluster::{HostName, Login};

use crate::access::Stream;

/// How to reach one host.
#[derive(Clone, Debug)]
pub struct Target {
    /// Its name; `Host` sections of the person's SSH configuration apply to it.
    pub name: HostName,
    /// What the cluster dials; logged in at too, unless the login says otherwise.
    pub address: IpAddr,
    /// Where it stands, if that is said: hosts of one site give each other what came there once.
    pub site: Option<String>,
    /// How the administrator gets in; the SSH configuration file is an absolute path by now.
    pub login: Login,
}

/// What may become of trying again to open a connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Hope {
    /// Too many knocked at once (`MaxStartups` of sshd drops at random): a little later it may open.
    Crowded,
    /// Nothing answers there now: it may be starting.
    Away,
    /// It was refused for good: a person must do something.
    None,
}

/// A connection that did not come about.
#[derive(Clone, Debug)]
pub struct NotOpened {
    /// What was said.
    pub said: String,
    /// Whether trying again may help.
    pub hope: Hope,
    /// What to do about it, where the carrier knows better than the words alone tell.
    pub fix: Option<String>,
}

/// Why a command did not start, or an address was not reached.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Broken {
    /// The connection is gone.
    Gone(String),
    /// One more session is refused while others run (`MaxSessions` of sshd).
    Crowded(String),
    /// Something else, in the words that came back.
    Refused(String),
}

impl std::fmt::Display for Broken {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let (Self::Gone(said) | Self::Crowded(said) | Self::Refused(said)) = self;
        f.write_str(said)
    }
}

/// A command that runs on a host. It ends when this is dropped, or a moment later.
pub struct Process {
    /// Its standard input.
    pub input: Box<dyn AsyncWrite + Send + Unpin>,
    /// Its standard output.
    pub output: Box<dyn AsyncRead + Send + Unpin>,
    /// Its standard error.
    pub errors: Box<dyn AsyncRead + Send + Unpin>,
    /// Completes when it has ended: its exit status, or `None` when the connection broke off.
    pub ended: BoxFuture<'static, Option<i32>>,
}

/// A way of reaching hosts.
#[async_trait]
pub trait Carrier: Send + Sync {
    /// Opens a connection.
    ///
    /// # Errors
    /// What was said instead.
    async fn open(&self, target: &Target) -> Result<Arc<dyn Connection>, NotOpened>;

    /// The name or address and the port that are dialled from here for a target; `None` where another host or
    /// program leads there.
    async fn dials(&self, target: &Target) -> Option<(String, u16)> {
        let _ = target;
        None
    }

    /// What a target is reached through, where that is shared: its name.
    async fn behind(&self, target: &Target) -> Option<String>;
}

/// A connection to one host.
#[async_trait]
pub trait Connection: Send + Sync {
    /// Starts a command by the login shell.
    ///
    /// # Errors
    /// Why it did not start.
    async fn start(&self, command: &str) -> Result<Process, Broken>;

    /// Reaches an address as the host does, without running anything there. Whether the far end took the
    /// connection may show only when something is read from it: one that ends without an octet was refused.
    ///
    /// # Errors
    /// Why not.
    async fn dial(&self, host: &str, port: u16) -> Result<Box<dyn Stream>, Broken>;

    /// Whether it still stands, as far as this side knows.
    fn stands(&self) -> bool;

    /// Ends it.
    async fn close(&self);
}
