use std::fmt;

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::profile::AuthorityKind;

/// What an authority does at the moment. One is replaced in stages, each of which holds everywhere before the next
/// begins, so that every client is believed at every instant (rule S14).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AuthorityState {
    /// It signs.
    #[default]
    Signs,
    /// It will, once every verifier believes it.
    Comes,
    /// Every verifier of the cluster's believes it; it signs when a person says so.
    Believed,
    /// It signed: what it issued is to be issued again.
    Goes,
    /// Nothing that the cluster's hosts show was issued by it; it goes when a person says so.
    Spent,
    /// Nobody is to believe it any more.
    Leaves,
    /// Nobody believes it any more.
    Gone,
}

impl fmt::Display for AuthorityState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Signs => "signs",
            Self::Comes => "comes: every host is to believe it first",
            Self::Believed => "believed by every host, and signs when you say so",
            Self::Goes => "goes: what it issued is issued again",
            Self::Spent => {
                "believed still, and nothing of hosts' rests on it: goes when you say so"
            }
            Self::Leaves => "leaves: it is no longer trusted anywhere",
            Self::Gone => "gone",
        })
    }
}

impl AuthorityState {
    /// Whether verifiers are to believe it.
    pub fn is_believed(self) -> bool {
        !matches!(self, Self::Leaves | Self::Gone)
    }
}

/// What is to be done next of an authority's replacement.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum TrustStage {
    /// Every verifier is to believe the one that comes.
    Believe(AuthorityKind),
    /// Everything that the one before issued is to be issued again.
    SignBy(AuthorityKind),
    /// Nobody is to believe the one before any more.
    Forget(AuthorityKind),
    /// Every API server is to accept service accounts' tokens that another key signed.
    AcceptTokens,
    /// Every API server is to sign them by it.
    SignTokens,
}

impl AuthorityKind {
    /// Whether people and pods hold what rests on it: each stage of its replacement waits for a person's word, who
    /// knows of them.
    pub fn waits_for_people(self) -> bool {
        self == Self::Cluster
    }
}

impl TrustStage {
    /// What is replaced by it, in words.
    pub fn what(self) -> String {
        match self {
            Self::Believe(kind) | Self::SignBy(kind) | Self::Forget(kind) => {
                format!("the {kind} authority")
            }
            Self::AcceptTokens | Self::SignTokens => {
                "the key that signs service accounts' tokens".to_owned()
            }
        }
    }

    /// What is to be done once it holds, without anybody's word.
    pub fn next(self) -> Option<Self> {
        match self {
            Self::Believe(kind) => (!kind.waits_for_people()).then_some(Self::SignBy(kind)),
            Self::AcceptTokens => Some(Self::SignTokens),
            Self::SignBy(kind) => (!kind.waits_for_people()).then_some(Self::Forget(kind)),
            Self::Forget(_) | Self::SignTokens => None,
        }
    }
}

/// How far the replacement of the key is that signs service accounts' tokens. It is accepted, then signs; the one before
/// is accepted as long as a token that it signed may last.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TokenKeyTurn {
    /// Nothing is being replaced.
    #[default]
    Done,
    /// Every API server is to accept the other one.
    Comes,
    /// Every API server is to sign by the other one.
    Signs,
    /// Every one has, since then.
    Since(Timestamp),
}

impl TokenKeyTurn {
    /// What is to be done next; `None` where nothing is, or time must pass.
    pub fn stage(self) -> Option<TrustStage> {
        match self {
            Self::Comes => Some(TrustStage::AcceptTokens),
            Self::Signs => Some(TrustStage::SignTokens),
            Self::Done | Self::Since(_) => None,
        }
    }
}

/// How long a token of a service account lasts at most: the platform stretches those of pods to a year for clients that
/// do not read them again (kube-apiserver's `--service-account-extend-token-expiration`).
pub const TOKEN_LASTS: SignedDuration = SignedDuration::from_hours(366 * 24);
