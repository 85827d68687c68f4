//! Join tokens, in the platform's bootstrap-token format: an id of 6 and a secret of 16 characters of
//! `[a-z0-9]`, published as a Secret of type `bootstrap.kubernetes.io/token`.
//!
//! A token belongs to a host, or to a stated batch of hosts; it is published before it is used, and
//! gone, in the cluster and on the host, after its use or its end (rule S6).

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use crate::cluster::HostName;
use crate::pki::Secret;

/// Lifetime of a join token when nothing else is said, in seconds.
pub const TOKEN_SECONDS: i64 = 15 * 60;

/// What is recorded of a token; its secret half is in the strongbox.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TokenRecord {
    /// Its public half.
    pub id: String,
    /// The hosts that may join with it; empty when any host of the cluster file may.
    pub hosts: Vec<HostName>,
    /// How many hosts may join with it.
    pub uses: u32,
    /// When it was made.
    pub made: Timestamp,
    /// When it ends.
    pub expires: Timestamp,
    /// Who joined with it, and when.
    pub used: Vec<(HostName, Timestamp)>,
    /// When it was taken back or used up.
    pub gone: Option<Timestamp>,
    /// Whether a run made it, to let the host in by itself: it is of no use after that run.
    #[serde(default)]
    pub by_run: bool,
}

/// In which state a token is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum TokenState {
    /// It can be used.
    Usable,
    /// As many hosts joined with it as may.
    UsedUp,
    /// Its end has passed.
    Ended,
    /// It was taken back before it was used up.
    Revoked,
}

impl std::fmt::Display for TokenState {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(match self {
            Self::Usable => "usable",
            Self::UsedUp => "used up",
            Self::Ended => "ended",
            Self::Revoked => "revoked",
        })
    }
}

impl TokenRecord {
    /// Its state at `now`.
    pub fn state(&self, now: Timestamp) -> TokenState {
        if self.used.len() >= self.uses as usize {
            TokenState::UsedUp
        } else if self.gone.is_some() {
            TokenState::Revoked
        } else if self.expires <= now {
            TokenState::Ended
        } else {
            TokenState::Usable
        }
    }

    /// Whether it was made for a host.
    pub fn is_for(&self, host: &HostName) -> bool {
        self.hosts.is_empty() || self.hosts.contains(host)
    }

    /// Whether a request that was made with it lets a host in: it was not taken back, and has a use left
    /// for this host. It may have ended since: the API took the request while it was good.
    pub fn admits(&self, host: &HostName) -> bool {
        self.gone.is_none()
            && self.is_for(host)
            && self.used.len() < self.uses as usize
            && !self.used.iter().any(|(used, _)| used == host)
    }

    /// For whom it is, as a person says it.
    pub fn for_whom(&self) -> String {
        match self.hosts.as_slice() {
            [] => format!("any {} hosts", self.uses),
            hosts => hosts.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "),
        }
    }
}

/// A fresh token from random octets: id and whole text. Characters are drawn without bias.
pub fn make_token(mut random: impl FnMut() -> [u8; 16]) -> (String, Secret) {
    const REPORTS: &[u8] = b"abcdefghijklmnopqrstuvwxyz0123456789";
    let mut draw = |length: usize| {
        let mut text = zeroize::Zeroizing::new(String::with_capacity(length));
        while text.len() < length {
            // 252 is the largest multiple of 36 in an octet: what is above would favour some reports.
            for octet in random().into_iter().filter(|octet| *octet < 252) {
                if text.len() < length {
                    text.push(char::from(REPORTS[usize::from(octet) % REPORTS.len()]));
                }
            }
        }
        text
    };
    let (id, secret) = (draw(6), draw(16));
    (id.to_string(), Secret::new(format!("{}.{}", *id, *secret)))
}

/// The group whose members may ask for a node's certificate: those who show a token that lets hosts in.
pub const JOINING: &str = "system:bootstrappers:zoisite:joining";

/// The Secret that publishes a token that lets hosts in, as the API wants it. It holds the secret half: it is never shown.
/// (`auth-extra-groups`: what else whoever shows it belongs to, besides `system:bootstrappers`.)
pub fn token_object(record: &TokenRecord, token: &Secret) -> Value {
    let mut object = report_token_object(record, token);
    object["stringData"]["auth-extra-groups"] = JOINING.into();
    object
}

/// The Secret that publishes a token with which a report may be left, and nothing else done.
pub fn report_token_object(record: &TokenRecord, token: &Secret) -> Value {
    let (id, secret) = token.expose().split_once('.').unwrap_or_default();
    let expires = Timestamp::from_second(record.expires.as_second()).unwrap_or(record.expires);
    json!({
        "apiVersion": "v1",
        "kind": "Secret",
        "type": "bootstrap.kubernetes.io/token",
        "metadata": {"name": format!("{NAME}{id}"), "namespace": "kube-system"},
        "stringData": {
            "token-id": id,
            "token-secret": secret,
            "expiration": expires.to_string(),
            "usage-bootstrap-authentication": "true",
            "description": format!("zoisite: for {}", record.for_whom()),
        },
    })
}

/// Where the platform's API keeps the Secrets that publish tokens.
pub const TOKENS_PATH: &str = "/api/v1/namespaces/kube-system/secrets";

const NAME: &str = "bootstrap-token-";

/// Path of the Secret that publishes the token with this id.
pub fn token_path(id: &str) -> String {
    format!("{TOKENS_PATH}/{NAME}{id}")
}

/// The id of the token that a Secret of this name publishes.
pub fn token_id(name: &str) -> &str {
    name.strip_prefix(NAME).unwrap_or(name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_token_has_the_platforms_form_and_draws_without_bias() {
        let mut next = 0_u8;
        let (id, token) = make_token(|| {
            next = next.wrapping_add(97);
            std::array::from_fn(|i| next.wrapping_mul(31).wrapping_add((i * 37) as u8))
        });
        let (left, right) = token.expose().split_once('.').unwrap();
        assert_eq!((left, left.len(), right.len()), (id.as_str(), 6, 16));
        assert!(
            token
                .expose()
                .bytes()
                .all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'.')
        );
        let mut turn = 0;
        let (id, _) = make_token(|| {
            turn += 1;
            if turn == 1 { [255; 16] } else { [0; 16] }
        });
        assert_eq!(id, "aaaaaa", "octets that would favour some reports are left out");
    }

    #[test]
    fn a_token_serves_its_hosts_until_it_is_used_ended_or_taken_back() {
        let host = |name: &str| HostName::new(name).unwrap();
        let now = Timestamp::from_second(1_000).unwrap();
        let later = Timestamp::from_second(5_000).unwrap();
        let record = TokenRecord {
            id: "abcdef".into(),
            hosts: vec![host("tern-1")],
            uses: 1,
            made: now,
            expires: Timestamp::from_second(2_000).unwrap(),
            used: Vec::new(),
            gone: None,
            by_run: false,
        };
        assert!(record.admits(&host("tern-1")));
        assert!(!record.admits(&host("tern-2")));
        assert_eq!(record.state(later), TokenState::Ended);
        let revoked = TokenRecord { gone: Some(now), ..record.clone() };
        assert_eq!(revoked.state(now), TokenState::Revoked);
        assert!(!revoked.admits(&host("tern-1")));
        let used = TokenRecord { used: vec![(host("tern-1"), now)], gone: Some(now), ..record };
        assert_eq!(used.state(later), TokenState::UsedUp);
    }
}
