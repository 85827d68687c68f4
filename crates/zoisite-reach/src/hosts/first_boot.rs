//! First-boot data on machines that run: asking for it, and changing it.

use std::time::Duration;

use tokio::time::Instant;
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::first_boot::{
    Carried, SeedState, Way, apply_script, read_state, settled_state_script, state_script,
};
use zoisite_core::sequence::StepOutcome;

use super::Hosts;
use crate::reach::Progress;

/// How often a machine that starts again is asked whether it is back.
const EVERY: Duration = Duration::from_secs(1);
const LOOK_THERE: &str = "look there: cloud-init status --long; journalctl -u cloud-init; then run the same command again";

impl Hosts {
    /// The data that a machine has.
    ///
    /// # Errors
    /// When it does not answer.
    pub async fn seed_state(&self, host: &HostName) -> Result<SeedState, Trouble> {
        let text = self.report(host, &state_script(host), "asking for its first-boot data").await?;
        Ok(read_state(&text))
    }

    /// Waits until a machine that an earlier run changed answers, and has applied its data.
    ///
    /// # Errors
    /// When that is not so in time.
    pub async fn settled(
        &self,
        host: &HostName,
        timeout: Duration,
        progress: Progress<'_>,
    ) -> Result<(), Trouble> {
        let attempted = "waiting until it has applied its earlier first-boot data";
        let script = settled_state_script(host, self.generation);
        let end = Instant::now() + timeout;
        loop {
            let last = match self.report(host, &script, attempted).await {
                Ok(text) if !read_state(&text).is_at_it() => return Ok(()),
                Ok(_) => "it is at it".to_owned(),
                Err(trouble) => trouble.answer,
            };
            if Instant::now() >= end {
                let trouble = Trouble::new(Some(host.clone()), attempted, last, Vec::new());
                return Err(trouble.fix(LOOK_THERE));
            }
            progress(last);
            tokio::time::sleep(EVERY).await;
        }
    }

    /// Brings a machine other data, and waits until it has applied it, also past its next start.
    ///
    /// # Errors
    /// What went wrong there, or that it is not back in time, or came back with older data.
    pub async fn tell(
        &self,
        host: &HostName,
        (files, locked_out): (&[Carried], &[(String, String)]),
        (instance, way): (&str, Way),
        timeout: Duration,
        progress: Progress<'_>,
    ) -> Result<(), Trouble> {
        let before = self.seed_state(host).await?.boot;
        let script = apply_script(host, files, locked_out, way, self.generation);
        if let (StepOutcome::Failed(trouble), _) = self.carried_out(host, &script, progress).await {
            return Err(trouble);
        }
        let end = Instant::now() + timeout;
        let attempted = "waiting until it has applied it";
        let mut last = "it has not answered since".to_owned();
        while Instant::now() < end {
            if let Ok(heard) = self.seed_state(host).await {
                let new = way == Way::InPlace || heard.boot != before;
                match (new, !heard.is_at_it(), heard.instance.as_deref() == Some(instance)) {
                    (true, true, true) if heard.state.as_deref() == Some("error") => {
                        last = "cloud-init ended with an error".into();
                        break;
                    }
                    (true, true, true) => return Ok(()),
                    (true, true, false) => {
                        last = format!(
                            "it came up with older first-boot data ({}): the medium that carries it is still attached",
                            heard.instance.unwrap_or_default()
                        );
                        break;
                    }
                    (true, false, _) => last = "it is at it".into(),
                    (false, ..) => last = "it has not started again yet".into(),
                }
                progress(last.clone());
            }
            tokio::time::sleep(EVERY).await;
        }
        let trouble = Trouble::new(Some(host.clone()), attempted, last, Vec::new());
        Err(trouble.fix(LOOK_THERE))
    }
}
