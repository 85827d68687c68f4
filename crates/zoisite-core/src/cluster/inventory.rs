//! Hosts from a table that somebody keeps already: comma-separated values with a line of titles.

use std::collections::{BTreeSet, HashMap};
use std::net::IpAddr;

use super::address::Mac;
use super::draft::{DraftError, DraftHost};
use super::host::Place;
use super::model::Role;
use super::names::HostName;
use super::reader::near;

/// What such a table holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Inventory {
    /// The hosts, in its order.
    pub hosts: Vec<DraftHost>,
    /// Titles of columns that mean nothing here.
    pub ignored: Vec<String>,
}

const COLUMNS: [&str; 6] = ["name", "address", "mac", "role", "site", "rack"];
const ROLES: [(&str, Role); 5] = [
    ("etcd", Role::EtcdMember),
    ("control-plane", Role::ControlPlane),
    ("load-balancer", Role::LoadBalancer),
    ("registry", Role::Registry),
    ("worker", Role::Worker),
];

/// Reads hosts from the octets of a table: UTF-8, or UTF-16 with its mark in front; values parted by commas,
/// semicolons or tabs, whichever the line of titles has; lines that begin with `#` are passed over.
///
/// Columns are `name`, `address` (one of each family at most, parted by a space), `mac`, `role` (`etcd`,
/// `control-plane`, `load-balancer`, `registry`, `worker`, several parted by `+`), `site` and `rack`; the first two must be
/// there.
///
/// # Errors
/// Everything that is wrong with it, each with its line.
pub fn inventory(octets: &[u8]) -> Result<Inventory, DraftError> {
    let text = decode(octets).map_err(|why| DraftError(vec![why]))?;
    let titles = text.lines().find(|line| !line.trim().is_empty() && !line.starts_with('#'));
    let titles = titles.unwrap_or_default();
    let count = |c: char| titles.matches(c).count();
    let delimiter = [',', ';', '\t'].into_iter().rev().max_by_key(|c| count(*c)).unwrap_or(',');
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(delimiter as u8)
        .comment(Some(b'#'))
        .trim(csv::Trim::All)
        .flexible(true)
        .from_reader(text.as_bytes());
    let titles: Vec<String> = match reader.headers() {
        Ok(titles) => titles.iter().map(str::to_lowercase).collect(),
        Err(error) => return Err(DraftError(vec![format!("the line of titles: {error}")])),
    };
    let place = |column: &str| titles.iter().position(|title| title == column);
    let missing: Vec<&str> =
        COLUMNS[..2].iter().copied().filter(|column| place(column).is_none()).collect();
    if !missing.is_empty() {
        let has = match titles.join(", ") {
            none if none.is_empty() => "it is empty".to_owned(),
            titles => format!("its first line has: {titles}"),
        };
        let missing = missing.join("' and no column '");
        return Err(DraftError(vec![format!(
            "there is no column '{missing}'; {has}. Name them in the first line: {}",
            COLUMNS.join(",")
        )]));
    }
    let mut rows = Rows { columns: COLUMNS.map(place), ..Rows::default() };
    for record in reader.records() {
        match record {
            Ok(record) => rows.read(&record),
            Err(error) => rows.errors.push(error.to_string()),
        }
    }
    if rows.hosts.is_empty() && rows.errors.is_empty() {
        rows.errors.push("there are titles, and no host below them".into());
    }
    let ignored = titles.into_iter().filter(|title| !COLUMNS.contains(&title.as_str())).collect();
    match rows.errors.is_empty() {
        true => Ok(Inventory { hosts: rows.hosts, ignored }),
        false => Err(DraftError(rows.errors)),
    }
}

#[derive(Default)]
struct Rows {
    /// Where each column stands.
    columns: [Option<usize>; 6],
    hosts: Vec<DraftHost>,
    errors: Vec<String>,
    /// On which line each name, address and hardware address stands.
    seen: HashMap<String, u64>,
}

impl Rows {
    fn read(&mut self, record: &csv::StringRecord) {
        let line = record.position().map_or(0, csv::Position::line);
        let before = self.errors.len();
        let cell = |at: usize| self.columns[at].and_then(|at| record.get(at)).unwrap_or_default();
        let mut wrong: Vec<String> = Vec::new();
        let mut keep = |wrong: &mut Vec<String>, text: String| {
            if let Some(other) = self.seen.insert(text.clone(), line) {
                wrong.push(format!("{text} stands on line {other} too"));
            }
        };
        let [name, addresses, mac, roles, site, rack] = std::array::from_fn(cell);
        let host = match HostName::new(&name.to_lowercase()) {
            Ok(host) => {
                keep(&mut wrong, host.to_string());
                Some(host)
            }
            Err(why) => {
                wrong.push(format!("'{name}' cannot name a host: {why}"));
                None
            }
        };
        let mut dialled: Vec<IpAddr> = Vec::new();
        for text in addresses.split_whitespace() {
            match text.parse::<IpAddr>() {
                Ok(at) if dialled.iter().any(|other| other.is_ipv4() == at.is_ipv4()) => {
                    wrong.push(format!("{at}: one address of each family at most"));
                }
                Ok(at) => {
                    keep(&mut wrong, at.to_string());
                    dialled.push(at);
                }
                Err(_) => wrong.push(format!("'{text}' is no IPv4 or IPv6 address")),
            }
        }
        if addresses.is_empty() {
            wrong.push("it has no address".into());
        }
        let mac = match mac {
            "" => None,
            text => match Mac::new(text) {
                Ok(mac) => {
                    keep(&mut wrong, mac.to_string());
                    Some(mac)
                }
                Err(why) => {
                    wrong.push(format!("'{text}' is no hardware address: {why}"));
                    None
                }
            },
        };
        let mut held = BTreeSet::new();
        for word in roles.split([' ', '+', ',', ';', '|']).filter(|word| !word.is_empty()) {
            let word = word.to_lowercase();
            match ROLES.iter().find(|(known, _)| *known == word) {
                Some((_, role)) => {
                    held.insert(*role);
                }
                None => {
                    let known = ROLES.iter().map(|(known, _)| *known);
                    wrong.push(match near(&word, known.clone()) {
                        Some(close) => {
                            format!("there is no role '{word}': did you mean '{close}'?")
                        }
                        None => format!(
                            "there is no role '{word}'; roles are {}",
                            known.collect::<Vec<_>>().join(", ")
                        ),
                    });
                }
            }
        }
        let word = |text: &str| (!text.is_empty()).then(|| text.to_owned());
        let place = Place { site: word(site), rack: word(rack) };
        self.errors.extend(wrong.into_iter().map(|wrong| format!("line {line}: {wrong}")));
        if let (Some(name), [address, second @ ..]) = (host, dialled.as_slice())
            && self.errors.len() == before
        {
            self.hosts.push(DraftHost {
                second: second.first().copied(),
                mac,
                roles: held,
                place,
                ..DraftHost::new(name, *address)
            });
        }
    }
}

/// The text of a file from a spreadsheet.
fn decode(octets: &[u8]) -> Result<String, String> {
    let wide = |from: fn([u8; 2]) -> u16, octets: &[u8]| {
        let units = octets.chunks_exact(2).map(|pair| from([pair[0], pair[1]]));
        char::decode_utf16(units).collect::<Result<String, _>>()
    };
    let read = match octets {
        [0xef, 0xbb, 0xbf, rest @ ..] => return narrow(rest),
        [0xff, 0xfe, rest @ ..] => wide(u16::from_le_bytes, rest),
        [0xfe, 0xff, rest @ ..] => wide(u16::from_be_bytes, rest),
        octets => return narrow(octets),
    };
    read.map_err(|_| "it begins as UTF-16 and is not: save it as UTF-8".to_owned())
}

fn narrow(octets: &[u8]) -> Result<String, String> {
    if octets.contains(&0) {
        return Err("it is no text (there is a zero octet in it): save it as CSV in UTF-8".into());
    }
    std::str::from_utf8(octets).map(ToOwned::to_owned).map_err(|error| {
        let line =
            octets[..error.valid_up_to()].iter().filter(|octet| **octet == b'\n').count() + 1;
        format!("line {line} is not in UTF-8: save the file as \"CSV UTF-8\"")
    })
}
