//! A trial of a snapshot on a host.

use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::item::Component;
use zoisite_core::sequence::StepOutcome;
use zoisite_core::snapshot::{
    SNAPSHOT, Taken, TrialThere, begin_trial_script, end_trial_script, read_trial, trial_script,
};

use super::Hosts;
use crate::reach::Progress;

impl Hosts {
    /// Starts a member from a snapshot on a host, which nobody else reaches, and holds what it says against what was
    /// recorded. These files are brought for it, each of that checksum, and nothing of them stays. Returns how many
    /// keys it holds, or what is wrong with the snapshot.
    ///
    /// # Errors
    /// What kept the host from trying it.
    pub async fn try_there(
        &self,
        host: &HostName,
        taken: &Taken,
        files: &[(Component, String)],
        progress: Progress<'_>,
    ) -> Result<Result<u64, String>, Trouble> {
        let done = self.tried(host, taken, files, progress).await;
        // The host's own timer does the same where this cannot.
        let _ = self.report(host, &end_trial_script(host), "ending the trial").await;
        done
    }

    async fn tried(
        &self,
        host: &HostName,
        taken: &Taken,
        files: &[(Component, String)],
        progress: Progress<'_>,
    ) -> Result<Result<u64, String>, Trouble> {
        let attempted = "trying the snapshot";
        let failed = |why| Trouble::new(Some(host.clone()), attempted, why, Vec::new());
        let begin = begin_trial_script(host, taken.octets);
        if let Some(TrialThere::Cannot(why)) =
            read_trial(&self.report(host, &begin, attempted).await?)
        {
            return Err(failed(why).fix("try it on another host, or here"));
        }
        for (component, sha256) in files {
            progress(match component.pinned.name {
                SNAPSHOT => format!("bringing snapshot {}", component.pinned.version),
                _ => format!("bringing {}", component.pinned),
            });
            if let StepOutcome::Failed(trouble) =
                self.bring(host, component, sha256, progress).await
            {
                return Err(trouble);
            }
        }
        progress("starting a member from it".into());
        let said = self.report(host, &trial_script(host, taken.revision), attempted).await?;
        match read_trial(&said) {
            Some(TrialThere::Holds { hash, compacted, keys }) => {
                Ok(taken.held_against(hash, compacted).map(|()| keys))
            }
            Some(TrialThere::Bad(why)) => Ok(Err(why)),
            Some(TrialThere::Cannot(why)) => Err(failed(why)),
            None => Err(failed("it says nothing of the member".into())),
        }
    }
}
