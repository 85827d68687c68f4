//! The table of hosts.

use std::collections::HashMap;
use std::net::IpAddr;
use std::ops::Range;

use toml::de::{DeTable, DeValue};

use super::super::address::{Endpoint, Mac};
use super::super::finding::Finding;
use super::super::host::{Host, Login, Place, Windows};
use super::super::names::{HostName, NameError};
use super::super::reader::{At, Section, kind};
use super::{HOST_KEYS, LOGIN_KEYS, Parser, address};

/// What a host may have beside its addresses.
#[derive(Clone, Default)]
struct More {
    others: Vec<IpAddr>,
    interface: Option<String>,
    mac: Option<Mac>,
    place: Place,
    login: Login,
    endpoint: Option<Endpoint>,
    offline: bool,
    windows: Option<Windows>,
}

impl Parser {
    /// The hosts; patterns in names and addresses are written out side by side.
    pub(super) fn hosts(&mut self, table: &DeTable<'_>, span: Range<usize>) -> Vec<Host> {
        let mut hosts: Vec<Host> = Vec::new();
        let mut seen: HashMap<HostName, ()> = HashMap::new();
        for (key, value) in table.iter() {
            let pattern: &str = key.get_ref();
            let mut addresses = Vec::new();
            let mut section = None;
            match value.get_ref() {
                DeValue::String(text) => {
                    addresses.push(At { value: text.to_string(), span: value.span() });
                }
                DeValue::Table(table) => {
                    let path = format!("hosts.{pattern}");
                    let opened =
                        Section::open(&path, table, key.span(), HOST_KEYS, &mut self.findings);
                    opened.missing("address", "\"10.77.0.11\"", &mut self.findings);
                    addresses = opened.strings("address", &mut self.findings).unwrap_or_default();
                    section = Some(opened);
                }
                other => self.findings.push(
                    Finding::blocks("wrong-type", format!("host '{pattern}' takes an address"))
                        .at(value.span(), format!("this is {}", kind(other)))
                        .fix("write \"10.77.0.11\", or a table with an address in it"),
                ),
            }
            let Some(names) = self.expand(pattern, &key.span()) else { continue };
            let Some(own) = self.each(&names, pattern, &addresses) else { continue };
            let Some(first) = addresses.first() else { continue };
            let more = section.as_ref().map(|section| self.of_hosts(section, &names, pattern));
            let more = more.unwrap_or_else(|| vec![More::default(); names.len()]);
            for (i, (name, more)) in names.iter().zip(more).enumerate() {
                let name = match HostName::new(name) {
                    Ok(name) => name,
                    Err(why) => {
                        self.findings.push(
                            Finding::blocks("bad-name", format!("'{name}' cannot name a host"))
                                .at(key.span(), why.to_string())
                                .fix("use a-z, 0-9 and '-', at most 52 characters"),
                        );
                        continue;
                    }
                };
                let texts = own.iter().map(|(all, span)| (all[i].as_str(), span));
                let read = self.addresses(&name, texts);
                let Some((address, second)) = read else { continue };
                if seen.insert(name.clone(), ()).is_some() {
                    self.findings.push(
                        Finding::blocks("duplicate-host", format!("{name} stands here twice"))
                            .at(key.span(), "named before")
                            .fix("give every host a name of its own"),
                    );
                    continue;
                }
                self.places.insert(format!("hosts.{name}"), first.span.clone());
                let More { others, interface, mac, place, login, endpoint, offline, windows } =
                    more;
                hosts.push(Host {
                    name,
                    address,
                    second,
                    others,
                    interface,
                    mac,
                    place,
                    login,
                    endpoint,
                    offline,
                    windows,
                });
            }
        }
        if table.is_empty() {
            self.findings.push(
                Finding::blocks("no-hosts", "the cluster has no hosts")
                    .at(span, "here")
                    .fix("add a table [hosts] with lines such as: heron = \"10.77.0.11\""),
            );
        }
        hosts
    }

    /// Texts written out for the hosts of an entry: each must stand for as many.
    fn each(
        &mut self,
        names: &[String],
        pattern: &str,
        texts: &[At<String>],
    ) -> Option<Vec<(Vec<String>, Range<usize>)>> {
        let mut all = Vec::new();
        for At { value, span } in texts {
            let written = self.expand(value, span)?;
            if written.len() != names.len() {
                self.findings.push(
                    Finding::blocks(
                        "pattern-mismatch",
                        format!("'{pattern}' names {} hosts", names.len()),
                    )
                    .at(span.clone(), format!("and this {} values", written.len()))
                    .fix("make both ranges equally long"),
                );
                return None;
            }
            all.push((written, span.clone()));
        }
        Some(all)
    }

    /// The one address that the cluster dials, and one of the other family if there is one.
    fn addresses<'t>(
        &mut self,
        name: &HostName,
        texts: impl Iterator<Item = (&'t str, &'t Range<usize>)>,
    ) -> Option<(IpAddr, Option<IpAddr>)> {
        let mut first: Option<IpAddr> = None;
        let mut second: Option<IpAddr> = None;
        for (text, span) in texts {
            let address = match address(text) {
                Ok(address) => address,
                Err(why) => {
                    self.findings.push(
                        Finding::blocks("bad-address", format!("{name} has no usable address"))
                            .at(span.clone(), why.to_string())
                            .fix("write one IPv4 or IPv6 address; names go under login"),
                    );
                    return None;
                }
            };
            match first {
                None => first = Some(address),
                Some(first) if second.is_none() && first.is_ipv4() != address.is_ipv4() => {
                    second = Some(address);
                }
                Some(_) => self.findings.push(
                    Finding::blocks("bad-address", format!("{name} has two addresses of a family"))
                        .at(span.clone(), "the cluster uses one of each family at most")
                        .fix("put the others into other-addresses"),
                ),
            }
        }
        Some((first?, second))
    }

    /// What a table says of its hosts beside their addresses.
    fn of_hosts(&mut self, section: &Section<'_>, names: &[String], pattern: &str) -> Vec<More> {
        let others = section.strings("other-addresses", &mut self.findings).unwrap_or_default();
        let others = self.each(names, pattern, &others).unwrap_or_default();
        let mac = section.string("mac", &mut self.findings);
        let macs = self.each(names, pattern, mac.as_slice()).unwrap_or_default();
        let endpoint = section.string("endpoint", &mut self.findings);
        let endpoints = self.each(names, pattern, endpoint.as_slice()).unwrap_or_default();
        let interface = section.parsed("interface", "bad-name", interface, &mut self.findings);
        let word = |key: &str, this: &mut Self| {
            let read = section.parsed(key, "bad-name", place_word, &mut this.findings);
            read.map(|at| at.value)
        };
        let place = Place { site: word("site", self), rack: word("rack", self) };
        let login = match section.section("login", LOGIN_KEYS, &mut self.findings) {
            Some(inner) => self.login(&inner),
            None => Login::default(),
        };
        let offline = section.yes("offline", &mut self.findings);
        let windows = section.parsed("windows", "bad-name", Windows::new, &mut self.findings);
        let windows = windows.map(|at| at.value);
        let mut all = Vec::new();
        for i in 0..names.len() {
            let mut more = More {
                interface: interface.as_ref().map(|at| at.value.clone()),
                place: place.clone(),
                login: login.clone(),
                offline,
                windows,
                ..More::default()
            };
            for (texts, span) in &others {
                match address(&texts[i]) {
                    Ok(address) => more.others.push(address),
                    Err(why) => self.findings.push(
                        Finding::blocks("bad-address", format!("'{}' is no address", texts[i]))
                            .at(span.clone(), why.to_string())
                            .fix("write IPv4 or IPv6 addresses, without a prefix length"),
                    ),
                }
            }
            for (texts, span) in &macs {
                match Mac::new(&texts[i]) {
                    Ok(mac) => more.mac = Some(mac),
                    Err(why) => self.findings.push(
                        Finding::blocks(
                            "bad-address",
                            format!("'{}' is no hardware address", texts[i]),
                        )
                        .at(span.clone(), why.to_string())
                        .fix("write it as ip link shows it: 02:00:5e:10:00:11"),
                    ),
                }
            }
            for (texts, span) in &endpoints {
                match Endpoint::new(&texts[i]) {
                    Ok(endpoint) => more.endpoint = Some(endpoint),
                    Err(why) => self.findings.push(
                        Finding::blocks("bad-endpoint", format!("'{}' is no endpoint", texts[i]))
                            .at(span.clone(), why.to_string())
                            .fix("write a name or an address with the UDP port: office.saltmarsh.example:51820"),
                    ),
                }
            }
            all.push(more);
        }
        all
    }
}

/// A name of a network interface, as Linux takes it.
fn interface(text: &str) -> Result<String, NameError> {
    let plain = |c: char| c.is_ascii_graphic() && c != '/' && !"'\"\\".contains(c);
    match !text.is_empty() && text.len() <= 15 && text.chars().all(plain) {
        true => Ok(text.to_owned()),
        false => {
            Err(NameError("an interface has a name of 1 to 15 characters, such as eth0".into()))
        }
    }
}

/// A word for a place, to stand in tables.
fn place_word(text: &str) -> Result<String, NameError> {
    match (1..=40).contains(&text.chars().count()) && !text.chars().any(char::is_control) {
        true => Ok(text.to_owned()),
        false => Err(NameError("a place has a name of 1 to 40 characters".into())),
    }
}
