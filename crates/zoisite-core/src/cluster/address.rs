use std::fmt;
use std::net::IpAddr;

use ipnet::IpNet;

use super::names::{NameError, dns_name};

/// The host part of an [`Endpoint`].
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum EndpointHost {
    /// A DNS name.
    Name(String),
    /// An address.
    Address(IpAddr),
}

impl fmt::Display for EndpointHost {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Name(name) => f.write_str(name),
            Self::Address(address) => write!(f, "{address}"),
        }
    }
}

/// A name or address with a port, `HOST:PORT` (an IPv6 address in brackets).
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Endpoint {
    /// What to dial.
    pub host: EndpointHost,
    /// TCP port.
    pub port: u16,
}

impl Endpoint {
    /// Reads `HOST:PORT`.
    ///
    /// # Errors
    /// When the port is missing or impossible, or the host is neither a name nor an address.
    pub fn new(text: &str) -> Result<Self, NameError> {
        let (host, port) = text
            .rsplit_once(':')
            .filter(|(host, _)| host.starts_with('[') == host.ends_with(']') && !host.is_empty())
            .ok_or_else(|| NameError("the port is missing".into()))?;
        let port = match port.parse::<u16>() {
            Ok(port) if port != 0 => port,
            _ => return Err(NameError(format!("'{port}' is no port (1 to 65535)"))),
        };
        let bare = host.trim_start_matches('[').trim_end_matches(']');
        let host = match bare.parse::<IpAddr>() {
            Ok(IpAddr::V6(_)) if !host.starts_with('[') => {
                return Err(NameError("an IPv6 address stands in brackets: [ADDRESS]:PORT".into()));
            }
            Ok(address) => EndpointHost::Address(address),
            Err(_) if bare.bytes().all(|b| b.is_ascii_digit() || b == b'.') => {
                return Err(NameError(format!("'{bare}' is no IP address")));
            }
            Err(_) => {
                dns_name(bare, 253)?;
                EndpointHost::Name(bare.to_owned())
            }
        };
        Ok(Self { host, port })
    }
}

impl fmt::Display for Endpoint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.host {
            EndpointHost::Address(IpAddr::V6(v6)) => write!(f, "[{v6}]:{}", self.port),
            host => write!(f, "{host}:{}", self.port),
        }
    }
}

impl serde::Serialize for Endpoint {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// The hardware address of a network interface (EUI-48, IEEE 802).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Mac([u8; 6]);

impl Mac {
    /// Reads six octets in hexadecimal digits, parted by `:` or `-`.
    ///
    /// # Errors
    /// When it is not that, or stands for a group or for nobody.
    pub fn new(text: &str) -> Result<Self, NameError> {
        let parts: Vec<&str> = text.split([':', '-']).collect();
        let mut octets = [0; 6];
        let read = |part: &str| {
            let two = part.len() == 2 && part.bytes().all(|b| b.is_ascii_hexdigit());
            two.then(|| u8::from_str_radix(part, 16).ok()).flatten()
        };
        if parts.len() != octets.len() {
            return Err(NameError("six octets parted by ':'".into()));
        }
        for (octet, part) in octets.iter_mut().zip(&parts) {
            *octet = read(part).ok_or_else(|| NameError(format!("'{part}' is no octet")))?;
        }
        match octets[0] & 1 == 1 || octets == [0; 6] {
            true => Err(NameError("no single interface has it".into())),
            false => Ok(Self(octets)),
        }
    }

    /// What a machine is called that has no name yet: `mac-02005e100011`.
    pub fn name(&self) -> String {
        format!("mac-{}", self.to_string().replace(':', ""))
    }

    /// The one for which a machine is called so.
    pub fn of_name(name: &str) -> Option<Self> {
        let digits = name.strip_prefix("mac-")?.as_bytes();
        let parts: Vec<_> = digits.chunks(2).map(String::from_utf8_lossy).collect();
        Self::new(&parts.join(":")).ok().filter(|mac| mac.name() == name)
    }
}

impl fmt::Display for Mac {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [a, b, c, d, e, g] = self.0;
        write!(f, "{a:02x}:{b:02x}:{c:02x}:{d:02x}:{e:02x}:{g:02x}")
    }
}

/// How many subnets of `prefix` bits fit into `range`; 0 when they are larger than the range.
pub fn subnets_in(range: &IpNet, prefix: u8) -> u64 {
    if prefix < range.prefix_len() || prefix > range.max_prefix_len() {
        return 0;
    }
    1_u64.checked_shl(u32::from(prefix - range.prefix_len())).unwrap_or(u64::MAX)
}

/// Whether two ranges share an address.
pub(crate) fn overlap(a: &IpNet, b: &IpNet) -> bool {
    a.contains(b) || b.contains(a)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn endpoints_need_a_port_and_a_dialable_host() {
        for good in ["api.saltmarsh.example:6443", "10.77.0.5:6443", "[fd00::5]:6443"] {
            assert_eq!(Endpoint::new(good).unwrap().to_string(), good);
        }
        for bad in ["api", "api:0", "api:70000", "fd00::5:6443", "10.77.0.999:1", ":6443", "a b:1"]
        {
            assert!(Endpoint::new(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn counts_subnets() {
        let range: IpNet = "10.90.0.0/16".parse().unwrap();
        assert_eq!(subnets_in(&range, 24), 256);
        assert_eq!(subnets_in(&range, 16), 1);
        assert_eq!(subnets_in(&range, 12), 0);
        assert_eq!(subnets_in(&"fd00::/0".parse().unwrap(), 128), u64::MAX);
    }
}
