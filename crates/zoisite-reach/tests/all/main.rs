//! Reaching hosts, real and simulated. One test program, so that what tests share is compiled and linked once;
//! what counts descriptors of the whole process is a program of its own.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::print_stderr, reason = "what was counted is worth reading")]

mod at_rest;
mod contract;
mod drill;
mod items;
mod lives;
mod login;
mod members;
mod oracle;
mod rehearsal;
mod restore;
mod retire;
mod scratch;
mod simulated;
mod staged;
mod trust;
mod windows;
