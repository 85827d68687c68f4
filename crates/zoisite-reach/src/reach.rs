use std::path::PathBuf;
use std::time::Duration;

use async_trait::async_trait;
use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::components::Shelved;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::{ApiObject, HostHoldings};
use zoisite_core::item::Component;
use zoisite_core::pki::{KeyRequest, LedgerEntry, NodeRequest, Secret, SecretRef};
use zoisite_core::script::{Depth, Stretch};
use zoisite_core::sequence::{ApiLook, ApiWork, Gate, Look, MemberWork, StepOutcome};
use zoisite_core::snapshot::Taken;
use zoisite_core::survey::Facts;
use zoisite_core::token::TokenRecord;

use crate::access::Access;

/// Called with what a step is doing or waiting for, in a few words.
pub type Progress<'a> = &'a (dyn Fn(String) + Send + Sync);

/// Where contents that are not in the holdings come from.
pub trait Contents: Send + Sync {
    /// A secret, from the strongbox or made now.
    fn secret(&self, secret: &SecretRef) -> Option<Secret>;

    /// The file of a component for an architecture, its checksum verified on this machine.
    ///
    /// # Errors
    /// What is wrong with it, and the fix.
    fn component(&self, component: &Component, sha256: &str, arch: &str)
    -> Result<PathBuf, String>;

    /// The join token of a host, made in this run.
    ///
    /// # Errors
    /// When there is no way to make one.
    fn join_token(&self, host: &HostName) -> Result<(TokenRecord, Secret), String>;

    /// Ids of the tokens of a host that must be taken back: those of runs that were cut off, and with
    /// `this_run_too` all of them.
    ///
    /// # Errors
    /// When that cannot be recorded.
    fn retire_tokens(&self, host: &HostName, this_run_too: bool) -> Result<Vec<String>, String>;

    /// Where a snapshot is written, sealed and off the hosts; `why` it is taken.
    ///
    /// # Errors
    /// What keeps it from being written.
    fn snapshot(&self, why: &str) -> Result<Box<dyn SnapshotFile>, String>;

    /// Checks what a node asks for and signs it from the strongbox; the certificate, PEM.
    ///
    /// # Errors
    /// Every reason why it is refused.
    fn sign(&self, host: &HostName, request: &NodeRequest) -> Result<String, Vec<String>>;

    /// Checks what a host asks for keys that it made, and signs it from the strongbox.
    ///
    /// # Errors
    /// Every reason why it is refused.
    fn certify(
        &self,
        host: &HostName,
        requests: &[KeyRequest],
    ) -> Result<Vec<LedgerEntry>, Vec<String>>;
}

/// Has what a host asks for its own keys signed; where that is refused, nothing was signed.
pub(crate) fn signed(
    contents: &dyn Contents,
    stretch: &Stretch,
    requests: &[KeyRequest],
) -> Result<Vec<LedgerEntry>, Trouble> {
    let host = &stretch.host;
    // A host gets what it was told to ask for, whatever it says.
    let told =
        |request: &&KeyRequest| stretch.own_pairs().any(|(_, own)| own.profile == request.profile);
    let requests: Vec<KeyRequest> = requests.iter().filter(told).cloned().collect();
    if requests.is_empty() {
        return Ok(Vec::new());
    }
    contents.certify(host, &requests).map_err(|why| {
        let attempted = "signing for the keys that it made";
        Trouble::new(Some(host.clone()), attempted, why.join("; "), Vec::new()).fix(
            "nothing was signed. Its keys are in /var/lib/zoisite/keys there: without that folder the next raise has it make others",
        )
    })
}

/// A snapshot on its way to where it is kept: nothing is there before its end.
pub trait SnapshotFile: std::io::Write + Send {
    /// Keeps it, and records what it is.
    ///
    /// # Errors
    /// What kept it from being kept.
    fn end(self: Box<Self>, taken: Taken) -> Result<(), String>;
}

/// How many octets of components went which way.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Carried {
    /// From here to hosts.
    pub crossed: u64,
    /// From host to host.
    pub passed: u64,
}

/// Hosts that can be looked at and acted upon.
#[async_trait]
pub trait Reach: Send + Sync {
    /// Looks at a host; changes nothing there.
    async fn observe(&self, holdings: &HostHoldings, depth: Depth) -> Look;

    /// Asks a host what it is like, before anything is put on it; changes nothing there.
    ///
    /// # Errors
    /// What kept it from answering.
    async fn survey(&self, cluster: &Cluster, host: &HostName) -> Result<Facts, Trouble>;

    /// Carries out a stretch on its host, in one round trip.
    async fn act(&self, stretch: &Stretch, progress: Progress<'_>) -> StepOutcome;

    /// Brings one component to a host.
    async fn upload(
        &self,
        host: &HostName,
        component: &Component,
        sha256: &str,
        progress: Progress<'_>,
    ) -> StepOutcome;

    /// Waits until a gate holds, or its deadline passes.
    async fn prove(&self, gate: &Gate, progress: Progress<'_>) -> StepOutcome;

    /// Whether the API is dialled, with a certificate that it must be given first.
    fn wants_access(&self) -> bool;

    /// Gives it what it needs to dial the API.
    fn set_api_access(&mut self, access: Access);

    /// Asks the API for what a plan needs, and the cluster's own registry for what of the shelf it lacks. Nothing
    /// is changed.
    async fn ask(&self, objects: &[ApiObject], shelf: &[Shelved]) -> ApiLook;

    /// Puts images into the cluster's own registry on a host.
    async fn fill(
        &self,
        host: &HostName,
        images: &[Shelved],
        progress: Progress<'_>,
    ) -> StepOutcome;

    /// Changes who is a member of the quorum, through one of these members; within so many seconds.
    async fn change_members(
        &self,
        work: &MemberWork,
        through: &[HostName],
        seconds: u32,
        progress: Progress<'_>,
    ) -> StepOutcome;

    /// Saves what etcd holds, from the first of these members that gives it, and checks what came.
    async fn save(&self, through: &[HostName], why: &str, progress: Progress<'_>) -> StepOutcome;

    /// Has API servers write every secret again that etcd holds otherwise than encrypted by that key; these members
    /// show what is left.
    async fn rewrite(&self, key: &str, through: &[HostName], progress: Progress<'_>)
    -> StepOutcome;

    /// Does something through the API; `host` is whom it is about.
    async fn api(
        &self,
        host: Option<&HostName>,
        work: &ApiWork,
        progress: Progress<'_>,
    ) -> StepOutcome;

    /// Takes a file from a host into one here that only its owner reads.
    ///
    /// # Errors
    /// What kept it from being taken whole.
    async fn fetch(
        &self,
        host: &HostName,
        path: &str,
        into: &std::path::Path,
        progress: Progress<'_>,
    ) -> Result<(), Trouble>;

    /// The last lines that units of a host have logged; nothing where they cannot be had.
    async fn evidence(&self, host: &HostName, units: &[&str]) -> Vec<String>;

    /// Time since the reach was made: real, or virtual in a rehearsal.
    fn elapsed(&self) -> Duration;

    /// How fast a host is reached from here, in octets a second; `None` where that says nothing.
    async fn measured(&self, _host: &HostName) -> Option<f64> {
        None
    }

    /// How much went which way.
    fn carried(&self) -> Carried {
        Carried::default()
    }

    /// Ends every connection.
    async fn close(&self);
}
