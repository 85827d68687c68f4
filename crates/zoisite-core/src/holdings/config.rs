//! What several components' configurations share: command lines and kubeconfig files.

use std::collections::BTreeMap;

use serde_json::{Value, json};

use crate::cluster::{Cluster, Settings};

/// A component's command line flags, by their documented names, in alphabetical order.
#[derive(Clone, Debug, Default)]
pub(super) struct Flags(BTreeMap<String, String>);

impl Flags {
    pub fn new(flags: impl IntoIterator<Item = (&'static str, String)>) -> Self {
        Self(flags.into_iter().map(|(key, value)| (key.to_owned(), value)).collect())
    }

    /// Adds more.
    pub fn and(mut self, flags: impl IntoIterator<Item = (&'static str, String)>) -> Self {
        self.0.extend(flags.into_iter().map(|(key, value)| (key.to_owned(), value)));
        self
    }

    /// Adds a person's own, which win over defaults; what Zoisite computes was refused before.
    pub fn own(mut self, settings: &Settings) -> Self {
        self.0.extend(settings.iter().map(|(key, value)| (key.clone(), word(value))));
        self
    }

    /// The flags' names.
    #[cfg(test)]
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str)
    }

    /// A value of `ExecStart=` (systemd.service(5), "Command lines"): quoted, nothing expanded.
    pub fn command(&self, program: &str) -> String {
        let mut out = program.to_owned();
        for (key, value) in &self.0 {
            let value = value
                .replace('\\', r"\\")
                .replace('"', "\\\"")
                .replace('%', "%%")
                .replace('$', "$$");
            let plain = |c: char| c.is_ascii_alphanumeric() || "/._-:=,@%+".contains(c);
            match value.chars().all(plain) {
                true => out.push_str(&format!(" --{key}={value}")),
                false => out.push_str(&format!(" \"--{key}={value}\"")),
            }
        }
        out
    }
}

/// A setting as a flag's value; a list is separated by commas, a table is `key=value` pairs.
pub(super) fn word(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Array(list) => list.iter().map(word).collect::<Vec<_>>().join(","),
        Value::Object(map) => {
            map.iter().map(|(k, v)| format!("{k}={}", word(v))).collect::<Vec<_>>().join(",")
        }
        other => other.to_string(),
    }
}

/// Lays a person's own fields over a configuration; tables are merged, all else is replaced.
pub(super) fn merge(config: &mut Value, own: &Settings) {
    for (key, value) in own {
        match (config.get_mut(key), value) {
            (Some(Value::Object(old)), Value::Object(new)) => {
                old.extend(new.iter().map(|(k, v)| (k.clone(), v.clone())));
            }
            _ => config[key] = value.clone(),
        }
    }
}

/// How a client in a kubeconfig file shows who it is.
pub(super) enum Credential<'a> {
    /// By certificate and key, as paths.
    Files { certificate: &'a str, key: &'a str },
    /// By a token in a file.
    TokenFile(&'a str),
    /// By certificate and key, base64 of their PEM texts.
    Inline { certificate: String, key: String },
}

/// A kubeconfig file (the platform's `v1.Config`).
pub(super) fn kubeconfig(
    name: &str,
    server: &str,
    authority: Value,
    user: &str,
    credential: &Credential<'_>,
) -> Value {
    let credential = match credential {
        Credential::Files { certificate, key } => {
            json!({"client-certificate": certificate, "client-key": key})
        }
        Credential::TokenFile(path) => json!({"tokenFile": path}),
        Credential::Inline { certificate, key } => {
            json!({"client-certificate-data": certificate, "client-key-data": key})
        }
    };
    let mut cluster = json!({"server": server});
    if let (Some(cluster), Value::Object(authority)) = (cluster.as_object_mut(), authority) {
        cluster.extend(authority);
    }
    let context = format!("{user}@{name}");
    json!({
        "apiVersion": "v1",
        "kind": "Config",
        "clusters": [{"name": name, "cluster": cluster}],
        "users": [{"name": context, "user": credential}],
        "contexts": [{"name": context, "context": {"cluster": name, "user": context}}],
        "current-context": context,
    })
}

/// A kubeconfig for a person at the API endpoint, whole in itself. The authority's certificate, the
/// person's certificate and the key are base64 of their PEM texts.
pub fn person_kubeconfig(
    cluster: &Cluster,
    person: &str,
    authority: &str,
    certificate: String,
    key: String,
) -> Value {
    kubeconfig(
        cluster.name.as_str(),
        &format!("https://{}", cluster.control_plane.endpoint),
        json!({"certificate-authority-data": authority}),
        person,
        &Credential::Inline { certificate, key },
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn flags_are_words_that_systemd_does_not_expand() {
        let flags = Flags::new([("a", "x y%h$PATH".into())])
            .own(&Settings::from([("b".into(), json!(["one", "two"])), ("c".into(), json!(true))]));
        assert_eq!(flags.command("/bin/x"), "/bin/x \"--a=x y%%h$$PATH\" --b=one,two --c=true");
    }

    #[test]
    fn own_fields_are_merged_into_tables() {
        let mut config = json!({"a": {"x": 1, "y": 2}, "b": 1});
        merge(
            &mut config,
            &Settings::from([("a".into(), json!({"y": 3})), ("b".into(), json!(5))]),
        );
        assert_eq!(config, json!({"a": {"x": 1, "y": 3}, "b": 5}));
    }
}
