use std::path::PathBuf;

use jiff::Timestamp;
use zoisite_core::cluster::HostName;

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
    /// An unnamed machine would get the name of a host of which the same is known already.
    #[error("{0} has an SSH key or a passphrase of its own already")]
    Named(HostName),
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
        why: String,
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
    /// The key of an authority is not in the strongbox.
    #[error("the key of the {0} authority was lost: nothing that it signs can be made")]
    LostAuthority(zoisite_core::pki::AuthorityKind),
    /// Another authority is being replaced.
    #[error("the {0} authority is being replaced: one at a time")]
    Replacing(zoisite_core::pki::AuthorityKind),
    /// An authority's certificate was asked for elsewhere, and is not there yet.
    #[error("the certificate of the {0} authority was asked for, and its answer has not come")]
    Asked(zoisite_core::pki::AuthorityKind),
    /// An authority under somebody else's root has ended.
    #[error("the {0} authority has ended, and stood under a root that is not this cluster's")]
    EndedBelow(zoisite_core::pki::AuthorityKind),
    /// It was not.
    #[error("no certificate was asked for of the {0} authority")]
    NotAsked(zoisite_core::pki::AuthorityKind),
    /// What came back is not what was asked for.
    #[error("the answer for the {kind} authority was not taken: {}", faults.join("; "))]
    Answer {
        /// Of which one.
        kind: zoisite_core::pki::AuthorityKind,
        /// Every reason.
        faults: Vec<String>,
    },
    /// No replacement is there to take back.
    #[error("the {0} authority is not being replaced")]
    NotReplacing(zoisite_core::pki::AuthorityKind),
    /// Nothing rests on the one before any more, and its key is gone.
    #[error(
        "nothing rests on the {0} authority before any more, and it leaves: it is too late to take that back"
    )]
    TooLate(zoisite_core::pki::AuthorityKind),
    /// The key that signs tokens is not being replaced.
    #[error("the key that signs service accounts' tokens is not being replaced")]
    NoTokenKey,
    /// The store knows a cluster already.
    #[error("the store knows a cluster already ({0})")]
    Known(String),
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
    pub fn fix(&self) -> String {
        match self {
            Self::File { path, .. } => {
                format!("check that {} is there and that you may read and write it", path.display())
            }
            Self::Damaged { path, .. } => format!(
                "bring it back from a backup; or move {} aside: certificates are then issued again, and \
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
                "name another file with --identity: one of age's, or an SSH key"
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
            Self::LostAuthority(_) => {
                "a copy of the state holds it: zoisite backup restore. Without one the cluster runs on until its certificates end: a run shows what the cluster and etcd-client authorities sign, so these two are replaced only while the one before can sign"
                    .into()
            }
            Self::Named(host) => format!("write its first-boot data under that name instead (zoisite first-boot write {host}), and set the machine up again with it"),
            Self::Replacing(kind) => format!("zoisite pki rotate {kind} goes on with it, and --cancel takes it back"),
            Self::NoTokenKey => "zoisite pki rotate service-accounts replaces it".into(),
            Self::Asked(kind) => format!("zoisite pki import-signed FILE takes it; zoisite pki request {kind} --cancel has the authority made here"),
            Self::EndedBelow(kind) => format!("zoisite pki request {kind} asks for the next one; with its answer zoisite raise goes on"),
            Self::NotAsked(kind) => format!("zoisite pki request {kind} asks for it"),
            Self::Answer { .. } => "have it signed once more as the request says; nothing was changed".into(),
            Self::TooLate(_) => "zoisite raise goes on with it; afterwards another one can take its place".into(),
            Self::NotReplacing(_) => "zoisite pki list shows what each authority does".into(),
            Self::Known(_) => "move its folder aside first".into(),
            Self::NoSecret(_) => {
                "bring the store back from a backup, or issue again: zoisite pki issue --reissue"
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
