//! Trust: who gets which certificate from which authority, and the proof that every connection that
//! will be dialled finds what it needs.
//!
//! One table of [`Profile`]s drives everything. [`wanted`] works out each certificate's names from
//! the topology; [`due`] says which must be issued and why; [`Authority`] issues; the [`Ledger`]
//! holds what was issued; [`edges`] lists who dials whom, and [`prove`] verifies all of it with a
//! TLS verifier before a byte goes to a host. Keys and serial numbers come from a [`KeySource`].

mod at_rest;
mod authority;
mod edges;
mod encoding;
mod ends;
mod found;
mod issued;
mod keys;
mod ledger;
mod misfit;
mod on_host;
mod profile;
mod proof;
mod replacing;
mod request;
mod ring;
mod root;
mod secret_ref;
mod standing;
mod subordinate;
mod wanted;

pub use at_rest::{AtRestKey, AtRestKeys, AtRestStage};
pub use authority::{Authority, issue_all};
pub use edges::{Edge, Party, edges};
pub use encoding::{hex, sha256};
pub use ends::{Ending, Ends, endings};
pub(crate) use found::signing_key;
pub use issued::{AuthorityCertificate, KeyAt, LedgerEntry};
pub use keys::{KeyKind, KeySource, NewKey, PkiError, PublicKey, Secret};
pub use ledger::{AS_ASKED, Due, Ledger, Why, due};
pub use misfit::{Lying, misfits};
pub use on_host::{KeyRequest, OwnKey, check_key_request};
pub use profile::{AuthorityKind, Holder, Place, Profile, Usage};
pub(crate) use profile::{ETCD_USER, MONITORING_USER, REGISTRY_USER};
pub use proof::{EdgeFailure, Proof, prove};
pub use request::{Asker, CheckedRequest, KUBELET_CLIENT_SIGNER, NodeRequest, check_request};
pub use ring::Ring;
pub use root::{Root, RootCertificate};
pub use secret_ref::SecretRef;
pub use standing::{AuthorityState, TOKEN_LASTS, TokenKeyTurn, TrustStage};
pub use subordinate::{AuthorityRequest, brought};
pub use wanted::{
    MONITORING, San, Wanted, kubelet_client, monitoring, person, person_in_etcd, run_client, wanted,
};
