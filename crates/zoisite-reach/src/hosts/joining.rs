//! Who dials a host.

use std::collections::BTreeSet;

use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::joining::{Callers, callers_script, read_callers};

use super::Hosts;

impl Hosts {
    /// Who dialled a host at these ports, or sent to that of the mesh, while it counted, for so many seconds.
    ///
    /// # Errors
    /// When it does not answer, or cannot count.
    pub async fn callers(
        &self,
        host: &HostName,
        (ports, mesh): (&BTreeSet<u16>, Option<u16>),
        seconds: u32,
    ) -> Result<Callers, Trouble> {
        let attempted = "counting connections to it";
        let script = callers_script(host, ports, mesh, seconds);
        read_callers(&self.report(host, &script, attempted).await?, seconds)
            .map_err(|why| Trouble::new(Some(host.clone()), attempted, why, Vec::new()))
    }
}
