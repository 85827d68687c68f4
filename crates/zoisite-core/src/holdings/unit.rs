use std::fmt::{self, Write as _};

/// A systemd unit file as sections of settings (systemd.syntax(7)), in the order given.
#[derive(Clone, Debug, Default)]
pub struct UnitFile {
    sections: Vec<(&'static str, Vec<(&'static str, String)>)>,
}

/// Keys in a service's memory are never written to a disk when it crashes (systemd.exec(5)).
pub(super) const NO_CORE: &str = "0";

/// What a service that needs no rights of its own does without (systemd.exec(5)).
pub(super) const HARDENED: [(&str, &str); 17] = [
    ("LimitCORE", NO_CORE),
    ("UMask", "0077"),
    ("NoNewPrivileges", "yes"),
    ("CapabilityBoundingSet", ""),
    ("ProtectSystem", "strict"),
    ("ProtectHome", "yes"),
    ("PrivateTmp", "yes"),
    ("PrivateDevices", "yes"),
    ("ProtectKernelTunables", "yes"),
    ("ProtectKernelModules", "yes"),
    ("ProtectControlGroups", "yes"),
    ("RestrictAddressFamilies", "AF_INET AF_INET6 AF_UNIX AF_NETLINK"),
    ("RestrictNamespaces", "yes"),
    ("RestrictSUIDSGID", "yes"),
    ("LockPersonality", "yes"),
    ("MemoryDenyWriteExecute", "yes"),
    ("SystemCallArchitectures", "native"),
];

impl UnitFile {
    /// The head of a service that begins after other units and is never given up.
    pub fn service(description: &str, after: &str) -> Self {
        Self::default().section(
            "Unit",
            [
                ("Description", description),
                ("After", after),
                ("Wants", "network-online.target"),
                ("StartLimitIntervalSec", "0"),
            ],
        )
    }

    /// Closes it: the unit starts at boot.
    pub fn at_boot(self) -> Self {
        self.section("Install", [("WantedBy", "multi-user.target")])
    }

    /// Adds a setting to the section that was added last.
    pub fn with(mut self, key: &'static str, value: &str) -> Self {
        if let Some((_, settings)) = self.sections.last_mut() {
            settings.push((key, value.to_owned()));
        }
        self
    }

    /// Adds a section; repeated settings are allowed, as systemd allows them.
    pub fn section<V: Into<String>>(
        mut self,
        name: &'static str,
        settings: impl IntoIterator<Item = (&'static str, V)>,
    ) -> Self {
        let settings = settings.into_iter().map(|(key, value)| (key, value.into())).collect();
        self.sections.push((name, settings));
        self
    }
}

impl fmt::Display for UnitFile {
    /// Writes it; a line break inside a value is written as a space, so a value stays one value.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, (name, settings)) in self.sections.iter().enumerate() {
            if i > 0 {
                f.write_char('\n')?;
            }
            writeln!(f, "[{name}]")?;
            for (key, value) in settings {
                writeln!(f, "{key}={}", value.replace(['\n', '\r'], " "))?;
            }
        }
        Ok(())
    }
}
