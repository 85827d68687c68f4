# Gives a running machine the data that its first boot would read now (cloud-init, NoCloud), and reads what it has.
seed=$root/var/lib/cloud/seed/nocloud
# Until it starts again, and no longer.
leaving=$root/run/zoisite-starts-again
heard() {
  say boot "$(cat /proc/sys/kernel/random/boot_id)"
  if [ -e "$leaving" ]; then say leaving; fi
  command -v cloud-init >/dev/null || return 0
  say instance "$(cat "$root/var/lib/cloud/data/instance-id" 2>/dev/null)"
  say state "$(cloud-init status 2>/dev/null | sed -n 's/^status: //p')"
}
# name, text
put_seed() {
  printf '%s' "$2" | new_file "$seed/$1.zoisite-new" || fail "writing $seed/$1" "it cannot be written"
  attempt "writing $seed/$1" sync "$seed/$1.zoisite-new"
  attempt "writing $seed/$1" mv -f "$seed/$1.zoisite-new" "$seed/$1"
}
# user data, network configuration, meta data: the last names what the others are
lay() {
  begin "lay down what is told"
  command -v cloud-init >/dev/null || fail "looking for cloud-init" "the host has none: it was not set up with first-boot data"
  attempt "making $seed" mkdir -p -m 0700 "$seed"
  put_seed user-data "$1"
  put_seed network-config "$2"
  put_seed meta-data "$3"
  changed
}
# user, key: who may log in no more
lock_out() {
  begin "lock out a key of $1"
  home=$(getent passwd "$1" | cut -d : -f 6)
  list=$home/.ssh/authorized_keys
  if [ -z "$home" ] || ! grep -qxF "$2" "$list" 2>/dev/null; then same; return; fi
  grep -vxF "$2" "$list" | new_file "$list.zoisite-new"
  attempt "writing $list" chown --reference="$list" "$list.zoisite-new"
  attempt "writing $list" chmod --reference="$list" "$list.zoisite-new"
  attempt "writing $list" mv -f "$list.zoisite-new" "$list"
  changed
}
# The very stages of a boot, one after another: what is new in them counts as at a first one.
hear_now() {
  begin "hear it as it runs"
  # It keeps the data of this start, unless it must look again.
  rm -f "$root/run/cloud-init/.instance-id"
  attempt "cloud-init, stage local" cloud-init init --local
  attempt "cloud-init, stage network" cloud-init init
  attempt "cloud-init, stage config" cloud-init modules --mode=config
  attempt "cloud-init, stage final" cloud-init modules --mode=final
  changed
}
start_again() {
  begin "start the machine again"
  attempt "noting that it starts again" touch "$leaving"
  # Once this has been said.
  attempt "having it start again" systemd-run -q --collect --on-active=1 --timer-property=AccuracySec=100ms systemctl reboot
  changed
}
