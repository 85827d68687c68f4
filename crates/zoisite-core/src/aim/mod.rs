//! Where a run goes next.
//!
//! The cluster file says where to end; what is real says where one stands. [`next_aim`] names the next stepping
//! stone between the two that is safe to stand on, one change of membership at a time; holdings are made for that
//! aim and not for the file. It is a pure function of what was seen: a run that was cut goes on by asking it again.
//!
//! A record may remind (of members that this program made) and forbid (an unknown member is not touched); only
//! what was seen permits.

mod forecast;
mod next;
mod permits;
mod real;
mod stone;

pub use forecast::{assume, distance, forecast};
pub use next::{Next, as_it_stands, leaving, next_aim};
pub use permits::permits;
pub use real::{Health, Machine, Member, Quorum, Real, is_of};
pub use stone::{Aim, Arm, EtcdAim, Held, Records, Restoring, Scope, Why};
