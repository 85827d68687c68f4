use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

/// Why a name or version was refused; the text is fit to show to a person.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct NameError(pub String);

/// The name of a host, and of its node: an RFC 1123 name of at most 52 characters.
///
/// 52, because the certificate subject `system:node:NAME` must fit the 64 characters that
/// X.520 allows a common name (RFC 5280 appendix A, `ub-common-name`).
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct HostName(Arc<str>);

impl HostName {
    /// The longest host name, in characters.
    pub const MAX: usize = 52;

    /// Checks and wraps a name.
    ///
    /// # Errors
    /// When it is not an RFC 1123 name in lower case, or too long.
    pub fn new(name: &str) -> Result<Self, NameError> {
        dns_name(name, Self::MAX)?;
        Ok(Self(name.into()))
    }

    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// Checks that `name` is an RFC 1123 name in lower case with at most `max` characters.
pub(crate) fn dns_name(name: &str, max: usize) -> Result<(), NameError> {
    let error = |why: String| Err(NameError(why));
    if name.is_empty() {
        return error("a name cannot be empty".into());
    }
    if name.len() > max {
        return error(format!("{} characters, and at most {max} are possible", name.len()));
    }
    name.split('.').try_for_each(dns_label)
}

/// Checks that `label` is an RFC 1123 label in lower case: a part of a name, or a namespace.
///
/// # Errors
/// When it is not, or has more than 63 characters.
pub fn dns_label(label: &str) -> Result<(), NameError> {
    let error = |why: String| Err(NameError(why));
    if label.is_empty() || label.len() > 63 {
        return error("each part between dots has 1 to 63 characters".into());
    }
    if let Some(c) =
        label.chars().find(|c| !(c.is_ascii_lowercase() || c.is_ascii_digit() || *c == '-'))
    {
        return error(format!("'{c}' cannot stand in a host name (RFC 1123: a-z, 0-9, '-')"));
    }
    if label.starts_with('-') || label.ends_with('-') {
        return error("'-' cannot begin or end a name".into());
    }
    Ok(())
}

/// The name of a cluster: one RFC 1123 label of at most 32 characters.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct ClusterName(Arc<str>);

impl ClusterName {
    /// The longest cluster name, in characters: authorities' subjects carry it.
    pub const MAX: usize = 32;

    /// Checks and wraps a name.
    ///
    /// # Errors
    /// When it is not one RFC 1123 label in lower case, or too long.
    pub fn new(name: &str) -> Result<Self, NameError> {
        dns_name(name, Self::MAX)?;
        if name.contains('.') {
            return Err(NameError("a cluster name has no dots".into()));
        }
        Ok(Self(name.into()))
    }

    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

macro_rules! text_type {
    ($type:ident) => {
        impl fmt::Display for $type {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(&self.0)
            }
        }
        impl fmt::Debug for $type {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                fmt::Debug::fmt(&self.0, f)
            }
        }
        impl TryFrom<String> for $type {
            type Error = NameError;
            fn try_from(name: String) -> Result<Self, NameError> {
                Self::new(&name)
            }
        }
        impl From<$type> for String {
            fn from(name: $type) -> String {
                name.0.to_string()
            }
        }
    };
}
text_type!(HostName);
text_type!(ClusterName);

/// A component's version, three numbers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Version {
    /// First number.
    pub major: u32,
    /// Second number.
    pub minor: u32,
    /// Third number.
    pub patch: u32,
}

impl Version {
    /// Reads `MAJOR.MINOR.PATCH`.
    ///
    /// # Errors
    /// When it is anything else.
    pub fn new(text: &str) -> Result<Self, NameError> {
        let number = |part: &str| {
            let plain = !part.is_empty()
                && part.bytes().all(|b| b.is_ascii_digit())
                && (part == "0" || !part.starts_with('0'));
            if plain { part.parse::<u32>().ok() } else { None }
        };
        let parts: Vec<_> = text.split('.').map(number).collect();
        match parts[..] {
            [Some(major), Some(minor), Some(patch)] => Ok(Self { major, minor, patch }),
            _ if text.starts_with('v') => {
                Err(NameError("a version is three numbers, without a leading 'v'".into()))
            }
            _ => Err(NameError("a version is three numbers, such as 3.6.5".into())),
        }
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}.{}", self.major, self.minor, self.patch)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn host_names_follow_rfc_1123_and_leave_room_for_the_node_subject() {
        for good in ["heron", "tern-1", "a", "0x", "jetty-a.saltmarsh", &"n".repeat(52)] {
            assert!(HostName::new(good).is_ok(), "{good}");
        }
        for bad in ["", "Heron", "-a", "a-", "a..b", "a_b", "höhe", &"n".repeat(53)] {
            assert!(HostName::new(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn versions_are_three_plain_numbers() {
        let version = Version::new("3.6.16").unwrap();
        assert_eq!((version.major, version.minor, version.patch), (3, 6, 16));
        for bad in ["", "3", "3.6", "v3.6.1", "3.6.x", "3.06.1", "3.6.1-rc.0", "3.6.99999999999"] {
            assert!(Version::new(bad).is_err(), "{bad}");
        }
    }
}
