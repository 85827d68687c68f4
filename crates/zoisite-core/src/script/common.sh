# Every path of the host's own stands below this one, for tries in a folder of one's own.
root=
# shellcheck disable=SC2034
state=$root/var/lib/zoisite
tab=$(printf '\t')
# Replies are lines that begin with '@' and have tab-separated fields; all else is noise. Each goes out whole:
# every write is a packet on its way.
say() {
  said=@
  for field in "$@"; do said=$said$tab$field; done
  printf '%s\n' "$said"
}
one_line() { printf '%s' "$1" | tr '\t\n' '  '; }
# Root's own links may lead elsewhere; nobody else's is followed.
own_link() { [ ! -L "$1" ] || [ "$(stat -c %U "$1")" = root ]; }
# The client of the runtime: the one that was brought, else that of the distribution.
ctr=ctr
# shellcheck disable=SC2034
for beside in "$root"/usr/local/lib/zoisite/containerd-*/ctr; do if [ -x "$beside" ]; then ctr=$beside; fi; done
# Images that the kubelet does not remove when its disk fills: no registry could give them back.
# shellcheck disable=SC2034
pinned='labels."io.cri-containerd.pinned"==pinned'
