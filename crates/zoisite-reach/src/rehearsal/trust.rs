//! Whether every client is believed at every instant, while authorities are replaced (rule S14).

use zoisite_core::cluster::HostName;
use zoisite_core::holdings::API_SERVER_UNIT;

use super::state::{Papers, Process, SimFile, SimHost, World};
use super::tls::As;

impl SimHost {
    /// What an API server shows etcd, and whom it takes for etcd.
    pub(super) fn papers_for_etcd(&self) -> Papers {
        let flag = |name: &str| self.flag(API_SERVER_UNIT, name).unwrap_or_default().to_owned();
        Papers {
            certificate: flag("etcd-certfile"),
            key: flag("etcd-keyfile"),
            authority: flag("etcd-cafile"),
        }
    }

    /// Whom the API server here takes for etcd: as it read it when it started, where that was seen.
    ///
    /// # Errors
    /// Where the file is not there.
    pub(super) fn takes_for_etcd(&self) -> Result<&SimFile, String> {
        let read = self.units.get(API_SERVER_UNIT).and_then(|unit| unit.believes.as_ref());
        match read {
            Some(read) => Ok(read),
            None => self.paper(&self.papers_for_etcd().authority),
        }
    }
}

impl World {
    /// Whether an API server and a member that runs believe one another.
    ///
    /// # Errors
    /// What a TLS library would say, on either side.
    pub(super) fn api_and_etcd(
        &self,
        (host, api): (&HostName, &SimHost),
        (member, etcd, process): (&HostName, &SimHost, &Process),
    ) -> Result<(), String> {
        let (own, address) = (api.papers_for_etcd(), etcd.address.to_string());
        let shown = (etcd, &process.clients);
        api.accepts(api.takes_for_etcd()?, shown, As::Server(&address), self.clock(host))?;
        let by = etcd.believed(process, false)?;
        etcd.accepts(by, (api, &own), As::Client(None), self.clock(member))
    }

    /// Whether it is judged from now on that every client is believed.
    pub fn judge_trust(&mut self, judges: bool) {
        self.judges_trust = judges;
    }

    /// Every member that runs dials every other one, and every API server every member that it was told of.
    pub(super) fn believe_one_another(&mut self) {
        let running: Vec<(&HostName, &SimHost, &Process)> = self
            .hosts
            .iter()
            .filter_map(|(host, sim)| Some((host, sim, sim.process.as_ref()?)))
            .collect();
        let mut broken = None;
        for (host, sim, _) in &running {
            for (other, ..) in running.iter().filter(|(other, ..)| other > host) {
                if is_unknown(&self.trust(host, other)) {
                    broken = Some(format!("the members of {host} and {other}"));
                }
            }
            let told = |api: &SimHost| {
                let urls = api.flag(API_SERVER_UNIT, "etcd-servers").unwrap_or_default();
                urls.split(',').any(|url| url.starts_with(&format!("https://{}:", sim.address)))
            };
            let started = self.hosts.iter().filter(|(_, api)| api.started(API_SERVER_UNIT));
            for (api_host, api) in started.filter(|(_, api)| told(api)) {
                let process = sim.process.as_ref();
                let tried =
                    process.map(|process| self.api_and_etcd((api_host, api), (host, sim, process)));
                if tried.is_some_and(|tried| is_unknown(&tried)) {
                    broken = Some(format!("the API server of {api_host} and the member of {host}"));
                }
            }
        }
        if let Some(who) = broken {
            self.break_rule(format!(
                "S14: {who} do not trust one another: neither knows the authority of the other's certificate"
            ));
        }
    }
}

/// Whether a certificate was refused as its issuer is unknown; what ended, or is not there, is another matter.
fn is_unknown(tried: &Result<(), String>) -> bool {
    tried.as_ref().is_err_and(|why| why.contains("UnknownIssuer"))
}
