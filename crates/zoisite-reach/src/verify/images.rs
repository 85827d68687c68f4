//! Images: one is pushed into the cluster's own registry, and nodes really pull.

use std::collections::BTreeMap;

use serde_json::{Value, json};
use tokio::time::Instant;
use zoisite_core::cluster::ImageName;
use zoisite_core::components::{Manifest, digest_of};

use super::{Verifier, why_waiting};
use crate::registry::Registry;

pub(super) const PUSHED: &str = "image pushed";
pub(super) const PULLED: &str = "image pulled";

/// The cluster's own registry, where images can be put into it.
#[derive(Clone, Debug)]
pub struct Pushing {
    /// What is pushed, as the registry calls it, and what nodes pull it as: by its own name, and by that of each
    /// registry for which it stands in. Nothing that nodes hold is among it: a pull would unpin that.
    pub images: Vec<(ImageName, ImageName)>,
    /// A client of it.
    pub registry: Result<Registry, String>,
}

impl Verifier<'_> {
    /// Pushes images, pulls them and the others on every node, and takes them away again.
    pub(super) async fn images(&mut self) {
        let wanted = self.wanted;
        let asked = wanted.pulls.iter();
        let mut pulled: Vec<(String, String)> =
            asked.map(|one| (one.clone(), one.clone())).collect();
        let mut pushed = Vec::new();
        if let Some(Pushing { images, registry }) = &wanted.pushing {
            for (image, of) in images {
                let began = Instant::now();
                let put = match registry {
                    Ok(registry) => push(registry, image).await.map(|digest| {
                        pulled.push((of.registry.clone(), of.to_string()));
                        pushed.push((registry, image, digest));
                    }),
                    Err(why) => Err(why.clone()),
                };
                self.note(PUSHED, &of.registry, began, put);
            }
        }
        for (i, (called, image)) in pulled.iter().enumerate() {
            self.pull(&format!("pull-{i}"), called, image).await;
        }
        for (registry, image, digest) in pushed {
            if let Err(why) = registry.remove(image, &digest).await {
                let why = format!("removing it: {why}");
                self.note(PUSHED, &image.to_string(), Instant::now(), Err(why));
            }
        }
    }

    /// A pod on every node that begins with a pull, whatever the node has; whether it then runs is not asked.
    /// `called` is the image in what is reported.
    async fn pull(&mut self, app: &str, called: &str, image: &str) {
        let path = self.path("/pods");
        let began = Instant::now();
        let mut waiting: BTreeMap<String, String> = BTreeMap::new();
        for node in self.wanted.nodes.iter().map(ToString::to_string) {
            let mut pod = self.pod(app, &node, "probe");
            let container = &mut pod["spec"]["containers"][0];
            container["image"] = json!(image);
            container["imagePullPolicy"] = json!("Always");
            pod["spec"]["restartPolicy"] = json!("Never");
            match self.create_pod(&path, &pod).await {
                Ok(()) => {
                    waiting.insert(node, "it was not placed".into());
                }
                Err(error) => {
                    self.note(PULLED, &format!("{node}: {called}"), began, Err(error.to_string()));
                }
            }
        }
        let end = Instant::now() + self.wanted.timeout;
        let list = format!("{path}?labelSelector=app%3D{app}");
        while !waiting.is_empty() && Instant::now() < end {
            for pod in self.api.list(&list).await.unwrap_or_default() {
                let node = pod["metadata"]["labels"]["node"].as_str().unwrap_or_default();
                if !waiting.contains_key(node) {
                    continue;
                }
                if is_pulled(&pod) {
                    waiting.remove(node);
                    self.note(PULLED, &format!("{node}: {called}"), began, Ok(()));
                } else {
                    waiting.insert(node.to_owned(), why_waiting(&pod));
                }
            }
            tokio::time::sleep(std::time::Duration::from_millis(300)).await;
        }
        for (node, why) in waiting {
            self.note(PULLED, &format!("{node}: {called}"), began, Err(why));
        }
    }
}

/// Whether a pod's image is there, by what its container does: anything but waiting for it.
fn is_pulled(pod: &Value) -> bool {
    let Some(state) = pod.pointer("/status/containerStatuses/0/state") else { return false };
    let reason = state["waiting"]["reason"].as_str();
    match reason {
        None => state["running"].is_object() || state["terminated"].is_object(),
        // What came after the pull.
        Some("CreateContainerError" | "RunContainerError" | "CrashLoopBackOff") => true,
        Some(_) => false,
    }
}

/// Pushes a new, nearly empty image. Its manifest's digest.
async fn push(registry: &Registry, image: &ImageName) -> Result<String, String> {
    // An archive without a file, and a configuration like no other.
    let layer = vec![0_u8; 1_024];
    let config = json!({
        "architecture": "amd64",
        "os": "linux",
        "config": {"Cmd": ["/nothing"], "Labels": {"zoisite.verify": image.to_string()}},
        "rootfs": {"type": "layers", "diff_ids": [digest_of(&layer)]},
    });
    let config = config.to_string().into_bytes();
    let described = |media: &str, octets: &[u8]| json!({"mediaType": media, "digest": digest_of(octets), "size": octets.len()});
    let media = "application/vnd.oci.image.manifest.v1+json";
    let manifest = json!({
        "schemaVersion": 2,
        "mediaType": media,
        "config": described("application/vnd.oci.image.config.v1+json", &config),
        "layers": [described("application/vnd.oci.image.layer.v1.tar", &layer)],
    });
    let text = manifest.to_string().into_bytes();
    let manifest = Manifest { digest: digest_of(&text), media: media.into(), text };
    for octets in [layer, config] {
        let digest = digest_of(&octets);
        registry.put_octets(&image.repository, &digest, octets).await?;
    }
    registry.put_manifest(image, image.tag.as_deref(), &manifest).await?;
    match registry.digest(image).await? {
        Some(digest) if digest == manifest.digest => Ok(digest),
        other => Err(format!("what was pushed as {} stands there as {other:?}", manifest.digest)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_image_counts_as_pulled_when_its_container_got_further() {
        let pod = |state: Value| json!({"status": {"containerStatuses": [{"state": state}]}});
        let waits = |reason: &str| is_pulled(&pod(json!({"waiting": {"reason": reason}})));
        for reason in ["ContainerCreating", "ErrImagePull", "ImagePullBackOff", "InvalidImageName"]
        {
            assert!(!waits(reason), "{reason}");
        }
        assert!(waits("RunContainerError") && waits("CreateContainerError"));
        assert!(is_pulled(&pod(json!({"terminated": {"reason": "StartError"}}))));
        assert!(is_pulled(&pod(json!({"running": {}}))));
        assert!(!is_pulled(&pod(json!({}))) && !is_pulled(&json!({})), "nothing is known yet");
    }
}
