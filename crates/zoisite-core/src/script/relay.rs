//! Files that go from one host of a site to the next: what the host that has them runs.

use std::net::IpAddr;

use super::wrapped;
use crate::cluster::HostName;
use crate::text::quote;

const RELAY: &str = include_str!("relay.sh");

/// Port on which a host gives files of components to others of its site, for as long as a run takes.
pub const RELAY_PORT: u16 = 2_382;
/// For how long at most, in seconds: a run that is gone has withdrawn it by then.
const SECONDS: u32 = 4 * 3_600;

/// The script with which a host offers a file that it has, by its SHA-256.
pub fn offer_script(host: &HostName, address: IpAddr, sha256: &str, path: &str) -> String {
    let body = format!("offer {address} {RELAY_PORT} {SECONDS} {sha256} {}\n", quote(path));
    wrapped(&format!("zoisite: {host} gives a file to hosts of its site"), &[RELAY], &body)
}

/// What came of an offer; why not, if nothing.
///
/// # Errors
/// In the host's words.
pub fn offered(text: &str) -> Result<(), String> {
    let lines = || text.lines().filter_map(|line| line.strip_prefix("@\t"));
    if lines().any(|line| line.starts_with("offers\t")) {
        return Ok(());
    }
    let why = lines().find_map(|line| line.strip_prefix("cannot\t"));
    Err(why.unwrap_or("it does not say whether it gives the file").to_owned())
}

/// The script that ends all offers of a host.
pub fn withdraw_script(host: &HostName) -> String {
    wrapped(&format!("zoisite: {host} gives no files any more"), &[RELAY], "withdraw\n")
}

/// The script that takes so many octets and does nothing with them, to see how fast they come.
pub fn sink_script(octets: usize) -> String {
    let body = format!("head -c {octets} <&8 >/dev/null\nsay sunk\n");
    let script = wrapped("zoisite: see how fast this host is reached", &[], &body);
    script.replace("\nzoisite </dev/null\n", "\nzoisite 8<&0 </dev/null\n")
}
