//! Ways to an address as a host reaches it, each connection verified by TLS.
//!
//! Three of them, in this order: forwarded by the host's SSH server; where it forbids that, through a session
//! in which bash dials; and where neither is to be had, directly from here, unless what is to be proven is
//! what *this host* reaches. Which one leads somewhere is learnt with the first connection.

use std::io::{Error, ErrorKind};
use std::pin::Pin;
use std::sync::{Arc, Mutex};
use std::task::{Context, Poll};
use std::time::Duration;

use futures_util::future::BoxFuture;
use rustls_pki_types::ServerName;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio::sync::oneshot;
use tokio::time::Instant;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use zoisite_core::diagnosis::Trouble;

use super::carrier::Stream;
use super::channel::{Channel, Places};

/// How often a session is tried where it is not known yet whether the host forwards.
const SELDOM: Duration = Duration::from_secs(5);
/// For how long the last words of a session that led nowhere are waited for.
const LAST_WORDS: Duration = Duration::from_secs(2);

/// bash dials and passes octets on: what no other program of a minimal system does.
fn pass(host: &str, port: u16) -> String {
    const PASS: &str =
        r#"exec 3<>"/dev/tcp/$0/$1" 4<&0 || exit 9; cat <&4 >&3 & cat <&3; kill $! 2>/dev/null"#;
    format!("env LC_ALL=C bash -c '{PASS}' {host} {port}")
}

/// What leads through a host.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Through {
    /// Nothing was reached yet.
    Unknown = 0,
    /// Its SSH server forwards.
    Forward = 1,
    /// A session passes octets on.
    Session = 2,
}

/// A way to an address, to be gone as often as connections are wanted.
#[derive(Clone)]
pub struct Way {
    pub(super) channel: Arc<Channel>,
    pub(super) host: String,
    pub(super) port: u16,
    /// Whether the address may be dialled from here where the host lets nothing through.
    pub(super) from_here: bool,
}

/// A verified connection.
pub(crate) type Secured = TlsStream<Box<dyn Stream>>;

impl Way {
    /// Dials, and greets by TLS.
    pub(crate) async fn connect(
        &self,
        tls: &TlsConnector,
        server: &ServerName<'static>,
    ) -> std::io::Result<Secured> {
        let channel = &self.channel;
        let through = channel.through();
        if through != Through::Session {
            let connection = channel.connection(Instant::now()).await.map_err(Error::other)?;
            let dialled = connection.dial(&self.host, self.port).await;
            let greeted = match dialled {
                Ok(stream) => tls.connect(server.clone(), stream).await,
                Err(broken) => Err(Error::other(broken.to_string())),
            };
            match greeted {
                Ok(secured) => {
                    channel.leads(Through::Forward);
                    return Ok(secured);
                }
                // A far end that takes no connection ends it without an octet, whoever refused it.
                Err(error) if through == Through::Unknown && is_mute(&error) => {
                    if !channel.has_sessions_to_spare() {
                        return match self.from_here {
                            true => self.directly(tls, server).await,
                            false => Err(Error::new(error.kind(), "the host forwards nothing")),
                        };
                    }
                    if !channel.may_try_session(SELDOM) {
                        return Err(Error::new(error.kind(), "nothing answers there"));
                    }
                }
                Err(error) => return Err(error),
            }
        }
        let (stream, said) = self.pass().await.map_err(|trouble| Error::other(trouble.answer))?;
        let error = match tls.connect(server.clone(), stream).await {
            Ok(secured) => {
                channel.leads(Through::Session);
                return Ok(secured);
            }
            Err(error) => error,
        };
        let said = tokio::time::timeout(LAST_WORDS, said).await;
        let said = said.ok().and_then(Result::ok).unwrap_or_default();
        let no_bash = ["not found", "No such file or directory"].iter().any(|w| said.contains(w));
        if no_bash && self.from_here {
            return self.directly(tls, server).await;
        }
        // `bash: connect: Connection refused`
        let first = said.lines().next().unwrap_or_default();
        match first.rsplit(": ").next().filter(|told| !told.is_empty() && is_mute(&error)) {
            Some(told) => Err(Error::new(error.kind(), told.to_owned())),
            None => Err(error),
        }
    }

    async fn directly(
        &self,
        tls: &TlsConnector,
        server: &ServerName<'static>,
    ) -> std::io::Result<Secured> {
        let stream = TcpStream::connect((self.host.as_str(), self.port)).await?;
        let stream: Box<dyn Stream> = Box::new(stream);
        tls.connect(server.clone(), stream).await
    }

    /// A session in which bash dials, and what it says on standard error when it ends.
    async fn pass(&self) -> Result<(Box<dyn Stream>, oneshot::Receiver<String>), Trouble> {
        let attempted = "dialling through the host";
        let session =
            self.channel.start(&pass(&self.host, self.port), attempted, Instant::now()).await?;
        let mut errors = session.process.errors.take(4_096);
        let (tell, said) = oneshot::channel();
        tokio::spawn(async move {
            let mut text = Vec::new();
            let _ = errors.read_to_end(&mut text).await;
            let _ = tell.send(String::from_utf8_lossy(&text).into_owned());
        });
        let stream = Passed {
            input: session.process.input,
            output: session.process.output,
            _ended: Mutex::new(session.process.ended),
            _places: session.places,
        };
        Ok((Box::new(stream), said))
    }
}

/// Whether a greeting failed because the far end said nothing at all.
fn is_mute(error: &Error) -> bool {
    matches!(
        error.kind(),
        ErrorKind::UnexpectedEof | ErrorKind::ConnectionReset | ErrorKind::BrokenPipe
    )
}

/// A session's streams as one.
struct Passed {
    input: Box<dyn AsyncWrite + Send + Unpin>,
    output: Box<dyn AsyncRead + Send + Unpin>,
    /// What ends the session when it is dropped.
    _ended: Mutex<BoxFuture<'static, Option<i32>>>,
    _places: Places,
}

impl AsyncRead for Passed {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.output).poll_read(cx, buf)
    }
}

impl AsyncWrite for Passed {
    fn poll_write(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &[u8],
    ) -> Poll<std::io::Result<usize>> {
        Pin::new(&mut self.input).poll_write(cx, buf)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.input).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.input).poll_shutdown(cx)
    }
}
