//! The built program, driven on files in a temporary folder, and (tests that are ignored) on the lab's hosts.
//! One test program, so that what tests share is compiled and linked once.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::print_stderr, reason = "what was counted is worth reading")]

mod address;
mod at_rest;
mod authorities;
mod backup;
mod changes;
mod cli;
mod cluster;
mod commands_named;
mod common;
mod company;
mod components;
mod cut;
mod defragment;
mod drill;
mod first_boot;
mod join_file;
mod lab;
mod logins;
mod members;
mod mesh;
mod monitoring;
mod named_hosts;
mod own_keys;
mod plan;
mod preparation;
mod refused;
mod registry;
mod renewal;
mod restore;
mod retire;
mod sites;
mod snapshot;
mod strongbox;
mod supply;
mod survey;
mod windows;
