//! Losing something on purpose, and measuring what that costs.
//!
//! [`choose`] says what exactly is lost and where, or why that is refused; [`lose_script`] does it, with a timer of
//! the host's own that fixes it whatever becomes of this program and its connection; [`Measured`] holds what was
//! asked meanwhile and what changed, and adds it up; [`picture`] draws it. Who carries it out is the reach.

mod choice;
mod measured;
mod picture;
mod script;

pub use choice::{By, Drill, Kind, NoDrill, Stands, Wanted, choose};
pub use measured::{Ask, Asked, Change, Measured, Sight, Sum, duration};
pub use picture::{Lane, Patch, lanes, picture};
pub use script::{Dialled, DrillLine, LOST, fix_script, lose_script, read_line, watch_script};
