//! Whether all is well, and waiting until it is.

use std::time::{Duration, Instant};

use zoisite_core::holdings::Part;
use zoisite_core::script::Depth;
use zoisite_core::sequence::{Refusal, Rule};
use zoisite_reach::Hosts;
use zoisite_store::State;

use crate::failure::Failure;
use crate::prepared::Prepared;
use crate::road::{self, Sighting};
use crate::site::{Site, Working};
use crate::standing::as_it_stands;

const BETWEEN_LOOKS: Duration = Duration::from_secs(2);

/// What of the cluster is not as wanted now.
///
/// # Errors
/// When a machine is another one than before (rule S4), a host does not answer, or etcd's own answers cannot be asked for.
pub async fn ailing_now(
    site: &Site,
    state: &mut State,
    generation: u64,
) -> Result<Vec<String>, Failure> {
    let work = async |reach: &mut Hosts,
                      prepared: &mut Prepared,
                      _: &mut State,
                      sighting: &mut Sighting| {
        let stands = as_it_stands(site, state, (reach, prepared, sighting)).await?;
        Ok(stands.ailing(&|_| false))
    };
    let how = (Part::ALL, Depth::Quick, generation);
    Ok(road::visit(site, how, work).await?.2)
}

/// Waits until all is well, as wanted before the next host goes (rule S2). The lock is renewed meanwhile.
///
/// # Errors
/// What is not well, or cannot be looked at, when the time is over.
pub async fn until_well(
    site: &Site,
    state: &mut State,
    (generation, timeout): (u64, Duration),
    tell: &dyn Fn(String),
) -> Result<(), Failure> {
    let end = Instant::now() + timeout;
    loop {
        Working::lock(state)?;
        let (what, failure) = match ailing_now(site, state, generation).await {
            Ok(ailing) if ailing.is_empty() => return Ok(()),
            Ok(ailing) => {
                let found = format!("not all is well: {}", ailing.join("; "));
                (found.clone(), vec![unwell(found)].into())
            }
            Err(failure) => (failure.summary().to_owned(), failure),
        };
        if Instant::now() >= end {
            return Err(failure);
        }
        tell(what);
        tokio::time::sleep(BETWEEN_LOOKS).await;
    }
}

fn unwell(found: String) -> Refusal {
    let fix = "zoisite status shows it, zoisite raise fixes it; then run the same command again";
    Refusal { rule: Rule::OneAtATime, host: None, found, fix: fix.into() }
}
