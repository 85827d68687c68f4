//! The legs of a run, and what waits.

use zoisite_core::aim::{Aim, Held};

use super::Style;

/// Every leg from here to what the file says, with a word on the first one, and what waits; nothing where it is one
/// leg and nothing waits.
pub fn render(legs: &[Aim], first: &str, style: Style) -> String {
    let mut out = String::new();
    if legs.len() > 1 {
        out.push_str(&format!(
            "\n{}\n",
            style.bold("legs, one after another, each proven before the next")
        ));
        for (number, aim) in legs.iter().enumerate() {
            let now = if number == 0 { style.busy(first) } else { String::new() };
            out.push_str(&format!("  {}  {}{now}\n", number + 1, aim.arm));
        }
    }
    let mut told: Vec<&Held> = Vec::new();
    for held in legs.iter().flat_map(|aim| &aim.held) {
        if !told.contains(&held) {
            told.push(held);
            out.push_str(&format!("\n{}\n  mend  {}\n", style.warn(&held.to_string()), held.mend));
        }
    }
    out.trim_end().to_owned()
}
