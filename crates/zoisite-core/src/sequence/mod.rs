//! From what hosts must hold and what they hold to steps in a safe order, and the engine that takes
//! them.
//!
//! [`differences`] compares; [`plan`] makes a [`Sequence`] of [`Step`]s and gates, or refuses by name
//! of a [`Rule`]; [`Engine`] is a synchronous state machine that decides which step starts next. A
//! runner elsewhere carries its commands out and brings the events back. Convergence comes from
//! looking: nothing here remembers an earlier run.

mod begun;
mod budget;
mod differences;
mod engine;
mod looks;
mod plan;
mod real;
mod rules;
mod step;

pub use begun::{Begun, FixedFacts, contradictions, listed_members, recorded, voters};
pub use differences::{Difference, differences};
pub use engine::{Command, Engine, Event, State, Tally};
pub use looks::{ApiLook, ApiObserved, Look, Looks, NodeFacts};
pub use plan::{PlanInput, PlanOptions, Unplannable, plan};
pub use real::{Formation, formation, real};
pub use rules::{MachinePin, Refusal, Rule, same_machine};
pub use step::{
    ApiWork, Condition, Gate, MemberWork, Phase, Proven, Sequence, Step, StepOutcome, When, Work,
};
