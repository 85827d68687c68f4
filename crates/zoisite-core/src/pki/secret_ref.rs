use super::AuthorityKind;
use crate::cluster::HostName;

/// Which secret is meant, without any of it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum SecretRef {
    /// The private key of the certificate with this serial number.
    Certificate(String),
    /// The private key of the authority that signs.
    Authority(AuthorityKind),
    /// The private key of one that comes, or goes: by the serial number of its certificate.
    OtherAuthority(String),
    /// The private key of one that was asked for, and whose certificate has not come yet.
    AskedAuthority(AuthorityKind),
    /// The private key of the root above the authorities, where the cluster has one of its own.
    RootAuthority,
    /// The private key that signs service accounts' tokens.
    ServiceAccounts,
    /// The private key that will sign them, or did: kept as long as it may be taken back.
    OtherServiceAccounts,
    /// How secrets are encrypted in etcd: the API servers' configuration, with the keys.
    EncryptionAtRest,
    /// A key by which they were, and by which none is any more.
    FormerKey(String),
    /// The key by which a host's SSH server is known, where it was made here before the host was.
    LoginKey(HostName),
    /// The word by which an offline host opens its join files, and seals its reports.
    HostWord(HostName),
    /// The key that signs join files.
    JoinFileSigner,
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
            Self::OtherAuthority(serial) => format!("authority/{serial}"),
            Self::AskedAuthority(kind) => format!("authority-asked/{kind}"),
            Self::RootAuthority => "authority/root".into(),
            Self::ServiceAccounts => "service-accounts".into(),
            Self::OtherServiceAccounts => "service-accounts/other".into(),
            Self::EncryptionAtRest => "encryption-at-rest".into(),
            Self::FormerKey(name) => format!("encryption-at-rest/{name}"),
            Self::LoginKey(host) => format!("login-key/{host}"),
            Self::HostWord(host) => format!("host-word/{host}"),
            Self::JoinFileSigner => "join-file-signer".into(),
            Self::JoinToken(_)
            | Self::RegistryLogins
            | Self::RegistryHosts(_)
            | Self::RegistryPasswords => return None,
        })
    }
}
