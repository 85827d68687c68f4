//! The pure logic of Zoisite.
//!
//! ```text
//! cluster file ──▶ Cluster ──▶ Holdings   what every host must hold
//!                                │
//! hosts ──▶ Observed ────────────┤
//!                                ▼
//!                             Sequence    steps and gates, each with its reason
//!                                │
//!                             Engine      events in, commands out
//! ```
//!
//! Nothing in this crate opens a file, a socket or a terminal, reads a clock or starts a process:
//! what it needs from the world is passed in, so all of it is tested and rehearsed in microseconds.
//!
//! | room | for |
//! |---|---|
//! | [`cluster`] | the cluster file: reading, checking, address plan, what the topology survives |
//! | [`pki`] | authorities, profiles, issuing, the ledger, edges and their proof |
//! | [`token`] | join tokens in the platform's format, and what is recorded of them |
//! | [`holdings`] | what each host must hold: files, directories, users, units |
//! | [`item`] | the kinds of things that stand on hosts: looked at, compared, put, taken back |
//! | [`components`] | the pinned files: which, where they are published, the lock file |
//! | [`layout`] | where distributions keep what is needed of them |
//! | [`sequence`] | differences, steps and gates, the safety rules, the engine |
//! | [`script`] | typed operations, written as readable POSIX sh, and the replies |
//! | [`first_boot`] | data for a machine's first boot |
//! | [`join_file`] | what a run does on a host, carried there by hand, and the report that comes back |
//! | [`joining`] | how far hosts have come in joining, by evidence from the cluster |
//! | [`login`] | getting into hosts: stage by stage, what keeps one out, what opens it |
//! | [`survey`] | what hosts are like before anything is put on them, and what that means |
//! | [`paths`] | who must reach whom: computed, tried, written as a firewall's rules |
//! | [`text`] | texts from elsewhere made harmless |
//! | [`snapshot`] | what is recorded of saved etcd data, what is good, what may go |
//! | [`drill`] | losing something on purpose: what, where, measured and drawn |
//! | [`diagnosis`] | evidence from a host, its likely cause and the fix |

pub mod adopt;
pub mod aim;
pub mod cluster;
pub mod components;
pub mod diagnosis;
pub mod drill;
pub mod first_boot;
pub mod holdings;
pub mod item;
pub mod join_file;
pub mod joining;
pub mod layout;
pub mod login;
pub mod mesh;
pub mod paths;
pub mod pki;
pub mod script;
pub mod sequence;
pub mod snapshot;
pub mod survey;
pub mod text;
pub mod token;
