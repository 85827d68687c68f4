use super::{Act, Described, Differs, Found, Kind, Look, Seen};

/// That pods run on a host from now on: noted before its kubelet starts, so that taking back ends them, and what
/// they and kube-proxy made in the kernel, after the kubelet and before the runtime.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Pods;

impl Kind for Pods {
    const LOOK: &'static str = r#"
pods() { if [ -r "$state/notes" ] && grep -q "^pods$tab" "$state/notes"; then say pods noted; fi; }
"#;

    const ACT: &'static str = r#"
pods() {
  begin "pods"
  if is_noted pods k8s.io; then same; return; fi
  tables=$(nft list tables 2>/dev/null | tr '\n' ',')
  note pods k8s.io "${tables:--}"
  changed
}
# the runtime's namespace, tables of the firewall that were there before
back_pods() {
  if [ -S "$root/run/containerd/containerd.sock" ]; then
    for task in $(timeout 30 "$ctr" -n "$1" tasks ls -q 2>/dev/null); do
      "$ctr" -n "$1" tasks kill -a -s SIGKILL "$task" >/dev/null 2>&1
    done
    end=$(($(date +%s) + 120))
    while left=$(timeout 30 "$ctr" -n "$1" containers ls -q 2>/dev/null) && [ -n "$left" ]; do
      for container in $left; do
        "$ctr" -n "$1" tasks rm -f "$container" >/dev/null 2>&1
        "$ctr" -n "$1" containers rm "$container" >/dev/null 2>&1
      done
      if [ "$(date +%s)" -ge "$end" ]; then fail "ending pods" "containers stay: $(one_line "$left")"; fi
      say progress "$step" "containers end"
      sleep 0.5
    done
  fi
  awk '$2 ~ /^\/var\/lib\/kubelet\/pods\// || $2 ~ /^\/run\/(netns\/cni-|containerd\/)/ { print $2 }' "$root/proc/mounts" 2>/dev/null | sort -ru | while read -r mount; do
    umount "$mount" 2>/dev/null || umount -l "$mount" 2>/dev/null
  done
  rm -f "$root"/run/netns/cni-*
  ip link delete zoisite0 >/dev/null 2>&1
  # kube-proxy's own tables, and ours.
  nft list tables 2>/dev/null | while read -r _ family table; do
    case $table in kube-proxy | zoisite_pods | zoisite_pods6) nft delete table "$family" "$table" ;; esac
  done
  iptables_back ip iptables "$2"
  iptables_back ip6 ip6tables "$2"
  changed
}
# The chains that kubelet and portmap made by way of iptables, and tables in which nothing else is left.
iptables_back() {
  command -v "$2" >/dev/null || return 0
  for table in nat mangle filter; do
    case $(nft list tables 2>/dev/null | tr '\n' ',') in *"table $1 $table,"*) ;; *) continue ;; esac
    "$2" -t "$table" -S 2>/dev/null | grep -e '-j \(KUBE\|CNI\)-' | sed 's/^-A/-D/' | while read -r rule; do
      # shellcheck disable=SC2086 # a rule is many words
      "$2" -t "$table" $rule 2>/dev/null
    done
    chains=$("$2" -t "$table" -S 2>/dev/null | sed -n 's/^-N \(\(KUBE\|CNI\)-.*\)/\1/p')
    for chain in $chains; do "$2" -t "$table" -F "$chain" 2>/dev/null; done
    for chain in $chains; do "$2" -t "$table" -X "$chain" 2>/dev/null; done
    case $3 in *"table $1 $table,"*) continue ;; esac
    if ! "$2" -t "$table" -S 2>/dev/null | grep -qv '^-P'; then nft delete table "$1" "$table" 2>/dev/null; fi
  done
}
"#;

    fn describe(&self) -> Described {
        Described::new("that", "pods run here").with_note("ended when they are removed")
    }

    fn look(&self, look: &mut Look) {
        look.line("pods", &[]);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["pods", "noted"] = fields {
            found.pods.insert(String::new(), ());
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        if seen.found.pods.is_empty() { vec![Differs::NotNoted] } else { Vec::new() }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call("pods", &[]);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        found.pods.insert(String::new(), ());
    }
}
