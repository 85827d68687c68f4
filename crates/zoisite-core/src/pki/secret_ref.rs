use super::AuthorityKind;
use crate::cluster::HostName;

/// Which secret is meant, without any of it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum SecretRef {
    /// The private key of the certificate with this serial number.
    Certificate(String),
    /// The private key of an authority.
    Authority(AuthorityKind),
    /// The private key that signs service accounts' tokens.
    ServiceAccounts,
    /// How secrets are encrypted in etcd.
    EncryptionAtRest,
    /// The join token of a host: made when it is published, and kept under its own id.
    JoinToken(HostName),
    /// Names and passwords for registries: they stand in a file of the site's own.
    RegistryLogins,
    /// Where nodes find a registry, with the password for it: likewise.
    RegistryHosts(String),
    /// Names and passwords of the cluster's own registry: likewise.
    RegistryPasswords,
}

impl SecretRef {
    /// Under which key the strongbox keeps it; `None` for what is made when it is used.
    pub fn kept_under(&self) -> Option<String> {
        Some(match self {
            Self::Certificate(serial) => serial.clone(),
            Self::Authority(kind) => format!("authority/{kind}"),
            Self::ServiceAccounts => "service-accounts".into(),
            Self::EncryptionAtRest => "encryption-at-rest".into(),
            Self::JoinToken(_)
            | Self::RegistryLogins
            | Self::RegistryHosts(_)
            | Self::RegistryPasswords => return None,
        })
    }
}
