# What a host is like before anything is put on it. Changes nothing, but for a small file that measures a disk
# and is gone after.
# words of a reply, a command: each line that it prints is a reply
each() {
  what=$1
  shift
  timeout -k 2 10 "$@" 2>/dev/null | sed "2000q; s/$tab/ /g; s/^/@$tab$what$tab/"
}
# The same for each line of a file.
lines() { [ ! -r "$2" ] || sed "2000q; s/$tab/ /g; s/^/@$tab$1$tab/" "$2" 2>/dev/null; }
# The folder itself, or the nearest one above it that is there.
nearest() {
  at=$1
  while [ ! -d "$at" ]; do at=$(dirname "$at"); done
}
# Seconds with a fraction: the first and the last thing that is said.
clock() { say time "$(date +%s.%N)"; }

machine() {
  say kernel "$(uname -r)"
  # shellcheck disable=SC1091
  say release "$( (. /etc/os-release && printf '%s' "$PRETTY_NAME") 2>/dev/null)"
  say cores "$(getconf _NPROCESSORS_ONLN)"
  awk -v t="$tab" '/^MemTotal:|^MemAvailable:/ { print "@" t "memory" t $1 t $2 }' /proc/meminfo
  say zone "$(readlink /etc/localtime | sed 's|.*/zoneinfo/||')"
  if [ -e /var/run/reboot-required ]; then say reboot "/var/run/reboot-required is there"; fi
  if [ ! -s /run/systemd/container ] && [ -d /lib/modules ] && [ ! -d "/lib/modules/$(uname -r)" ]; then
    say reboot "the modules of the kernel that runs are gone"
  fi
}
# purpose and path of each place, asked for all at once
places() {
  purposes=
  folders=
  while [ $# -gt 1 ]; do
    nearest "$2"
    purposes="$purposes$1$tab$2;"
    folders="$folders $at"
    shift 2
  done
  # shellcheck disable=SC2086
  { timeout 10 df -PkT $folders; timeout 10 df -Pi $folders; } 2>/dev/null | awk -v t="$tab" -v all="$purposes" '
    $1 == "Filesystem" { table++; row = 0; next }
    { row++ }
    table == 1 { device[row] = $1; type[row] = $2; size[row] = $3; free[row] = $5; mount[row] = $7 }
    table == 2 { inodes[row] = $2; left[row] = $4 }
    END {
      while ((getline line <"/proc/self/mounts") > 0) { split(line, f, " "); options[f[2]] = f[4] }
      n = split(all, purpose, ";") - 1
      for (i = 1; i <= n; i++)
        if (i in device)
          print "@" t "place" t purpose[i] t device[i] t type[i] t mount[i] t size[i] t free[i] t inodes[i] t left[i] t options[mount[i]]
    }'
}
# folder: how long a small write takes until it lies on the disk, as etcd's log writes; two seconds at most
written() {
  nearest "$1"
  rm -f "$at"/.zoisite-write-*
  file=$at/.zoisite-write-$$
  said=$(timeout 2 dd if=/dev/zero of="$file" bs=2300 count=64 oflag=dsync 2>&1)
  size=$(stat -c %s "$file" 2>/dev/null)
  rm -f "$file"
  took=$(printf '%s\n' "$said" | sed -n 's/.*copied, \([0-9.e-]*\) s.*/\1/p')
  say written "$((${size:-0} / 2300))" "${took:-2}" "$(one_line "$(printf '%s\n' "$said" | sed -n 's/.*error[^:]*: *//p; s/.*: //p' | grep -v copied | head -n 1)")"
}
# number of the protocol of our own routes
network() {
  each link ip -o -d link show
  each address ip -o address show
  each route sh -c "ip -o route show; ip -6 -o route show" | grep -v " proto $1 "
  lines resolver /etc/resolv.conf
  lines hosts-file /etc/hosts
  lines upstream /run/systemd/resolve/resolv.conf
}
# Whether a name server answers, whatever it says: it is asked for the root's name servers (RFC 1035 section 4).
ask_server() {
  # A packet may get lost, and a busy host be slow: it is asked twice.
  for seconds in 3 6; do
    # shellcheck disable=SC2016
    said=$(timeout "$seconds" bash -c 'exec 3<>"/dev/udp/$0/53" &&
      printf "\132\157\001\000\000\001\000\000\000\000\000\000\000\000\002\000\001" >&3 &&
      head -c 4 <&3 | od -An -tx1' "$1" 2>&1)
    [ -z "$said" ] || break
  done
  said=$(one_line "$said" | sed 's/^ *//; s/.*: //')
  say server "$1" "${said:-silent}"
}
# A name that no file on the host has: what its servers make of it.
ask_name() {
  timeout 5 getent ahosts "$1" 2>/dev/null | sed "s/^/@${tab}name$tab$1$tab/"
}
# What addresses are called: each answer begins with its address.
ask_addresses() { timeout 20 getent hosts "$@" 2>/dev/null | sed "s/^/@${tab}reverse$tab/"; }
ask_names() {
  known=" $(sed 's/#.*//' /etc/hosts 2>/dev/null | tr '\t\n' '  ') "
  for asked in "$@"; do
    say asked "$asked"
    case $known in
      *" $asked "*) ;;
      *) unknown="${unknown:-} $asked" ;;
    esac
  done
  # shellcheck disable=SC2086
  ask_all ask_name ${unknown:-}
}
# how, what: all at once, so many as a host bears
ask_all() {
  how=$1
  shift
  n=0
  for asked in "$@"; do
    "$how" "$asked" &
    n=$((n + 1))
    if [ $((n % 32)) = 0 ]; then wait; fi
  done
  wait
}
name_servers() {
  servers=$(sed -n 's/^nameserver[[:space:]]*//p' /etc/resolv.conf /run/systemd/resolve/resolv.conf 2>/dev/null | sort -u | head -n 6)
  # shellcheck disable=SC2086
  if command -v bash >/dev/null; then ask_all ask_server $servers; fi
}
# Units that run, behind the word under which they appear; all are asked for at once.
running() {
  kind=$1
  shift
  for unit in "$@"; do
    read -r state || break
    case $unit in
      firewall) kind=firewall ;;
      *)
        if [ "$state" = active ]; then
          say "$kind" "$unit"
          if [ "$kind" = time-service ]; then kept=yes; fi
        fi
        ;;
    esac
  done <<STATES
$(systemctl is-active "$@" 2>/dev/null)
STATES
}
services() {
  running time-service chrony chronyd systemd-timesyncd ntp ntpd ntpsec openntpd firewall firewalld ufw nftables iptables netfilter-persistent
  # It starts a service of its own for the answer: only where the answer matters.
  [ "${kept:-no}" = no ] || timeout 5 timedatectl show -p NTPSynchronized 2>/dev/null | sed "s/^NTPSynchronized=/@${tab}synchronized$tab/"
}
swap() {
  tail -n +2 /proc/swaps | awk -v t="$tab" '{ print "@" t "swaps" t $1 t $2 }'
  awk -v t="$tab" '$1 !~ /^#/ && $3 == "swap" && $4 !~ /noauto/ { print "@" t "boot-swap" t "/etc/fstab" t $1 }' /etc/fstab 2>/dev/null
  for file in /etc/systemd/zram-generator.conf /usr/lib/systemd/zram-generator.conf; do
    if [ -s "$file" ]; then say boot-swap "$file" zram; fi
  done
}
# Unit files that cannot be started, that swap at boot, that an earlier cluster left.
unit_files() {
  find /etc/systemd/system /run/systemd/system /usr/lib/systemd/system /lib/systemd/system -maxdepth 2 \
    \( -lname /dev/null -printf "@${tab}masked$tab%f\n" \) -o \
    \( -path '*.wants/*.swap' -printf "@${tab}boot-swap${tab}systemd$tab%f\n" \) -o \
    \( \( -name 'kube*.service' -o -name 'etcd*.service' \) -printf "@${tab}left${tab}unit$tab%f${tab}there\n" \) 2>/dev/null
}
kernel() {
  for module in overlay br_netfilter; do
    if [ -d "/sys/module/$module" ]; then
      say module "$module" loaded
    elif [ ! -s /run/systemd/container ] && modprobe -n -q "$module" 2>/dev/null; then
      say module "$module" loadable
    else
      say module "$module" missing
    fi
  done
  say forwarding "$(cat /proc/sys/net/ipv4/ip_forward)"
  if [ "$(cat /sys/fs/selinux/enforce 2>/dev/null)" = 1 ]; then say mandatory "SELinux, enforcing"; fi
  if [ "$(cat /sys/module/apparmor/parameters/enabled 2>/dev/null)" = Y ]; then say mandatory AppArmor; fi
}
firewall() {
  # Chains that meet what comes in or passes through, and names of chains: of other clusters some may be left.
  chains=$(timeout 10 nft list chains 2>/dev/null)
  printf '%s\n' "$chains" | awk -v t="$tab" '
    $1 == "table" { table = $2 " " $3 }
    $1 == "chain" { chain = $2 }
    /hook (input|forward)/ {
      for (i = 1; i < NF; i++) { if ($i == "hook") hook = $(i + 1); if ($i == "policy") policy = $(i + 1) }
      sub(/;.*/, "", policy); print "@" t "policy" t table t chain t hook t policy
    }'
  printf '%s\n' "$chains" | awk -v t="$tab" '
    $1 == "table" { table = $2 " " $3 }
    $1 == "chain" && $2 ~ /^(KUBE-|CNI-)/ { n[table]++ }
    END { for (table in n) print "@" t "left" t "chains" t table t n[table] }'
}
# Who has an address, by its hardware address: it is asked for by dialling it.
neighbour() {
  if [ -n "$(ip -o address show to "$1" 2>/dev/null)" ]; then return; fi
  # shellcheck disable=SC2016
  timeout 2 bash -c 'exec 3<>"/dev/tcp/$0/9"' "$1" 2>/dev/null
  mac=$(ip neighbour show "$1" 2>/dev/null | sed -n 's/.* lladdr \([0-9a-f:]*\) .*/\1/p')
  if [ -n "$mac" ]; then say neighbour "$1" "$mac"; fi
}
# the virtual router's id, the hardware's group, own address, addresses of those who share the id: others that
# advertise it (RFC 9568) are noted from now on, by a table that is gone when they are reported
routers_begin() {
  command -v nft >/dev/null || return 0
  id=$1 group=$2
  heard_dev=$(ip -o address show to "$3" 2>/dev/null | awk '{ print $2; exit }')
  [ -n "$heard_dev" ] || return 0
  shift 3
  nft delete table inet zoisite_heard 2>/dev/null
  ip maddress add "$group" dev "$heard_dev" 2>/dev/null
  own4='' own6=''
  for own in "$@"; do case $own in *:*) own6="$own6 ip6 saddr != $own" ;; *) own4="$own4 ip saddr != $own" ;; esac; done
  {
    printf 'table inet zoisite_heard {\n  set who4 { type ipv4_addr; flags dynamic; size 16; }\n  set who6 { type ipv6_addr; flags dynamic; size 16; }\n'
    printf '  chain in {\n    type filter hook prerouting priority -300;\n'
    printf '    iifname "%s" ip protocol 112 @th,8,8 %s%s add @who4 { ip saddr }\n' "$heard_dev" "$id" "$own4"
    printf '    iifname "%s" ip6 nexthdr 112 @th,8,8 %s%s add @who6 { ip6 saddr }\n  }\n}\n' "$heard_dev" "$id" "$own6"
  } | nft -f - 2>/dev/null || return 0
  heard_since=$(date +%s)
}
# Advertisements come every second: some of them are waited for.
routers_heard() {
  if [ -z "${heard_since:-}" ]; then return; fi
  while [ "$(date +%s)" -lt $((heard_since + 4)) ]; do sleep 0.2; done
  for who in who4 who6; do
    nft list set inet zoisite_heard "$who" 2>/dev/null | tr -d '\n' | sed -n 's/.*elements = {\([^}]*\)}.*/\1/p' | tr -d ' ' | tr ',' '\n'
    echo
  done | while read -r who; do if [ -n "$who" ]; then say router "$who"; fi; done
  nft delete table inet zoisite_heard 2>/dev/null
  ip maddress del "$group" dev "$heard_dev" 2>/dev/null
}
# Ports at which something listens, and the units of those who do.
listening() {
  listening=$(timeout 10 ss -Hltnup 2>/dev/null | head -n 1000)
  printf '%s\n' "$listening" | sed "s/$tab/ /g; s/^/@${tab}listens$tab/"
  files=$(printf '%s\n' "$listening" | grep -o 'pid=[0-9]*' | sort -u | sed 's|pid=\(.*\)|/proc/\1/cgroup|')
  # shellcheck disable=SC2086
  [ -z "$files" ] || awk -v t="$tab" '
    /^0::/ || /^1:name=systemd:/ {
      if (FILENAME in told) next
      told[FILENAME] = 1; split(FILENAME, path, "/"); sub(".*/", ""); print "@" t "unit-of" t path[3] t $0
    }' $files 2>/dev/null
}
# programs, by word: their paths and versions
found() {
  for word in "$@"; do
    case $word in
      containerd) set -- "$runtime" /usr/bin/containerd /usr/local/bin/containerd ;;
      plugins) set -- /usr/lib/cni/bridge /opt/cni/bin/bridge /usr/libexec/cni/bridge ;;
      haproxy) set -- /usr/sbin/haproxy /usr/local/sbin/haproxy ;;
    esac
    there=
    for program in "$@"; do
      if [ -z "$there" ] && [ -n "$program" ] && [ -x "$program" ]; then there=$program; fi
    done
    if [ -z "$there" ]; then
      missing=yes
      continue
    fi
    case $word in
      plugins) version= ;;
      haproxy) version=$(timeout 5 "$there" -v 2>/dev/null | head -n 1 | awk '{ print $3 }') ;;
      *) version=$(timeout 5 "$there" --version 2>/dev/null | head -n 1 | awk '{ print $3 }') ;;
    esac
    say program "$there" "${version:--}"
  done
}
# Who installs programs here, and whether where they come from answers: asked only where one is missing.
packages() {
  for manager in apt-get dnf zypper; do
    if command -v "$manager" >/dev/null; then say packages "$manager"; fi
  done
  if [ "${missing:-no}" = yes ]; then sources_answer; fi
}
# What an earlier cluster left: folder of etcd's data
leftovers() {
  for folder in "$1" /var/lib/etcd /var/lib/kubelet /etc/kubernetes /etc/cni/net.d /var/lib/cni; do
    [ -d "$folder" ] || continue
    inside=0
    for entry in "$folder"/* "$folder"/.[!.]*; do
      case $entry in
        # What every new file system has is nobody's.
        *zoisite* | */lost+found) ;;
        *) if [ -e "$entry" ] || [ -L "$entry" ]; then inside=$((inside + 1)); fi ;;
      esac
    done
    if [ "$inside" -gt 0 ]; then say left folder "$folder" "$inside"; fi
  done
  if [ -S /run/containerd/containerd.sock ] && command -v "$ctr" >/dev/null; then
    pods=$(timeout -k 2 10 "$ctr" -n k8s.io containers ls -q 2>/dev/null | wc -l)
    if [ "$pods" -gt 0 ]; then say left containers k8s.io "$pods"; fi
  fi
}
