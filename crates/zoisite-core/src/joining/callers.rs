use std::collections::BTreeSet;
use std::net::IpAddr;

use super::Callers;
use crate::cluster::HostName;
use crate::holdings::MESH_DEVICE;
use crate::mesh::STALE;
use crate::script::{fields, wrapped_login};
use crate::text::quote;

const CALLERS: &str = include_str!("callers.sh");

/// The script with which a host counts, for so many seconds, who dials it at these ports, and who sends to the port of the
/// mesh, where there is one.
pub fn callers_script(
    host: &HostName,
    ports: &BTreeSet<u16>,
    mesh: Option<u16>,
    seconds: u32,
) -> String {
    let title = format!("count connections to {host}");
    let ports: Vec<String> = ports.iter().map(u16::to_string).collect();
    let ports = quote(&ports.join(", "));
    let mesh = mesh.map_or(String::new(), |port| format!(" {port} {MESH_DEVICE} {STALE}"));
    wrapped_login(&title, CALLERS, &format!("callers {seconds} {ports}{mesh}\n"))
}

/// Who was heard, by the words of a host that counted for so many seconds.
///
/// # Errors
/// Why it could not count.
pub fn read_callers(text: &str, seconds: u32) -> Result<Callers, String> {
    let mut heard = Callers { seconds, ..Callers::default() };
    let mut counted = false;
    for line in text.lines() {
        match fields(line).as_deref() {
            Some(["caller", address]) => heard.who.extend(address.parse::<IpAddr>()),
            Some(["knocks", address]) => heard.knocks.extend(address.parse::<IpAddr>()),
            Some(["met", key]) => drop(heard.met.insert((*key).to_owned())),
            Some(["uncounted", why]) => return Err((*why).to_owned()),
            Some(["counted"]) => counted = true,
            _ => {}
        }
    }
    if counted { Ok(heard) } else { Err("it did not come to an end".into()) }
}
