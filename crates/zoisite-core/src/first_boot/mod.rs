//! First-boot data of a machine, before anyone can log in to it: its name, its addresses, who may log in,
//! and the SSH key by which it is known from then on. In the forms of cloud-init, which images for rented and virtual
//! machines carry: user data, meta data and network configuration version 2.
//!
//! [`Seed::of`] makes the three texts of one host; [`carried`] puts them into what a carrier takes. [`changed`] tells what is
//! not as it was when the host last got data.

mod apply;
mod carrier;
mod changed;
mod host_key;
mod seed;

use serde_json::Value;

pub use apply::{
    SeedState, apply_script, in_order, locked_out, may_restart, read_state, settled_state_script,
    state_script, way_of,
};
pub use carrier::{Carried, CarrierError, Medium, PROPERTY_ROOM, carried};
pub use changed::{Change, SeedRecord, Way, changed};
pub use host_key::HostKey;
pub use seed::{FirstFile, JoinWord, Seed, SeedError, SeedInput, public_key_lines};

/// YAML whose long texts, such as keys, stay on one line.
fn yaml(value: &Value) -> Result<String, String> {
    let options = serde_saphyr::ser_options! { folded_wrap_chars: usize::MAX };
    serde_saphyr::to_string_with_options(value, options).map_err(|error| error.to_string())
}
