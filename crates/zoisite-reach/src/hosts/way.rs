//! Ways to an address as a host reaches it, each connection verified by TLS.
//!
//! Three of them, in this order: forwarded by the host's SSH server; where it forbids that, through a session
//! in which bash dials; and where neither is to be had, directly from here, unless what is to be proven is
//! what *this host* reaches. Which one leads somewhere is learnt with the first connection.

use std::io::{Error, ErrorKind};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use async_trait::async_trait;
use rustls_pki_types::ServerName;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio::sync::oneshot;
use tokio::time::Instant;
use tokio_rustls::TlsConnector;

use super::channel::{Channel, Places, Through};
use crate::access::{Dial, Secured, Stream};

/// How often a session is tried where it is not known yet whether the host forwards.
const SELDOM: Duration = Duration::from_secs(5);
/// For how long bash may dial.
const REACHING: Duration = Duration::from_secs(15);
/// For how long the last words of a session that led nowhere are waited for.
const LAST_WORDS: Duration = Duration::from_secs(2);

/// What bash says once it has reached the address: whatever a login shell prints comes before.
const REACHED: &str = "@ zoisite: reached";

/// bash dials and passes octets on: what no other program of a minimal system does.
fn pass(host: &str, port: u16) -> String {
    const PASS: &str = r#"exec 3<>"/dev/tcp/$0/$1" 4<&0 || exit 9; echo "$2"; cat <&4 >&3 & cat <&3; kill $! 2>/dev/null"#;
    format!("env LC_ALL=C bash -c '{PASS}' {host} {port} '{REACHED}'")
}

/// A way to an address, to be gone as often as connections are wanted.
pub(super) struct Way {
    pub channel: Arc<Channel>,
    pub host: String,
    pub port: u16,
    /// Whether the address may be dialled from here where the host lets nothing through.
    pub from_here: bool,
}

#[async_trait]
impl Dial for Way {
    async fn connect(
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
                Err(broken) => Err(Error::new(ErrorKind::BrokenPipe, broken.to_string())),
            };
            match greeted {
                Ok(secured) => {
                    channel.leads(Through::Forward);
                    return Ok(secured);
                }
                // A far end that takes no connection ends it without an octet, whoever refused it.
                Err(error) if through == Through::Unknown && is_mute(&error) => {}
                Err(error) => return Err(error),
            }
        }
        if !channel.has_sessions_to_spare() {
            return match self.from_here {
                true => self.directly(tls, server).await,
                false => Err(Error::other(
                    "its SSH server forwards nothing and allows one session: what it reaches cannot be seen",
                )),
            };
        }
        if let (Through::Unknown, Some(last)) = (through, channel.tried_lately(SELDOM)) {
            return Err(Error::other(last));
        }
        let passed = match self.pass().await {
            Ok(stream) => stream,
            Err(NotPassed::Unable) if self.from_here => return self.directly(tls, server).await,
            Err(NotPassed::Unable) => {
                let why = "its SSH server forwards nothing and it has no bash";
                channel.tried_in_vain(why);
                return Err(Error::other(why));
            }
            Err(NotPassed::Told(why)) => {
                channel.tried_in_vain(&why);
                return Err(Error::new(ErrorKind::ConnectionRefused, why));
            }
        };
        let secured = tls.connect(server.clone(), passed).await?;
        channel.leads(Through::Session);
        Ok(secured)
    }
}

impl Way {
    async fn directly(
        &self,
        tls: &TlsConnector,
        server: &ServerName<'static>,
    ) -> std::io::Result<Secured> {
        let stream = TcpStream::connect((self.host.as_str(), self.port)).await?;
        let stream: Box<dyn Stream> = Box::new(stream);
        tls.connect(server.clone(), stream).await
    }

    /// A session in which bash has reached the address.
    async fn pass(&self) -> Result<Box<dyn Stream>, NotPassed> {
        let attempted = "dialling through the host";
        let command = pass(&self.host, self.port);
        let session = self.channel.start(&command, attempted, Instant::now()).await;
        let session = session.map_err(|trouble| NotPassed::Told(trouble.answer))?;
        let (mut output, ended) = (session.process.output, session.process.ended);
        if !reached(&mut *output).await {
            let mut said = String::new();
            let mut errors = session.process.errors.take(4_096);
            let _ = tokio::time::timeout(LAST_WORDS, errors.read_to_string(&mut said)).await;
            // `bash: connect: Connection refused`; env or the login shell says that there is no bash.
            let dialled = said.lines().find(|line| line.contains("connect:"));
            return Err(match dialled.and_then(|line| line.rsplit(": ").next()) {
                Some(why) => NotPassed::Told(why.to_owned()),
                None if said.contains("bash") || said.is_empty() => NotPassed::Unable,
                None => NotPassed::Told(said.trim().to_owned()),
            });
        }
        // The session ends when the stream is dropped, or when it is in the way of scripts.
        let (held, dropped) = oneshot::channel::<()>();
        let yields = self.channel.yields();
        tokio::spawn(async move {
            tokio::select! {
                _ = ended => {}
                _ = dropped => {}
                () = yields => {}
            }
        });
        let input = session.process.input;
        Ok(Box::new(Passed { input, output, _held: held, _places: session.places }))
    }
}

/// Why nothing was passed on.
enum NotPassed {
    /// There is no bash to do it.
    Unable,
    /// The address was not reached, in these words.
    Told(String),
}

/// Reads what comes before the address is reached, and no octet more; whether it was.
async fn reached(output: &mut (dyn AsyncRead + Send + Unpin)) -> bool {
    let read = async {
        let mut line = Vec::new();
        for _ in 0..64 * 1_024 {
            match output.read_u8().await {
                Ok(b'\n') if line.ends_with(REACHED.as_bytes()) => return true,
                Ok(b'\n') => line.clear(),
                Ok(octet) => line.push(octet),
                Err(_) => return false,
            }
        }
        false
    };
    tokio::time::timeout(REACHING, read).await.unwrap_or(false)
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
    /// The session ends when this is dropped.
    _held: oneshot::Sender<()>,
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
