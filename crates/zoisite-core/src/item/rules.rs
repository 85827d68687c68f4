use super::{Act, Described, Differs, Found, Kind, Look, Seen};
use crate::paths::Firewall;
use crate::text::digest;

/// For how long a host bears new rules that no login has passed, in seconds.
pub const TRIAL_OF_RULES: u32 = 60;

/// What a host's firewall lets in, in the words of the one that runs there.
///
/// Rules that were put are on trial: the host takes them back by itself ([`TRIAL_OF_RULES`]) unless they are kept
/// ([`crate::script::keep_rules_script`]), which is done once a new connection has come through them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rules {
    /// In whose words.
    pub words: Firewall,
    /// The table of nftables.
    pub table: String,
    /// The rules: a file for nft(8), or lines of ufw(8) or firewall-cmd(1).
    pub text: String,
}

/// What a look found of them.
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct RulesFacts {
    /// In whose words they were put.
    pub words: String,
    /// SHA-256 of their text.
    pub sha256: String,
    /// Whether the firewall still has all of them.
    pub hold: bool,
}

/// What looks and acts ask alike: whether the firewall has what was kept.
macro_rules! live {
    () => {
        r#"
rules_at=$state/firewall
# words, table: what the firewall holds of ours, so that it can be compared
rules_held() {
  case $1 in
    nftables) nft -s list table inet "$2" 2>/dev/null ;;
    # Its files have comments in hexadecimal: this is 'zoisite'.
    ufw) grep -h 'comment=7a6f6973697465' "$root/etc/ufw/user.rules" "$root/etc/ufw/user6.rules" 2>/dev/null ;;
    firewalld)
      there=$(firewall-cmd --list-rich-rules 2>/dev/null; firewall-cmd --zone=trusted --list-sources 2>/dev/null | tr ' ' '\n')
      while read -r own; do
        own=${own#*--add-}
        own=${own#*=}
        own=${own#\'}
        printf '%s\n' "$there" | grep -xF -e "${own%\'}"
      done <"$rules_at/kept"
      ;;
  esac | sha256sum
}
# words, table: whether it holds what it held when they were kept, and will at the next boot
rules_hold() {
  [ "$(rules_held "$1" "$2")" = "$(cat "$rules_at/held" 2>/dev/null)" ] || return 1
  [ "$1" != nftables ] || systemctl is-enabled -q zoisite-firewall.service 2>/dev/null
}
"#
    };
}

/// What putting, keeping and taking back have in common.
macro_rules! put {
    () => {
        r#"
# words, a line, and whether it goes: it is set, for now alone where the firewall knows the difference
rule() {
  case "$1 ${3:-}" in
    'ufw ') eval "ufw $2" ;;
    'ufw gone')
      set -- "$1" "${2%% comment *}"
      case $2 in route*) eval "ufw route delete ${2#route }" ;; *) eval "ufw delete $2" ;; esac
      ;;
    'firewalld ') eval "firewall-cmd -q $2" ;;
    'firewalld gone') eval "firewall-cmd -q $(printf '%s' "$2" | sed 's/--add-/--remove-/')" ;;
    'firewalld lasting') eval "firewall-cmd -q --permanent $2" ;;
    'firewalld gone-lasting') eval "firewall-cmd -q --permanent $(printf '%s' "$2" | sed 's/--add-/--remove-/')" ;;
  esac
}
# words, a file with lines, one with lines to leave out, how: each line
each_rule() {
  grep -v '^#' "$2" 2>/dev/null | while IFS= read -r own; do
    if grep -qxF -e "$own" "$3" 2>/dev/null; then continue; fi
    said=$(rule "$1" "$own" "$4" 2>&1 </dev/null) || { printf '%s: %s\n' "$own" "$said"; exit 1; }
  done
}
"#
    };
}

/// What keeping adds to that.
pub(crate) const KEEP: &str = r#"
keep_rules() {
  begin "keep the rules of the firewall"
  if [ ! -e "$rules_at/undo" ]; then same; return; fi
  systemctl stop zoisite-firewall-trial.timer 2>/dev/null
  if [ ! -e "$rules_at/new" ]; then
    rules_undone
    fail "keeping the rules of the firewall" "the host has undone them by itself: no login came in through them in time"
  fi
  read -r words table <"$rules_at/words"
  case $words in
    nftables)
      {
        printf '# Written by zoisite: do not edit.\n[Unit]\nDescription=what the firewall lets in\n'
        printf 'DefaultDependencies=no\nRequiresMountsFor=%s\nAfter=local-fs.target\n' "$rules_at"
        printf 'Wants=network-pre.target\nBefore=network-pre.target shutdown.target\nConflicts=shutdown.target\n\n'
        printf '[Service]\nType=oneshot\nRemainAfterExit=yes\nExecStart=/usr/sbin/nft -f %s/kept\n\n' "$rules_at"
        printf '[Install]\nWantedBy=sysinit.target\n'
      } | new_file "$root/etc/systemd/system/zoisite-firewall.service" || fail "writing zoisite-firewall.service" "it cannot be written"
      chmod 0644 "$root/etc/systemd/system/zoisite-firewall.service"
      ;;
    firewalld)
      out=$(each_rule "$words" "$rules_at/new" /dev/null lasting && each_rule "$words" "$rules_at/kept" "$rules_at/new" gone-lasting) ||
        fail "keeping the rules of the firewall" "$out"
      ;;
  esac
  attempt "keeping the rules" sync "$rules_at/new"
  attempt "keeping the rules" mv -f "$rules_at/new" "$rules_at/kept"
  rm -f "$rules_at/undo" "$rules_at/before" "$rules_at/user.rules" "$rules_at/user6.rules"
  if [ "$words" = nftables ]; then
    attempt "reloading systemd" systemctl daemon-reload
    attempt "having them set at boot" systemctl enable -q zoisite-firewall.service
    attempt "having them set at boot" systemctl start zoisite-firewall.service
  fi
  # Until this stands they count as others than were put, and the next run puts them again.
  rules_held "$words" "$table" >"$rules_at/held"
  changed
}
"#;

impl Kind for Rules {
    const LOOK: &'static str = concat!(
        live!(),
        r#"
firewall_rules() {
  if [ ! -r "$rules_at/kept" ]; then return; fi
  read -r words table <"$rules_at/words"
  said=$(sha256sum <"$rules_at/kept")
  if rules_hold "$words" "$table"; then hold=yes; else hold=no; fi
  say firewall-rules "$words" "${said%% *}" "$hold"
}
"#
    );

    const ACT: &'static str = concat!(
        live!(),
        put!(),
        r#"
# words, table, seconds; the rules come by standard input
firewall_rules() {
  begin "rules of the firewall"
  attempt "making $rules_at" mkdir -p -m 0700 "$rules_at"
  rules_undone
  new_file "$rules_at/new" || fail "writing $rules_at/new" "it cannot be written"
  if cmp -s "$rules_at/new" "$rules_at/kept" && [ "$(cat "$rules_at/words")" = "$1 $2" ] && rules_hold "$1" "$2"; then
    rm -f "$rules_at/new"
    same
    return
  fi
  note firewall "$1" "$2"
  # Another firewall manages the host by now: what the one before was given goes.
  before='' table=''
  if [ -r "$rules_at/words" ]; then read -r before table <"$rules_at/words"; fi
  if [ -n "$before" ] && [ "$before $table" != "$1 $2" ]; then
    rules_gone "$before" "$table"
    rm -f "$rules_at/kept" "$rules_at/held"
  fi
  attempt "noting whose words they are" put_text "$1 $2" "$rules_at/words" root
  {
    printf '# The rules of before come back, unless a new connection came through the new ones.\nset -u\n'
    printf 'rm -f "%s/new"\n' "$rules_at"
    case $1 in
      nftables)
        nft list table inet "$2" >"$rules_at/before" 2>/dev/null
        printf 'nft delete table inet %s 2>/dev/null\nif [ -s "%s/before" ]; then nft -f "%s/before"; fi\n' "$2" "$rules_at" "$rules_at"
        ;;
      ufw)
        cp -p "$root/etc/ufw/user.rules" "$root/etc/ufw/user6.rules" "$rules_at/"
        printf 'cp -p "%s/user.rules" "%s/user6.rules" "%s/etc/ufw/"\nufw reload\n' "$rules_at" "$rules_at" "$root"
        ;;
      firewalld) printf 'firewall-cmd -q --reload\n' ;;
    esac
  } | new_file "$rules_at/undo" || fail "writing $rules_at/undo" "it cannot be written"
  if [ "$1" = nftables ]; then attempt "checking the rules" nft -c -f "$rules_at/new"; fi
  attempt "having the host take them back by itself" systemd-run -q --collect --unit zoisite-firewall-trial \
    --on-active="$3" --timer-property=AccuracySec=1s /bin/sh "$rules_at/undo"
  if [ "$1" = nftables ]; then
    out=$(nft -f "$rules_at/new" 2>&1)
  else
    out=$(each_rule "$1" "$rules_at/new" "$rules_at/kept" '' && each_rule "$1" "$rules_at/kept" "$rules_at/new" gone)
  fi || { rules_undone; fail "setting the rules of the firewall" "$out"; }
  changed
}
# A trial that goes on ends now, as it would end by itself.
rules_undone() {
  systemctl stop zoisite-firewall-trial.timer 2>/dev/null
  if [ -e "$rules_at/new" ] && [ -e "$rules_at/undo" ]; then sh "$rules_at/undo" >/dev/null 2>&1; fi
  rm -f "$rules_at/new" "$rules_at/undo" "$rules_at/before" "$rules_at/user.rules" "$rules_at/user6.rules"
}
# words, table: nothing of ours is in the firewall any more
rules_gone() {
  case $1 in
    nftables)
      systemctl disable -q zoisite-firewall.service 2>/dev/null
      systemctl stop zoisite-firewall.service 2>/dev/null
      rm -f "$root/etc/systemd/system/zoisite-firewall.service"
      if nft list table inet "$2" >/dev/null 2>&1; then attempt "removing the table $2" nft delete table inet "$2"; fi
      ;;
    firewalld)
      each_rule "$1" "$rules_at/kept" /dev/null gone >/dev/null
      each_rule "$1" "$rules_at/kept" /dev/null gone-lasting >/dev/null
      ;;
    *) each_rule "$1" "$rules_at/kept" /dev/null gone >/dev/null ;;
  esac
}
back_firewall() {
  rules_undone
  if [ -r "$rules_at/words" ]; then
    read -r words table <"$rules_at/words"
    rules_gone "$words" "$table"
  fi
  rm -rf "$rules_at"
  changed
}
"#
    );

    fn describe(&self) -> Described {
        Described::new("rule set of", self.words.word()).with_note("what the firewall lets in")
    }

    fn look(&self, look: &mut Look) {
        look.line("firewall_rules", &[]);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["firewall-rules", words, sha256, hold] = fields {
            let facts = RulesFacts {
                words: (*words).into(),
                sha256: (*sha256).into(),
                hold: *hold == "yes",
            };
            found.rules.insert(String::new(), facts);
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        let found = seen.found.rules.get("");
        let Some(found) = found.filter(|found| found.words == self.words.word()) else {
            return vec![Differs::Missing];
        };
        if found.sha256 != digest(&self.text) {
            return vec![Differs::Content];
        }
        match found.hold {
            true => Vec::new(),
            false => vec![Differs::Value("not what was put".into())],
        }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        let seconds = TRIAL_OF_RULES.to_string();
        act.call_with("firewall_rules", &[self.words.word(), &self.table, &seconds], &self.text);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        let (words, sha256) = (self.words.word().into(), digest(&self.text));
        found.rules.insert(String::new(), RulesFacts { words, sha256, hold: true });
    }
}
