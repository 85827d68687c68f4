//! The table `[certificates]`.

use std::collections::BTreeMap;

use super::super::finding::Finding;
use super::super::names::{NameError, dns_name};
use super::super::pattern;
use super::super::policy::{AuthorityPolicy, Certificates, Hierarchy, KeysMade, ProfilePolicy};
use super::super::reader::{Section, near};
use super::{Parser, in_units};
use crate::pki::{AuthorityKind, Holder, KeyKind, Profile, San};

const DAY: i64 = 86_400;
/// So far in the past certificates begin, in seconds.
const BACKDATED: i64 = 300;

impl Parser {
    /// `[certificates]`
    pub(super) fn certificates(&mut self, table: Option<&Section<'_>>) -> Certificates {
        let mut days = |key, most, default: i64| {
            let days = table.and_then(|s| self.number(s, key, "bad-lifetime", 1..=most));
            days.unwrap_or(default) * DAY
        };
        let (seconds, authority_seconds) =
            (days("days", 3_650, 365), days("authority-days", 36_500, 3_650));
        let mut out = Certificates {
            seconds,
            authority_seconds,
            key: KeyKind::default(),
            keys_made: KeysMade::default(),
            hierarchy: Hierarchy::default(),
            organization: None,
            renew: None,
            backdated: BACKDATED,
            profiles: BTreeMap::new(),
            authorities: BTreeMap::new(),
        };
        let Some(s) = table else { return out };
        if let Some(life) = self.optional(s, "life", "bad-lifetime", life) {
            out.seconds = life;
            if s.has("days") {
                self.findings.push(
                    Finding::blocks(
                        "bad-lifetime",
                        "certificates.days and certificates.life both say how long",
                    )
                    .fix("keep one of them: days = 365, or life = \"12h\""),
                );
            }
        }
        out.key = self.optional(s, "key", "bad-key", KeyKind::new).unwrap_or_default();
        out.keys_made = self.optional(s, "keys-made", "bad-key", KeysMade::new).unwrap_or_default();
        out.hierarchy =
            self.optional(s, "hierarchy", "bad-hierarchy", Hierarchy::new).unwrap_or_default();
        out.organization = self.optional(s, "organization", "bad-name", organization);
        out.renew = self.optional(s, "renew", "bad-lifetime", life);
        out.backdated =
            self.optional(s, "backdated", "bad-lifetime", backdated).unwrap_or(BACKDATED);
        out.profiles = self.profiles(s);
        out.authorities = self.authorities(s);
        out
    }

    /// `certificates.profiles`: by name or pattern.
    fn profiles(&mut self, section: &Section<'_>) -> BTreeMap<Profile, ProfilePolicy> {
        let mut out: BTreeMap<Profile, ProfilePolicy> = BTreeMap::new();
        let Some((all, _)) = section.table("profiles", &mut self.findings) else { return out };
        for (pattern, value) in all.iter() {
            let path = format!("certificates.profiles.{}", pattern.get_ref());
            let example = "write: profiles.api-server = { names = [\"api.saltmarsh.example\"] }";
            let Some(own) =
                self.inner(&path, value, &["life", "key", "keys-made", "names"], example)
            else {
                continue;
            };
            let policy = ProfilePolicy {
                seconds: self.optional(&own, "life", "bad-lifetime", life),
                key: self.optional(&own, "key", "bad-key", KeyKind::new),
                keys_made: self.optional(&own, "keys-made", "bad-key", KeysMade::new),
                names: self.lists(Some(&own), "names", san),
            };
            let ids: Vec<&str> = Profile::ALL.iter().map(|one| one.id()).collect();
            let chosen: Vec<Profile> = Profile::ALL
                .iter()
                .copied()
                .filter(|one| pattern::glob(pattern.get_ref(), one.id()))
                .collect();
            if chosen.is_empty() {
                self.unknown("profile", pattern, &ids);
            }
            self.places.insert(path, pattern.span());
            for profile in chosen {
                if let Some(why) = unusable(profile, &policy) {
                    self.findings.push(
                        Finding::blocks("bad-profile", format!("{profile}: {why}"))
                            .at(pattern.span(), "of no use to it")
                            .fix("zoisite pki list shows which certificate is for what"),
                    );
                }
                let known = out.entry(profile).or_default();
                known.seconds = policy.seconds.or(known.seconds);
                known.key = policy.key.or(known.key);
                known.keys_made = policy.keys_made.or(known.keys_made);
                known.names.extend(policy.names.clone());
            }
        }
        out
    }

    /// `certificates.authorities`
    fn authorities(&mut self, section: &Section<'_>) -> BTreeMap<AuthorityKind, AuthorityPolicy> {
        let mut out = BTreeMap::new();
        let Some((all, _)) = section.table("authorities", &mut self.findings) else { return out };
        for (name, value) in all.iter() {
            let path = format!("certificates.authorities.{}", name.get_ref());
            let example = "write: authorities.cluster = { life = \"7300d\" }";
            let Some(own) = self.inner(&path, value, &["life", "key"], example) else { continue };
            let policy = AuthorityPolicy {
                seconds: self.optional(&own, "life", "bad-lifetime", authority_life),
                key: self.optional(&own, "key", "bad-key", KeyKind::new),
            };
            let named = |kind: &AuthorityKind| kind.id() == name.get_ref().as_ref();
            self.places.insert(path, name.span());
            match AuthorityKind::ALL.into_iter().find(named) {
                Some(kind) => drop(out.insert(kind, policy)),
                None => self.unknown("authority", name, &AuthorityKind::ALL.map(AuthorityKind::id)),
            }
        }
        out
    }

    fn unknown(
        &mut self,
        what: &str,
        name: &toml::Spanned<std::borrow::Cow<'_, str>>,
        known: &[&str],
    ) {
        let finding =
            Finding::blocks("unknown-key", format!("there is no {what} {}", name.get_ref()))
                .at(name.span(), "unknown");
        let fix = match near(name.get_ref(), known.iter().copied()) {
            Some(close) => format!("did you mean '{close}'?"),
            None => format!("known are {}", known.join(", ")),
        };
        self.findings.push(finding.fix(fix));
    }
}

/// What of a policy the holders of a profile could not use, and why.
fn unusable(profile: Profile, policy: &ProfilePolicy) -> Option<&'static str> {
    let (names, key) = (!policy.names.is_empty(), policy.key.is_some());
    let made = policy.keys_made.is_some();
    match profile.holder() {
        Holder::Run => Some("a run makes it for itself, for twelve hours at most"),
        Holder::Person => Some("how long a person's lasts is said with zoisite access --expires"),
        Holder::Monitoring => Some("how long it lasts is said with zoisite monitoring --expires"),
        Holder::Joining if made => Some("the kubelet makes its own key, always"),
        Holder::Joining if key => Some("the kubelet makes its own key, on P-256"),
        Holder::Joining if names => Some("the platform signs no names into it"),
        _ if names && !profile.usage().server() => {
            Some("no name in a client certificate is ever checked")
        }
        _ => None,
    }
}

/// An organisation's name (X.520, `ub-organization-name`).
fn organization(text: &str) -> Result<String, NameError> {
    let fits = |c: char| c.is_alphanumeric() || " .,&()'-+".contains(c);
    match text.trim() == text && (1..=64).contains(&text.chars().count()) && text.chars().all(fits)
    {
        true => Ok(text.to_owned()),
        false => Err(NameError("at most 64 letters, digits, spaces and .,&()'-+".into())),
    }
}

/// A name or address for a server's certificate.
fn san(text: &str) -> Result<San, NameError> {
    if let Ok(address) = text.parse() {
        return Ok(San::Ip(address));
    }
    if text.contains('*') {
        let why =
            "a whole name: with an asterisk it would stand for hosts that are not the cluster's";
        return Err(NameError(why.into()));
    }
    dns_name(text, 253).map(|()| San::Dns(text.to_owned()))
}

fn in_seconds(text: &str, from: i64, to: i64, rule: &str) -> Result<i64, NameError> {
    let read = in_units(text, &[("m", 60), ("h", 3_600), ("d", DAY)]);
    read.filter(|time| (from..=to).contains(time)).ok_or_else(|| NameError(rule.into()))
}

/// Lifetime of a leaf, in seconds.
fn life(text: &str) -> Result<i64, NameError> {
    in_seconds(text, 300, 3_650 * DAY, "a number and a unit, from 5m to 3650d: 12h, 90d")
}

fn authority_life(text: &str) -> Result<i64, NameError> {
    in_seconds(text, 600, 36_500 * DAY, "a number and a unit, from 10m to 36500d: 7300d")
}

fn backdated(text: &str) -> Result<i64, NameError> {
    in_seconds(text, 0, DAY, "a number and a unit, a day at most: 5m, 1h")
}
