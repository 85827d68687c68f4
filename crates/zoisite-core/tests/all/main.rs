//! The core, from the outside. One test program, so that what tests share is compiled and linked once.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::print_stderr, reason = "what was counted is worth reading")]

mod aim;
mod cluster;
mod common;
mod design;
mod drill;
mod engine;
mod first_boot;
mod holdings;
mod joining;
mod mesh;
mod misfit;
mod monitoring;
mod nodes;
mod paths;
mod pki;
mod policy;
mod preparation;
mod registry;
mod sequence;
mod standing;
mod survey;
mod windows;
