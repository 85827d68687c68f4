//! The store, from the outside. One test program, so that it is linked once.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::disallowed_methods, reason = "kubelets and hosts make their own keys")]
#![allow(clippy::print_stderr, reason = "what was counted is worth reading")]

mod joining;
mod own_keys;
mod trust;
