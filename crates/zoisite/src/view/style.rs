use std::io::IsTerminal as _;

/// Colours, where they are wanted: on a terminal, unless NO_COLOR is set.
#[derive(Clone, Copy, Debug)]
pub struct Style {
    colours: bool,
}

impl Style {
    /// For standard output.
    pub fn stdout() -> Self {
        Self { colours: wanted() && std::io::stdout().is_terminal() }
    }

    /// For the standard error stream.
    pub fn stderr() -> Self {
        Self { colours: wanted() && std::io::stderr().is_terminal() }
    }

    /// Without colours.
    #[cfg(test)]
    pub fn plain() -> Self {
        Self { colours: false }
    }

    /// Whether there are colours.
    pub fn colours(self) -> bool {
        self.colours
    }

    fn paint(self, code: &str, text: &str) -> String {
        if self.colours && !text.is_empty() {
            format!("\u{1b}[{code}m{text}\u{1b}[0m")
        } else {
            text.to_owned()
        }
    }

    /// Headings.
    pub fn bold(self, text: &str) -> String {
        self.paint("1", text)
    }

    /// What is beside the matter.
    pub fn dim(self, text: &str) -> String {
        self.paint("2", text)
    }

    /// What is well.
    pub fn good(self, text: &str) -> String {
        self.paint("32", text)
    }

    /// What needs attention.
    pub fn warn(self, text: &str) -> String {
        self.paint("33", text)
    }

    /// What failed.
    pub fn bad(self, text: &str) -> String {
        self.paint("31", text)
    }

    /// What is happening now.
    pub fn busy(self, text: &str) -> String {
        self.paint("36", text)
    }
}

fn wanted() -> bool {
    std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty())
}
