//! The stages of a run, and what waits.

use zoisite_core::aim::{Aim, Held};

use super::Style;

/// Every stage from here to what the file says, with a word on the first one, and what waits; nothing where it is one
/// stage and nothing waits.
pub fn render(stages: &[Aim], first: &str, style: Style) -> String {
    let mut out = String::new();
    if stages.len() > 1 {
        out.push_str(&format!(
            "\n{}\n",
            style.bold("stages, one after another, each proven before the next")
        ));
        for (number, aim) in stages.iter().enumerate() {
            let now = if number == 0 { style.busy(first) } else { String::new() };
            out.push_str(&format!("  {}  {}{now}\n", number + 1, aim.arm));
        }
    }
    let mut told: Vec<&Held> = Vec::new();
    for held in stages.iter().flat_map(|aim| &aim.held) {
        if !told.contains(&held) {
            told.push(held);
            out.push_str(&format!("\n{}\n  fix   {}\n", style.warn(&held.to_string()), held.fix));
        }
    }
    out.trim_end().to_owned()
}
