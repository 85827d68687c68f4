//! Secrets in etcd that are encrypted by another key than the one in use, written again by API servers.

use futures_util::{StreamExt as _, stream};
use serde_json::json;
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::sequence::StepOutcome;

use super::Hosts;
use super::members::OVER_ALL;
use crate::api::ApiClient;
use crate::reach::Progress;

/// Below which key etcd holds secrets (`--etcd-prefix`'s default, and the platform's resource).
const SECRETS: &str = "/registry/secrets/";
/// How many are written again at once.
const AT_ONCE: usize = 8;
/// How often it is looked again for what is left: who created one a moment ago may have begun before.
const ROUNDS: usize = 5;

impl Hosts {
    /// Has API servers write again what is not encrypted by `key`, until a member shows that nothing is left. Nothing of
    /// a secret comes here but what etcd holds of it, encrypted.
    pub(super) async fn rewrite_secrets(
        &self,
        key: &str,
        through: &[HostName],
        progress: Progress<'_>,
    ) -> StepOutcome {
        let attempted = "writing secrets again";
        let mut changed = 0;
        let mut left = Vec::new();
        for _ in 0..ROUNDS {
            left = match self.encrypted_otherwise(key, through).await {
                Ok(left) if left.is_empty() => return StepOutcome::Done { changed },
                Ok(left) => left,
                Err(why) => return not_done("looking which secrets are encrypted otherwise", why),
            };
            let api = match self.any_api().await {
                Ok(api) => api,
                Err(trouble) => return StepOutcome::Failed(trouble),
            };
            let (all, api) = (left.len(), &api);
            let mut writes = stream::iter(left.clone())
                .map(|path| async move { (written_again(api, &path).await, path) })
                .buffer_unordered(AT_ONCE);
            let mut done = 0;
            while let Some((written, path)) = writes.next().await {
                if let Err(why) = written {
                    return not_done(attempted, format!("{path}: {why}"));
                }
                (done, changed) = (done + 1, changed + 1);
                if done % 50 == 0 || done == all {
                    progress(format!("{done} of {all} secrets"));
                }
            }
        }
        let first: Vec<&str> = left.iter().take(3).map(String::as_str).collect();
        let answer = format!(
            "{} secrets are still not encrypted by {key} ({} among them): an API server encrypts by another one",
            left.len(),
            first.join(", ")
        );
        not_done(attempted, answer)
    }

    /// Names of secrets (`namespace/name`) that etcd holds otherwise than encrypted by `key`.
    async fn encrypted_otherwise(
        &self,
        key: &str,
        through: &[HostName],
    ) -> Result<Vec<String>, String> {
        let by_it = format!("k8s:enc:secretbox:v1:{key}:");
        let mut said = Vec::new();
        for host in through {
            let asked = async {
                let client = self.patient_etcd(host, OVER_ALL).await?;
                client.keys_without(SECRETS, by_it.as_bytes()).await
            };
            match asked.await {
                Ok(left) => return Ok(left),
                Err(why) => said.push(format!("{host}: {why}")),
            }
        }
        Err(match said.is_empty() {
            true => "no member is known to be well".to_owned(),
            false => said.join("; "),
        })
    }
}

/// An update that changes nothing: what is not encrypted by the first key is written all the same, by the API
/// server. One that is gone meanwhile needs nothing.
async fn written_again(api: &ApiClient, name: &str) -> Result<(), String> {
    let Some((namespace, name)) = name.split_once('/') else {
        return Err("it is in no namespace".into());
    };
    let path = format!("/api/v1/namespaces/{namespace}/secrets/{name}");
    match api.merge(&path, &json!({})).await {
        Err(error) if error.code != 404 => Err(error.to_string()),
        _ => Ok(()),
    }
}

fn not_done(attempted: &str, answer: String) -> StepOutcome {
    let trouble = Trouble::new(None, attempted, answer, Vec::new()).fix(
        "run the same command again: it goes on from here, and the key before is accepted until then",
    );
    StepOutcome::Failed(trouble)
}
