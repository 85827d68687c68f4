use super::{Act, Described, Differs, Found, Kind, Look, Seen};

/// No swap, now and from the next boot on: a kubelet does not start on a host that swaps, unless it is told to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NoSwap;

impl Kind for NoSwap {
    const LOOK: &'static str = r#"
# What swaps, and what will at the next boot: lines of fstab(5), units, zram.
no_swap() {
  tail -n +2 "$root/proc/swaps" 2>/dev/null | while read -r device _; do say swap-item now "$device"; done
  awk -v t="$tab" '$1 !~ /^#/ && $3 == "swap" && $4 !~ /noauto/ { print "@" t "swap-item" t "fstab" t $1 }' "$root/etc/fstab" 2>/dev/null
  for link in "$root"/etc/systemd/system/*.wants/*.swap; do
    if [ -L "$link" ]; then say swap-item unit "${link##*/}"; fi
  done
  for unit in zramswap dphys-swapfile; do
    if [ -L "$root/etc/systemd/system/multi-user.target.wants/$unit.service" ]; then say swap-item service "$unit.service"; fi
  done
  conf=$root/etc/systemd/zram-generator.conf
  if [ ! -e "$conf" ]; then conf=$root/usr/lib/systemd/zram-generator.conf; fi
  if [ -s "$conf" ] && ! grep -q '^# Written by zoisite' "$conf"; then say swap-item zram "$conf"; fi
}
"#;

    const ACT: &'static str = r##"
no_swap() {
  begin "no swap"
  did=
  # Lines of fstab keep their place, behind a mark.
  if awk '$1 !~ /^#/ && $3 == "swap" { found = 1 } END { exit !found }' "$root/etc/fstab" 2>/dev/null; then
    note swap "$root/etc/fstab" lines
    fstab=$(readlink -f "$root/etc/fstab")
    attempt "writing $fstab" cp -p "$fstab" "$fstab.zoisite-new"
    out=$( (awk '$1 !~ /^#/ && $3 == "swap" { print "#zoisite: " $0; next } { print }' "$fstab" >"$fstab.zoisite-new") 2>&1) ||
      fail "writing $fstab" "$out"
    attempt "writing $fstab" sync "$fstab.zoisite-new"
    into_place "$fstab.zoisite-new" "$fstab"
    did=yes
  fi
  for link in "$root"/etc/systemd/system/*.wants/*.swap \
    "$root"/etc/systemd/system/multi-user.target.wants/zramswap.service \
    "$root"/etc/systemd/system/multi-user.target.wants/dphys-swapfile.service; do
    if [ ! -L "$link" ]; then continue; fi
    unit=${link##*/}
    note swap "$unit" "$(systemctl is-active "$unit" 2>/dev/null)"
    attempt "keeping $unit from starting" systemctl disable -q "$unit"
    attempt "stopping $unit" systemctl stop "$unit"
    did=yes
  done
  # An empty file of the site's own stands before that of the distribution (zram-generator.conf(5)).
  conf=$root/etc/systemd/zram-generator.conf
  if { [ -s "$conf" ] || [ -s "$root/usr/lib/systemd/zram-generator.conf" ]; } && ! grep -q '^# Written by zoisite' "$conf" 2>/dev/null; then
    note_path swap "$conf"
    printf '# Written by zoisite: no swap.\n' | new_file "$conf.zoisite-new" || fail "writing $conf" "it cannot be written"
    attempt "writing $conf" chmod 0644 "$conf.zoisite-new"
    into_place "$conf.zoisite-new" "$conf"
    did=yes
  fi
  if [ -n "$did" ]; then attempt "reloading systemd" systemctl daemon-reload; fi
  for swap in $(tail -n +2 "$root/proc/swaps" 2>/dev/null | awk '{ print $5 "," $1 }'); do
    device=${swap#*,}
    note swap "$device" on "${swap%%,*}"
    attempt "taking $device out of use as swap" swapoff "$device"
    did=yes
  done
  if [ "$(tail -n +2 "$root/proc/swaps" 2>/dev/null | wc -l)" -gt 0 ]; then
    fail "taking swap out of use" "it comes back at once: $(one_line "$(tail -n +2 "$root/proc/swaps")")"
  fi
  if [ -n "$did" ]; then changed; else same; fi
}
# a device, a unit or a file; what it was
back_swap() {
  case $1 in
    */fstab)
      fstab=$(readlink -f "$1")
      attempt "writing $fstab" cp -p "$fstab" "$fstab.zoisite-new"
      out=$( (sed 's/^#zoisite: //' "$fstab" >"$fstab.zoisite-new") 2>&1) || fail "writing $fstab" "$out"
      into_place "$fstab.zoisite-new" "$fstab"
      ;;
    */zram-generator.conf)
      back_path "$@"
      return
      ;;
    *.swap | *.service)
      attempt "letting $1 start again" systemctl enable -q "$1"
      if [ "$2" = active ]; then attempt "starting $1" systemctl start "$1"; fi
      ;;
    *)
      if grep -q "^$1 " "$root/proc/swaps"; then same; return; fi
      # What is on a device may have changed since: where it is no swap any more, it is left.
      swapon -p "$3" "$1" 2>/dev/null || swapon "$1" 2>/dev/null || say left "$1"
      ;;
  esac
  changed
}
"##;

    fn describe(&self) -> Described {
        Described::new("swap", "no swap").with_note("off now and at boot")
    }

    fn look(&self, look: &mut Look) {
        look.line("no_swap", &[]);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["swap-item", how, what] = fields {
            found.swaps.insert(format!("{how} {what}"), ());
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        let all: Vec<&str> = seen.found.swaps.keys().map(String::as_str).collect();
        match all.is_empty() {
            true => Vec::new(),
            false => vec![Differs::Value(format!("swap: {}", all.join(", ")))],
        }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call("no_swap", &[]);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        found.swaps.clear();
    }
}
