use std::path::PathBuf;

use jiff::Timestamp;

use crate::records::LockHolder;

/// Why the store, or a secret in it, could not be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// A file or folder could not be read or written.
    #[error("{doing} {}", path.display())]
    File {
        /// What was attempted: `reading`, `making`…
        doing: &'static str,
        /// Which file.
        path: PathBuf,
        /// What came back.
        #[source]
        source: std::io::Error,
    },
    /// The database file is damaged.
    #[error("the store {} is damaged: {why}", path.display())]
    Damaged {
        /// The file.
        path: PathBuf,
        /// What SQLite said.
        why: String,
    },
    /// The database was written by a newer program.
    #[error("the store {} has format {found}, and this program knows {known}", path.display())]
    Newer {
        /// The file.
        path: PathBuf,
        /// Its format.
        found: i64,
        /// The newest format that this program knows.
        known: i64,
    },
    /// Another run holds the lock.
    #[error("{holder} has been at work on this cluster since {since}")]
    Locked {
        /// Who.
        holder: LockHolder,
        /// Since when.
        since: Timestamp,
    },
    /// The lock was held, and is another's by now.
    #[error("this run's lock on the store is gone: {by} has it")]
    LockLost {
        /// Who has it.
        by: String,
    },
    /// A record was changed by somebody else since it was read.
    #[error("the {kind} record '{key}' was changed meanwhile")]
    Overtaken {
        /// Kind of record.
        kind: &'static str,
        /// Its key.
        key: String,
    },
    /// A sealed file is not what was written: cut, altered, or something else.
    #[error("{} is not whole: {why}", path.display())]
    Unsound {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        why: String,
    },
    /// SQLite failed otherwise.
    #[error("using the store {}", path.display())]
    Database {
        /// The file.
        path: PathBuf,
        /// What came back.
        #[source]
        source: rusqlite::Error,
    },
    /// A record is not what it should be.
    #[error("the {kind} record '{key}' cannot be read")]
    Record {
        /// Kind of record.
        kind: &'static str,
        /// Its key.
        key: String,
        /// What came back.
        #[source]
        source: serde_json::Error,
    },
    /// The identity file may be read by others.
    #[error("the identity {} may be read by others (mode {mode:o})", path.display())]
    LooseIdentity {
        /// The file.
        path: PathBuf,
        /// Its permission bits.
        mode: u32,
    },
    /// The identity file holds no identity.
    #[error("{} opens nothing: {why}", path.display())]
    BadIdentity {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        why: &'static str,
    },
    /// It is no public key for which secrets could be encrypted.
    #[error("{0}")]
    BadRecipient(String),
    /// There is no identity, and what is in the store was encrypted for one.
    #[error("there is no identity {}", path.display())]
    NoIdentity {
        /// The file that is not there.
        path: PathBuf,
        /// Public keys for which the secrets were encrypted.
        recipients: Vec<String>,
    },
    /// The identity cannot open what is in the store.
    #[error("the identity {} cannot open this cluster's secrets", path.display())]
    WrongIdentity {
        /// The file.
        path: PathBuf,
        /// Public keys for which the secrets were encrypted.
        recipients: Vec<String>,
    },
    /// A secret that should be there is not.
    #[error("the strongbox does not hold the key of {0}")]
    NoSecret(String),
    /// Encryption failed.
    #[error("encrypting a secret: {0}")]
    Encrypt(String),
    /// A certificate could not be issued.
    #[error(transparent)]
    Pki(#[from] zoisite_core::pki::PkiError),
}

impl StoreError {
    /// What a person can do about it.
    pub fn mend(&self) -> String {
        match self {
            Self::File { path, .. } => {
                format!("check that {} is there and that you may read and write it", path.display())
            }
            Self::Damaged { path, .. } => format!(
                "bring it back from a backup; or move {} aside: certificates are then issued anew, and \
                 hosts that hold the old cluster are refused rather than overwritten",
                path.display()
            ),
            Self::Newer { .. } => "use the newer zoisite that wrote it".into(),
            Self::Locked { .. } => {
                "wait until it ends; a lock whose process is gone is taken over by itself".into()
            }
            Self::LockLost { .. } => {
                "nothing more was written; wait until that run ends, then run the same command again"
                    .into()
            }
            Self::Overtaken { .. } => {
                "nothing was written; run the same command again: it goes on from what stands now"
                    .into()
            }
            Self::LooseIdentity { path, .. } => format!("chmod 600 {}", path.display()),
            Self::BadIdentity { .. } => {
                "name another file with --identity: one of age's, or an SSH key without a passphrase"
                    .into()
            }
            Self::BadRecipient(_) => {
                "a person's public key: the line of ~/.ssh/id_ed25519.pub, or the one in their identity file"
                    .into()
            }
            Self::WrongIdentity { recipients, .. } if recipients.is_empty() => {
                "name the identity for which it was sealed with --identity".into()
            }
            Self::WrongIdentity { recipients, .. } | Self::NoIdentity { recipients, .. } => {
                format!(
                    "name the right file with --identity: the one of {}",
                    recipients.join(" or ")
                )
            }
            Self::NoSecret(_) => {
                "bring the store back from a backup, or issue anew: zoisite pki issue --again"
                    .into()
            }
            Self::Unsound { .. } => {
                "nothing was made of it: another copy may be whole".into()
            }
            Self::Database { .. } => {
                "check the disk and the folder's permissions, and try again".into()
            }
            Self::Record { .. } | Self::Encrypt(_) | Self::Pki(_) => {
                "this is a fault in the store or the program: keep a copy of .zoisite and report it"
                    .into()
            }
        }
    }
}
