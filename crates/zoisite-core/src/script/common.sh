# Replies are lines that begin with '@' and have tab-separated fields; all else is noise.
say() { printf '@'; printf '\t%s' "$@"; printf '\n'; }
one_line() { printf '%s' "$1" | tr '\t\n' '  '; }
# Images that the kubelet does not remove when its disk fills: no registry could give them back.
pinned='labels."io.cri-containerd.pinned"==pinned'
