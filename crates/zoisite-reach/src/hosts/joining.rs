//! Who dials a host.

use std::collections::BTreeSet;
use std::net::IpAddr;

use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::joining::{callers_script, read_callers};

use super::Hosts;

impl Hosts {
    /// From where a host was dialled at a port while it counted, for so many seconds.
    ///
    /// # Errors
    /// When it does not answer, or cannot count.
    pub async fn callers(
        &self,
        host: &HostName,
        port: u16,
        seconds: u32,
    ) -> Result<BTreeSet<IpAddr>, Trouble> {
        let attempted = "counting who dials it";
        let text = self.report(host, &callers_script(host, port, seconds), attempted).await?;
        read_callers(&text)
            .map_err(|why| Trouble::new(Some(host.clone()), attempted, why, Vec::new()))
    }
}
