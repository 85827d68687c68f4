use super::{Act, Described, Differs, Found, Kind, Look, Seen};
use crate::layout::RUNTIME_UNIT;

/// An image that the container runtime holds, imported from an archive on the host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Image {
    /// Name and tag.
    pub name: String,
    /// Path of the archive, an OCI image layout in a tar file.
    pub archive: String,
}

impl Kind for Image {
    const LOOK: &'static str = r#"
# All that are pinned are listed at once.
images() {
  # Where the runtime does not run, its client would wait for it.
  is_active containerd.service || return 0
  listed=$(timeout -k 2 20 "$ctr" -n k8s.io images ls -q "$pinned" 2>/dev/null) ||
    say hangs 'the container runtime does not list its images'
  for image in $listed; do say image "$image"; done
}
"#;

    const ACT: &'static str = r#"
# name, archive: the runtime may have been started a moment ago
image() {
  begin "image $1"
  end=$(($(date +%s) + 90))
  until "$ctr" --connect-timeout 2s -n k8s.io images ls -q >/dev/null 2>&1; do
    if [ "$(date +%s)" -ge "$end" ]; then evidence containerd.service "the container runtime does not answer"; fi
    sleep 0.2
  done
  if "$ctr" -n k8s.io images ls -q "$pinned" 2>/dev/null | grep -qxF "$1"; then same; return; fi
  # One that is there and may be removed when the disk fills is pinned only.
  if "$ctr" -n k8s.io images ls -q 2>/dev/null | grep -qxF "$1"; then was=there; else was=absent; fi
  note image "$1" "$was"
  attempt "importing $1 from $2" "$ctr" -n k8s.io images import "$2"
  attempt "pinning $1" "$ctr" -n k8s.io images label "$1" io.cri-containerd.pinned=pinned
  changed
}
# name, 'there' or 'absent'
back_image() {
  if ! listed=$("$ctr" --connect-timeout 2s -n k8s.io images ls -q 2>/dev/null); then say left "$1"; return; fi
  if ! printf '%s\n' "$listed" | grep -qxF "$1"; then same; return; fi
  if [ "$2" = there ]; then
    attempt "unpinning $1" "$ctr" -n k8s.io images label "$1" io.cri-containerd.pinned=
  else
    attempt "removing $1" "$ctr" -n k8s.io images rm "$1"
  fi
  changed
}
"#;

    fn describe(&self) -> Described {
        Described::new("image", &self.name).with_note(format!("imported from {}", self.archive))
    }

    fn look(&self, look: &mut Look) {
        look.batch("images", &self.name);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["image", name] = fields {
            found.images.insert((*name).into(), ());
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        if seen.found.images.contains_key(&self.name) {
            return Vec::new();
        }
        let runtime = seen.found.units.get(RUNTIME_UNIT);
        let stopped = runtime.is_some_and(|unit| unit.load == "loaded" && unit.active != "active");
        // What hangs or does not run shows none, whatever it holds.
        vec![match stopped || seen.hangs {
            true => Differs::Unseen(RUNTIME_UNIT),
            false => Differs::Missing,
        }]
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call("image", &[&self.name, &self.archive]);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        found.images.insert(self.name.clone(), ());
    }
}
