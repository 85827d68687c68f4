//! Who is believed, and for how long.

use serde_json::Value;

use super::super::finding::Finding;
use super::Check;
use crate::pki::{Holder, Profile};

impl Check<'_> {
    /// No certificate outlives its authority, and none is renewed all the time.
    pub(super) fn lifetimes(&mut self) {
        let policy = &self.cluster.certificates;
        let place =
            |own: bool, path: String, usual: &str| if own { path } else { usual.to_owned() };
        let mut short = i64::MAX;
        let of_hosts =
            |profile: &&Profile| profile.place().is_some() || profile.holder() == Holder::Joining;
        for profile in Profile::ALL.iter().filter(of_hosts) {
            let (kind, life) = (profile.authority(), policy.seconds_of(*profile));
            short = short.min(life);
            let most = policy.authority_seconds_of(kind);
            if life >= most {
                let own = policy.profiles.get(profile).is_some_and(|own| own.seconds.is_some());
                let at =
                    place(own, format!("certificates.profiles.{profile}"), "certificates.days");
                let finding = Finding::blocks(
                    "bad-lifetime",
                    format!(
                        "{profile} would last {}, and the {kind} authority, which issues it, {}",
                        span(life),
                        span(most)
                    ),
                )
                .fix("no certificate outlives its authority: let that one last longer, or this one shorter");
                self.add(finding, &at, "too long");
                return;
            }
        }
        if let Some(renew) = policy.renew.filter(|renew| *renew > short / 2) {
            let finding = Finding::blocks(
                "bad-lifetime",
                format!(
                    "what lasts {} would be issued again {} before its end",
                    span(short),
                    span(renew)
                ),
            )
            .fix("at most half of the shortest life, or every run would issue it again");
            self.add(finding, "certificates.renew", "too early");
        }
        if policy.backdated * 2 > short {
            let finding = Finding::blocks(
                "bad-lifetime",
                format!(
                    "what lasts {} would begin {} in the past",
                    span(short),
                    span(policy.backdated)
                ),
            )
            .fix("at most half of the shortest life");
            self.add(finding, "certificates.backdated", "too much");
        }
        if short < 7 * 86_400 {
            let finding = Finding::warns(
                "short-life",
                format!(
                    "what lasts {} must be issued again before: nothing does that by itself",
                    span(short)
                ),
            )
            .fix("run zoisite raise by a timer, well within that time, or let it last longer");
            self.add(finding, "certificates.life", "short");
        }
    }

    /// An audit policy of the site's own.
    pub(super) fn audit_policy(&mut self) {
        let place = "control-plane.audit-policy";
        let own = &self.cluster.control_plane.audit_policy;
        if own.is_empty() {
            return;
        }
        let rules = own.get("rules").and_then(Value::as_array).filter(|rules| !rules.is_empty());
        let Some(rules) = rules else {
            let finding = Finding::blocks("bad-audit-policy", format!("{place} has no rules"))
                .fix("write: audit-policy.rules = [{ level = \"Metadata\" }]");
            return self.add(finding, place, "records nothing");
        };
        let mut found = Vec::new();
        let mut covered = false;
        for (at, rule) in rules.iter().enumerate() {
            let level = rule.get("level").and_then(Value::as_str).unwrap_or_default();
            if !AUDIT_LEVELS.contains(&level) {
                let why = format!("rule {} of {place} has the level '{level}'", at + 1);
                let fix = format!("a level is one of {}", AUDIT_LEVELS.join(", "));
                found.push(Finding::blocks("bad-audit-policy", why).fix(fix));
            }
            if !names_secrets(rule) || covered {
                continue;
            }
            if level.starts_with("Request") {
                let why = format!(
                    "rule {} of {place} writes the content of secrets into the log",
                    at + 1
                );
                found.push(Finding::warns("audit-reveals-secrets", why).fix(
                    "put before it: { level = \"Metadata\", resources = [{ group = \"\", resources = [\"secrets\"] }] }",
                ));
            }
            // The first rule that matches decides.
            covered = rule.as_object().is_some_and(|rule| {
                rule.keys().all(|key| matches!(key.as_str(), "level" | "resources" | "omitStages"))
            });
        }
        for finding in found {
            self.add(finding, &format!("{place}.rules"), "these rules");
        }
    }

    /// Whom API servers believe besides: issuers of tokens that the site has.
    pub(super) fn authentication(&mut self) {
        let place = "control-plane.authentication";
        let own = &self.cluster.control_plane.authentication;
        let Some(issuers) = own.get("jwt") else { return };
        let Some(issuers) = issuers.as_array() else {
            let finding = Finding::blocks("bad-authentication", format!("{place}.jwt is no list"))
                .fix("write: authentication.jwt = [{ issuer = { url = \"https://…\", audiences = [\"…\"] }, claimMappings = { … } }]");
            return self.add(finding, &format!("{place}.jwt"), "one table for each issuer");
        };
        let tokens = format!("https://kubernetes.default.svc.{}", self.cluster.domain);
        let mut found = Vec::new();
        for one in issuers {
            let text = |pointer: &str| one.pointer(pointer).and_then(Value::as_str);
            let url = text("/issuer/url").unwrap_or_default();
            let mut blocks = |why: String, fix: &str| {
                found.push(Finding::blocks("bad-authentication", why).fix(fix));
            };
            if !url.starts_with("https://") {
                blocks(
                    format!("an issuer's url is '{url}'"),
                    "issuer.url is an https address: API servers fetch the issuer's keys there",
                );
            }
            if url == tokens {
                blocks(
                    format!("{url} issues service accounts' tokens"),
                    "API servers believe those already, by the key that signs them",
                );
            }
            let audiences = one.pointer("/issuer/audiences").and_then(Value::as_array);
            if audiences.is_none_or(Vec::is_empty) {
                blocks(
                    format!("for {url} no audience is named"),
                    "issuer.audiences names whom its tokens must be made out to",
                );
            }
            let named = |pointer: &str| text(pointer).is_some_and(|text| !text.is_empty());
            let mapped = |what: &str| {
                ["claim", "expression"]
                    .iter()
                    .any(|by| named(&format!("/claimMappings/{what}/{by}")))
            };
            if !mapped("username") {
                blocks(
                    format!("of tokens from {url} nothing says who shows them"),
                    "claimMappings.username has a claim with a prefix, or an expression",
                );
            }
            let checked = one.get("userValidationRules").and_then(Value::as_array);
            let guarded = checked.is_some_and(|rules| !rules.is_empty());
            for what in ["username", "groups"] {
                let open = !named(&format!("/claimMappings/{what}/prefix"));
                if mapped(what) && open && !guarded {
                    found.push(
                        Finding::warns(
                            "open-prefix",
                            format!("{what} from {url} have no prefix: a user that it calls system:masters may do everything"),
                        )
                        .fix("set claimMappings' prefix, such as 'sso:', or refuse names that begin with system: by userValidationRules"),
                    );
                }
            }
        }
        for finding in found {
            self.add(finding, &format!("{place}.jwt"), "here");
        }
    }
}

/// A time as a person would write it.
fn span(seconds: i64) -> String {
    match seconds {
        s if s % 86_400 == 0 => format!("{} days", s / 86_400),
        s if s % 3_600 == 0 => format!("{} hours", s / 3_600),
        s => format!("{} minutes", s / 60),
    }
}

/// Levels of an audit policy (`audit.k8s.io/v1`, `Level`).
const AUDIT_LEVELS: &[&str] = &["None", "Metadata", "Request", "RequestResponse"];

/// Whether a rule of an audit policy matches requests for secrets. One without resources is about all of them, but for
/// a rule about paths.
fn names_secrets(rule: &Value) -> bool {
    fn list<'a>(value: &'a Value, key: &str) -> Option<&'a Vec<Value>> {
        value.get(key).and_then(Value::as_array).filter(|list| !list.is_empty())
    }
    let secrets = |group: &Value| {
        let core = group.get("group").and_then(Value::as_str).unwrap_or_default().is_empty();
        let resources = list(group, "resources");
        core && resources.is_none_or(|all| all.iter().any(|one| one == "secrets" || one == "*"))
    };
    rule.get("nonResourceURLs").is_none()
        && list(rule, "resources").is_none_or(|groups| groups.iter().any(secrets))
}
