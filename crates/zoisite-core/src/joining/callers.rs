use std::collections::BTreeSet;
use std::net::IpAddr;

use crate::cluster::HostName;
use crate::script::{fields, wrapped_login};

const CALLERS: &str = include_str!("callers.sh");

/// The script with which a host counts, for so many seconds, who dials it at a port.
pub fn callers_script(host: &HostName, port: u16, seconds: u32) -> String {
    let title = format!("count who dials {host}");
    wrapped_login(&title, CALLERS, &format!("callers {seconds} {port}\n"))
}

/// Who dialled, by the words of a host that counted.
///
/// # Errors
/// Why it could not count.
pub fn read_callers(text: &str) -> Result<BTreeSet<IpAddr>, String> {
    let mut who = BTreeSet::new();
    let mut counted = false;
    for line in text.lines() {
        match fields(line).as_deref() {
            Some(["caller", address]) => who.extend(address.parse::<IpAddr>()),
            Some(["uncounted", why]) => return Err((*why).to_owned()),
            Some(["counted"]) => counted = true,
            _ => {}
        }
    }
    if counted { Ok(who) } else { Err("it did not come to an end".into()) }
}
