use super::{Act, Described, Differs, Found, Kind, Look, Seen};

/// A setting of the running kernel (sysctl(8)). What must hold after the next boot stands in a file beside it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sysctl {
    /// Its key, parts with dots: `net.ipv4.ip_forward`.
    pub key: &'static str,
    /// Its value.
    pub value: &'static str,
    /// Whether some kernels lack it, and that is well: it comes with a module.
    pub optional: bool,
}

impl Sysctl {
    /// Its line for systemd's own program (sysctl.d(5)): one that some kernels lack may fail.
    pub(crate) fn line(&self) -> String {
        format!("{}{} = {}\n", if self.optional { "-" } else { "" }, self.key, self.value)
    }
}

impl Kind for Sysctl {
    const LOOK: &'static str = r#"
sysctls() {
  for key in "$@"; do
    first_line "$root/proc/sys/$(printf '%s' "$key" | tr . /)"
    say sysctl "$key" "$line"
  done
}
"#;

    const ACT: &'static str = r#"
# key, value
sysctl() {
  begin "sysctl $1"
  path=$root/proc/sys/$(printf '%s' "$1" | tr . /)
  was=$(tr '\t' ' ' 2>/dev/null <"$path") || fail "setting $1" "the kernel has no such setting"
  if [ "$was" = "$2" ]; then same; return; fi
  note sysctl "$1" "$was"
  set_kernel "$1" "$2" "$path"
}
back_sysctl() {
  path=$root/proc/sys/$(printf '%s' "$1" | tr . /)
  if [ "$(tr '\t' ' ' 2>/dev/null <"$path")" = "$2" ]; then same; return; fi
  set_kernel "$1" "$2" "$path"
}
set_kernel() {
  out=$( (printf '%s\n' "$2" >"$3") 2>&1) || fail "setting $1 to $2" "$out"
  changed
}
"#;

    fn describe(&self) -> Described {
        Described::new("sysctl", self.key).with_note(format!("is {}", self.value))
    }

    fn look(&self, look: &mut Look) {
        look.batch("sysctls", self.key);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["sysctl", key, value] = fields
            && !value.is_empty()
        {
            found.sysctls.insert((*key).into(), (*value).into());
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        match seen.found.sysctls.get(self.key) {
            None if self.optional => Vec::new(),
            None => vec![Differs::Missing],
            Some(found) if found == self.value => Vec::new(),
            Some(found) => vec![Differs::Value(found.clone())],
        }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call("sysctl", &[self.key, self.value]);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        found.sysctls.insert(self.key.into(), self.value.into());
    }
}
