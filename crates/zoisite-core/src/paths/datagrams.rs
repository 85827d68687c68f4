//! Whether what is sent by UDP arrives where hosts of a mesh are to be found: tried before there is a mesh.

use std::collections::{BTreeMap, BTreeSet};

use super::trial::{LISTEN, SECONDS};
use crate::cluster::{Endpoint, HostName};
use crate::holdings::{MESH_DEVICE, MESH_UNIT};
use crate::script::{fields, wrapped_login};
use crate::text::{plain, quote};

const DATAGRAMS: &str = include_str!("datagrams.sh");

/// The script with which a host keeps what arrives at a UDP port, unless the mesh has it already. It ends by itself. What
/// it says is read as that of [`super::listen_script`].
pub fn keep_datagrams_script(host: &HostName, port: u16) -> String {
    let body = format!(
        "begin_paths {SECONDS}\nserve_datagrams 0 {port} {MESH_DEVICE} {MESH_UNIT}\nstart_paths {SECONDS}\n"
    );
    wrapped_login(&format!("keep what comes to {host} by UDP"), LISTEN, &body)
}

/// The script with which a host sends datagrams to others, where each is found.
pub fn send_datagrams_script(host: &HostName, word: &str, ends: &[&Endpoint]) -> String {
    let mut body = format!("sends {} <<ENDS\n", quote(&format!("{word} {host}")));
    for end in ends {
        body.push_str(&format!("{} {}\n", end.host, end.port));
    }
    body.push_str("ENDS\n");
    wrapped_login(&format!("send datagrams from {host}"), DATAGRAMS, &body)
}

/// The script with which a host tells what arrived, and ends its part of the trial.
pub fn arrived_script(host: &HostName, word: &str) -> String {
    let body = format!("arrived {} \"$heard\"\nstop_paths\n", quote(word));
    wrapped_login(&format!("what came to {host}"), &format!("{LISTEN}{DATAGRAMS}"), &body)
}

/// What hosts said of datagrams.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Datagrams {
    /// From whom something came.
    pub from: BTreeSet<HostName>,
    /// To which name or address nothing could be sent, and why; `-` stands for all.
    pub unsent: BTreeMap<String, String>,
}

impl Datagrams {
    /// Reads it.
    pub fn read(text: &str) -> Self {
        let mut out = Self::default();
        for line in text.lines() {
            match fields(&plain(line)).as_deref() {
                Some(["heard", from]) => out.from.extend(HostName::new(from)),
                Some(["unsent", end, why]) => {
                    out.unsent.insert((*end).to_owned(), (*why).to_owned());
                }
                _ => {}
            }
        }
        out
    }

    /// Why nothing could be sent there.
    pub fn why_unsent(&self, end: &Endpoint) -> Option<&String> {
        self.unsent.get(&end.host.to_string()).or_else(|| self.unsent.get("-"))
    }
}
