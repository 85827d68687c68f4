tab=$(printf '\t')
# Replies are lines that begin with '@' and have tab-separated fields; all else is noise. Each goes out whole:
# every write is a packet on its way.
say() {
  said=@
  for field in "$@"; do said=$said$tab$field; done
  printf '%s\n' "$said"
}
one_line() { printf '%s' "$1" | tr '\t\n' '  '; }
# Images that the kubelet does not remove when its disk fills: no registry could give them back.
# shellcheck disable=SC2034
pinned='labels."io.cri-containerd.pinned"==pinned'
