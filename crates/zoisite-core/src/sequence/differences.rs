use std::fmt;

use serde::Serialize;

use crate::cluster::HostName;
use crate::holdings::HostHoldings;
use crate::item::{ComponentSums, Differs, Item};
use crate::script::Observed;

/// One difference between what a host must hold and what it holds.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Difference {
    /// The host.
    pub host: HostName,
    /// What differs: a path or a name.
    pub what: String,
    /// In which way.
    pub how: Differs,
    /// The unit that must restart for it, if any.
    pub restarts: Option<&'static str>,
    /// Which item of the host's holdings it is about.
    #[serde(skip)]
    pub item: usize,
}

impl fmt::Display for Difference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.what, self.how)
    }
}

/// Compares a host with its holdings, item by item; first-start facts never differ.
pub fn differences(
    holdings: &HostHoldings,
    observed: &Observed,
    sums: &ComponentSums,
) -> Vec<Difference> {
    let seen = observed.seen(sums);
    let mut out = Vec::new();
    for (item, wanted) in holdings.items.iter().enumerate() {
        for how in wanted.differs(seen) {
            let restarts = match (&how, wanted) {
                // What reads a file goes on with what it read, whoever may read it now.
                (Differs::Access(_), _) => None,
                (Differs::NotRestarted, Item::Unit(unit)) => Some(unit.name),
                _ => wanted.restarts(),
            };
            let host = holdings.host.clone();
            out.push(Difference { host, what: wanted.title(), how, restarts, item });
        }
    }
    out
}
