use std::fmt::{self, Write as _};

/// A systemd unit file as sections of settings (systemd.syntax(7)), in the order given.
#[derive(Clone, Debug, Default)]
pub struct UnitFile {
    sections: Vec<(&'static str, Vec<(&'static str, String)>)>,
}

impl UnitFile {
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
