//! A person, or the machine, that asks a run to stop.

use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::watch;

/// Counts how often a stop was asked for: Ctrl-C at the terminal, the terminal going away, the machine or a
/// supervisor ending the program. From the moment this is made, none of them ends the program by itself.
#[derive(Clone, Debug)]
pub struct Interrupts(watch::Receiver<u32>);

impl Interrupts {
    /// Begins to listen. Must be called within the runtime.
    pub fn listen() -> Self {
        let (tell, asked) = watch::channel(0);
        for kind in [SignalKind::interrupt(), SignalKind::terminate(), SignalKind::hangup()] {
            // Where the system refuses to listen, the signal ends the program as it always would.
            if let Ok(mut signals) = signal(kind) {
                let tell = tell.clone();
                tokio::spawn(async move {
                    while signals.recv().await.is_some() {
                        tell.send_modify(|asked| *asked += 1);
                    }
                });
            }
        }
        Self(asked)
    }

    /// Completes once a stop was asked for so many times.
    pub async fn asked(&self, times: u32) {
        let mut asked = self.0.clone();
        if asked.wait_for(|asked| *asked >= times).await.is_err() {
            std::future::pending::<()>().await;
        }
    }
}
