//! What the cluster file says, in the site's own manifests: `<zoisite:service-addresses>` and its like.
//!
//! They are filled in once a manifest was read, so that a value is never more than the text of the field in which it
//! stands. One that is an element of a list by itself becomes as many elements as it has values.

use std::collections::BTreeMap;

use serde_json::Value;

use crate::cluster::Cluster;

const OPEN: &str = "<zoisite:";

/// The values, by name.
#[derive(Clone, Debug)]
pub struct Placeholders(BTreeMap<&'static str, Vec<String>>);

impl Placeholders {
    /// Those of a cluster file.
    pub fn of(cluster: &Cluster) -> Self {
        fn texts<T: ToString>(all: &[T]) -> Vec<String> {
            all.iter().map(ToString::to_string).collect()
        }
        let network = &cluster.network;
        let virtual_ip: Vec<String> =
            cluster.load_balancers.virtual_ip.iter().map(ToString::to_string).collect();
        let registry = cluster.registry.host.as_ref().map(|_| cluster.registry.name.clone());
        Self(BTreeMap::from([
            ("name", vec![cluster.name.to_string()]),
            ("domain", vec![cluster.domain.clone()]),
            ("kubernetes", vec![cluster.kubernetes.to_string()]),
            ("endpoint", vec![cluster.control_plane.endpoint.to_string()]),
            ("virtual-ip", virtual_ip),
            ("pods", texts(&network.pods)),
            ("services", texts(&network.services)),
            ("service-addresses", texts(&network.service_addresses)),
            ("registry", registry.into_iter().collect()),
            ("workers", texts(&cluster.workers.hosts)),
        ]))
    }

    /// Fills every placeholder of an object in.
    ///
    /// # Errors
    /// Placeholders that there are not, or for which the cluster file says nothing: all of them.
    pub fn fill(&self, object: &mut Value) -> Result<(), Vec<String>> {
        let mut faults = Vec::new();
        self.walk(object, &mut faults);
        if faults.is_empty() { Ok(()) } else { Err(faults) }
    }

    fn walk(&self, value: &mut Value, faults: &mut Vec<String>) {
        match value {
            Value::String(text) => {
                if let Some(filled) = self.text(text, faults) {
                    *text = filled;
                }
            }
            Value::Array(all) => {
                let elements = std::mem::take(all);
                for mut element in elements {
                    match element.as_str().and_then(whole) {
                        Some(name) => {
                            let values = self.values(name, faults);
                            all.extend(values.iter().cloned().map(Value::String));
                        }
                        None => {
                            self.walk(&mut element, faults);
                            all.push(element);
                        }
                    }
                }
            }
            Value::Object(fields) => fields.values_mut().for_each(|field| self.walk(field, faults)),
            Value::Null | Value::Bool(_) | Value::Number(_) => {}
        }
    }

    /// A text with its placeholders filled in, where it has any.
    fn text(&self, text: &str, faults: &mut Vec<String>) -> Option<String> {
        let mut rest = text;
        let mut out = String::new();
        while let Some((before, after)) = rest.split_once(OPEN) {
            out.push_str(before);
            let Some((name, after)) = after.split_once('>') else {
                faults.push(format!("'{OPEN}{after}' has no '>'"));
                return None;
            };
            out.push_str(&self.values(name, faults).join(", "));
            rest = after;
        }
        (rest.len() < text.len()).then(|| out + rest)
    }

    fn values(&self, name: &str, faults: &mut Vec<String>) -> &[String] {
        let fault = match self.0.get(name).map(Vec::as_slice) {
            Some([]) => format!("the cluster file says nothing for {OPEN}{name}>"),
            Some(values) => return values,
            None => {
                let known: Vec<&str> = self.0.keys().copied().collect();
                format!("there is no {OPEN}{name}>: there are {}", known.join(", "))
            }
        };
        if !faults.contains(&fault) {
            faults.push(fault);
        }
        &[]
    }
}

/// The name, where a text is one placeholder and nothing else.
fn whole(text: &str) -> Option<&str> {
    text.strip_prefix(OPEN)?.strip_suffix('>').filter(|name| !name.contains('<'))
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn filled(mut object: Value) -> Result<Value, Vec<String>> {
        let text = include_str!("../../../../demo/saltmarsh/zoisite.toml");
        let text = text.replace(
            "[network]\n",
            "[network]\nservice-addresses = [\"10.77.0.192/27\", \"10.77.0.224/28\"]\n",
        );
        let cluster = crate::cluster::read(&text).cluster.unwrap();
        Placeholders::of(&cluster).fill(&mut object).map(|()| object)
    }

    #[test]
    fn values_stand_in_their_fields_and_nowhere_else() {
        let object = json!({
            "kind": "Pool",
            "spec": {
                "addresses": ["10.0.0.0/30", "<zoisite:service-addresses>"],
                "note": "of <zoisite:name>: <zoisite:service-addresses> at <zoisite:endpoint>",
                "plain": "a < b", "count": 3,
            },
        });
        let spec = &filled(object).unwrap()["spec"];
        assert_eq!(spec["addresses"], json!(["10.0.0.0/30", "10.77.0.192/27", "10.77.0.224/28"]));
        let note = "of saltmarsh: 10.77.0.192/27, 10.77.0.224/28 at api.saltmarsh.example:6443";
        assert_eq!(spec["note"], note);
        assert_eq!((&spec["plain"], &spec["count"]), (&json!("a < b"), &json!(3)));
    }

    #[test]
    fn the_reference_has_every_placeholder() {
        let cluster = include_str!("../../../../demo/saltmarsh/zoisite.toml");
        let all = Placeholders::of(&crate::cluster::read(cluster).cluster.unwrap());
        let reference = include_str!("../../../../docs/cluster-file.md");
        let (_, part) =
            reference.split_once("`<zoisite:service-addresses>`, and likewise ").unwrap();
        let part = part.split(". ").next().unwrap_or_default();
        for name in all.0.keys().filter(|name| **name != "service-addresses") {
            assert!(part.contains(&format!("`{name}`")), "{name}: {part}");
        }
        assert_eq!(part.matches('`').count() / 2, all.0.len() - 1, "{part}");
    }

    #[test]
    fn what_there_is_not_is_told_all_at_once() {
        let faults = filled(json!({
            "a": "<zoisite:wings>", "b": ["<zoisite:wings>", "<zoisite:beak>"], "c": "<zoisite:name",
        }));
        let faults = faults.unwrap_err();
        assert_eq!(faults.len(), 3, "{faults:?}");
        assert!(
            faults
                .iter()
                .any(|fault| fault.contains("there is no <zoisite:beak>: there are domain"))
        );
        assert!(faults.iter().any(|fault| fault.contains("has no '>'")));
    }
}
