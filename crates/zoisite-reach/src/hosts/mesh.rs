//! What hosts see of each other through the mesh.

use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::mesh::{Peers, pairs_script, read_pairs};

use super::Hosts;

impl Hosts {
    /// What a host sees of others.
    ///
    /// # Errors
    /// When it does not answer.
    pub async fn peers(&self, host: &HostName, others: &[HostName]) -> Result<Peers, Trouble> {
        let named = others.iter().filter(|other| *other != host);
        let named = named.filter_map(|other| Some((other, self.address(other).ok()?)));
        let script = pairs_script(host, named);
        Ok(read_pairs(&self.report(host, &script, "asking for its peers in the mesh").await?))
    }

    /// Whether others answer a host through the mesh.
    pub(super) async fn meets(&self, host: &HostName, others: &[HostName]) -> Result<(), String> {
        let peers = self.peers(host, others).await.map_err(|trouble| trouble.answer)??;
        let silent = |other: &&HostName| !peers.get(*other).is_some_and(|peer| peer.meets());
        let silent: Vec<&str> = others.iter().filter(silent).map(HostName::as_str).collect();
        match silent.is_empty() {
            true => Ok(()),
            false => Err(format!("no answer through the mesh from {}", silent.join(", "))),
        }
    }
}
