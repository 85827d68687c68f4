//! Rights of people and groups in the cluster: the platform's own roles, bound by name, everywhere or in namespaces.

use std::collections::{BTreeMap, BTreeSet};

use clap::ValueEnum;
use serde_json::{Value, json};
use zoisite_core::holdings::ApiObject;
use zoisite_core::pki::sha256;
use zoisite_reach::{ApiClient, ApiResult};

use crate::view;

/// The platform's own roles for people, from the least to the most.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Rights {
    /// Read most things, no secrets
    View,
    /// Change workloads, read secrets, run commands in pods; in kube-system that is nearly everything
    Edit,
    /// The same, and give others rights within these namespaces
    Admin,
    /// Change everything
    Everything,
}

impl Rights {
    pub fn role(self) -> &'static str {
        match self {
            Self::View => "view",
            Self::Edit => "edit",
            Self::Admin => "admin",
            Self::Everything => "cluster-admin",
        }
    }

    /// The word for it in `--role`.
    pub fn word(self) -> String {
        self.to_possible_value().map_or_else(String::new, |value| value.get_name().to_owned())
    }

    /// The word for a role of the platform, which may have been bound by other hands.
    fn word_of(role: &str) -> String {
        let known = Self::value_variants().iter().find(|rights| rights.role() == role);
        known.map_or_else(|| role.to_owned(), |rights| rights.word())
    }
}

const RBAC: &str = "rbac.authorization.k8s.io";
const API: &str = "/apis/rbac.authorization.k8s.io/v1";
const OURS: &str = "labelSelector=app.kubernetes.io%2Fmanaged-by%3Dzoisite";

/// To whom rights are bound.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Subject {
    /// A user, by name.
    Person(String),
    /// A group, by name.
    Group(String),
}

impl Subject {
    /// What its bindings are called: a change replaces them. Names of other issuers may have characters that no object's
    /// name has.
    pub fn binding(&self) -> String {
        let (kind, name) = match self {
            Self::Person(name) => ("person", name),
            Self::Group(name) => ("group", name),
        };
        let plain = |c: char| c.is_ascii_alphanumeric() || ".-_@:".contains(c);
        match name.chars().all(plain) && name.len() < 200 {
            true => format!("zoisite:{kind}:{name}"),
            false => format!("zoisite:{kind}:sha256:{}", sha256(name.as_bytes())),
        }
    }

    fn of_binding(binding: &Value) -> Option<Self> {
        let text = |pointer: &str| binding.pointer(pointer).and_then(Value::as_str);
        let name = text("/subjects/0/name")?.to_owned();
        let subject = match text("/subjects/0/kind")? {
            "User" => Self::Person(name),
            "Group" => Self::Group(name),
            _ => return None,
        };
        (text("/metadata/name")? == subject.binding()).then_some(subject)
    }

    /// Its binding to a role: in a namespace, or in all of them.
    fn object(&self, role: &str, namespace: Option<&str>) -> Value {
        let (kind, name) = match self {
            Self::Person(name) => ("User", name),
            Self::Group(name) => ("Group", name),
        };
        let mut object = json!({
            "apiVersion": format!("{RBAC}/v1"),
            "kind": "ClusterRoleBinding",
            "metadata": {
                "name": self.binding(),
                "labels": {"app.kubernetes.io/managed-by": "zoisite"},
            },
            "roleRef": {"apiGroup": RBAC, "kind": "ClusterRole", "name": role},
            "subjects": [{"apiGroup": RBAC, "kind": kind, "name": name}],
        });
        if let Some(namespace) = namespace {
            object["kind"] = json!("RoleBinding");
            object["metadata"]["namespace"] = json!(namespace);
        }
        object
    }

    /// Where such a binding is.
    fn path(&self, namespace: Option<&str>) -> String {
        let name = self.binding();
        match namespace {
            None => format!("{API}/clusterrolebindings/{name}"),
            Some(namespace) => format!("{API}/namespaces/{namespace}/rolebindings/{name}"),
        }
    }
}

/// What a subject may do, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bound {
    /// In the words of `--role`.
    pub role: String,
    /// In which namespaces; `None` in all of them.
    pub namespaces: Option<BTreeSet<String>>,
}

impl std::fmt::Display for Bound {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match &self.namespaces {
            None => write!(f, "{}", self.role),
            Some(namespaces) => {
                let namespaces: Vec<&String> = namespaces.iter().collect();
                write!(f, "{} in {}", self.role, view::names(&namespaces))
            }
        }
    }
}

/// Binds a subject to a role everywhere or in namespaces, or to none; whether it was bound to anything before. What a
/// binding leads to cannot be changed: it is removed first.
pub async fn bind(
    api: &ApiClient,
    subject: &Subject,
    wanted: Option<(&str, Option<&BTreeSet<String>>)>,
) -> ApiResult<bool> {
    let places: Vec<Option<&str>> = match wanted {
        None => Vec::new(),
        Some((_, None)) => vec![None],
        Some((_, Some(namespaces))) => namespaces.iter().map(|name| Some(name.as_str())).collect(),
    };
    let stand = standing(api).await?;
    let own: Vec<&Standing> = stand.iter().filter(|one| one.subject == *subject).collect();
    // What is more than is wanted goes first: less replaces more at once.
    for one in &own {
        let stays = wanted.is_some_and(|(role, _)| role == one.role)
            && places.contains(&one.namespace.as_deref());
        if !stays {
            api.delete(&subject.path(one.namespace.as_deref())).await?;
        }
    }
    if let Some((role, _)) = wanted {
        for place in places {
            api.apply(&ApiObject(subject.object(role, place)), false).await?;
        }
    }
    Ok(!own.is_empty())
}

/// A binding of ours, as it stands.
struct Standing {
    subject: Subject,
    role: String,
    namespace: Option<String>,
}

async fn standing(api: &ApiClient) -> ApiResult<Vec<Standing>> {
    let mut all = api.list(&format!("{API}/clusterrolebindings?{OURS}")).await?;
    all.extend(api.list(&format!("{API}/rolebindings?{OURS}")).await?);
    let known = |binding: &Value| {
        let text = |pointer: &str| binding.pointer(pointer)?.as_str().map(str::to_owned);
        Some(Standing {
            subject: Subject::of_binding(binding)?,
            role: text("/roleRef/name")?,
            namespace: text("/metadata/namespace"),
        })
    };
    Ok(all.iter().filter_map(known).collect())
}

/// Who is bound to what.
pub async fn bindings(api: &ApiClient) -> ApiResult<BTreeMap<Subject, Vec<Bound>>> {
    let mut all: BTreeMap<Subject, Vec<Bound>> = BTreeMap::new();
    for one in standing(api).await? {
        let role = Rights::word_of(&one.role);
        let bound = all.entry(one.subject).or_default();
        match (bound.iter_mut().find(|bound| bound.role == role), one.namespace) {
            (Some(Bound { namespaces: Some(namespaces), .. }), Some(namespace)) => {
                namespaces.insert(namespace);
            }
            (_, namespace) => {
                let namespaces = namespace.map(|namespace| BTreeSet::from([namespace]));
                bound.push(Bound { role, namespaces });
            }
        }
    }
    Ok(all)
}

/// Rights in one text.
pub fn in_words(bound: &[Bound]) -> String {
    bound.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ")
}

/// The namespaces among these that the cluster does not have.
pub async fn missing(api: &ApiClient, namespaces: &BTreeSet<String>) -> ApiResult<Vec<String>> {
    let mut missing = Vec::new();
    for name in namespaces {
        if api.get(&format!("/api/v1/namespaces/{name}")).await?.is_none() {
            missing.push(name.clone());
        }
    }
    Ok(missing)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_name_has_a_binding_by_which_it_is_known_again() {
        for name in
            ["ada", "sso:ada@marsh.example", "https://sso.example/#7", "ada lovelace", "Zoë"]
        {
            for subject in [Subject::Person(name.into()), Subject::Group(name.into())] {
                for namespace in [None, Some("birds")] {
                    let object = subject.object("edit", namespace);
                    assert_eq!(Subject::of_binding(&object).as_ref(), Some(&subject));
                    let own = object["metadata"]["name"].as_str().unwrap();
                    assert!(!own.contains(['/', '%', ' ']) && own.is_ascii(), "{own}");
                    assert!(subject.path(namespace).ends_with(own));
                }
            }
        }
        // A binding that only has such a name is no binding of ours.
        let mut other = Subject::Person("ada".into()).object("edit", None);
        other["subjects"][0]["name"] = json!("bea");
        assert_eq!(Subject::of_binding(&other), None);
    }

    #[test]
    fn rights_are_told_with_where_they_hold() {
        let birds = BTreeSet::from(["birds".to_owned(), "boats".to_owned()]);
        let bound = [
            Bound { role: "edit".into(), namespaces: Some(birds) },
            Bound { role: "view".into(), namespaces: None },
        ];
        assert_eq!(in_words(&bound), "edit in birds, boats; view");
    }
}
