use std::io::Write as _;

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use flate2::{Compression, GzBuilder};
use serde_json::{Value, json};

use super::Seed;
use crate::cluster::HostName;
use crate::pki::Secret;

/// What carries a seed to a machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Medium {
    /// Three files as they are (NoCloud: a folder on the machine, or on the image that it boots beside its disk).
    Files,
    /// The same in base64 (RFC 4648).
    Base64,
    /// The same compressed (RFC 1952), then in base64.
    GzipBase64,
    /// Files for a web server (NoCloud over a network), which asks for one more.
    Web,
    /// Lines of keys and values that a hypervisor shows to the machine.
    Properties {
        /// What the carrier wants before each key.
        prefix: String,
        /// How many octets one value may have.
        max_size: usize,
    },
}

/// How much one property carries where nothing else is said, in octets.
pub const PROPERTY_ROOM: usize = 65_535;

/// A file for a carrier.
#[derive(Clone, Debug)]
pub struct Carried {
    /// Its name.
    pub name: String,
    /// What is in it.
    pub text: Secret,
}

/// Why a seed is not carried.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum CarrierError {
    /// It is too large.
    #[error("{what} of {host} has {octets} octets, and the carrier takes {max_size}")]
    TooLarge {
        /// Of which host.
        host: HostName,
        /// Which property.
        what: String,
        /// Its size.
        octets: usize,
        /// What fits.
        max_size: usize,
    },
    /// It cannot be written.
    #[error("writing the first-boot data of {0}: {1}")]
    Unwritable(HostName, String),
}

/// The files of one host for a carrier.
///
/// # Errors
/// Where a property would be too large for its carrier: nothing is cut off.
pub fn carried(
    host: &HostName,
    seed: &Seed,
    carrier: &Medium,
) -> Result<Vec<Carried>, CarrierError> {
    let unwritable = |why: String| CarrierError::Unwritable(host.clone(), why);
    let yaml = |value: &Value| super::yaml(value).map_err(unwritable);
    let plain = [
        ("meta-data", Secret::new(yaml(&seed.meta_data)?)),
        ("user-data", seed.user_data.clone()),
        ("network-config", Secret::new(yaml(&seed.network)?)),
    ];
    let file = |name: String, text: Secret| Carried { name, text };
    let packed = |text: &Secret| gzip_base64(text).map_err(|why| unwritable(why.to_string()));
    Ok(match carrier {
        Medium::Files | Medium::Web => {
            let more = (*carrier == Medium::Web)
                .then(|| file("vendor-data".into(), Secret::new(String::new())));
            plain.into_iter().map(|(name, text)| file(name.into(), text)).chain(more).collect()
        }
        Medium::Base64 => {
            let coded = |(name, text): (&str, Secret)| {
                file(format!("{name}.base64"), Secret::new(BASE64_STANDARD.encode(text.expose())))
            };
            plain.into_iter().map(coded).collect()
        }
        Medium::GzipBase64 => {
            let mut out = Vec::new();
            for (name, text) in &plain {
                out.push(file(format!("{name}.gzip.base64"), packed(text)?));
            }
            out
        }
        Medium::Properties { prefix, max_size } => {
            // There the networks are a part of the meta data.
            let mut meta = seed.meta_data.clone();
            meta["network"] = json!(seed.network);
            let all =
                [("metadata", Secret::new(yaml(&meta)?)), ("userdata", seed.user_data.clone())];
            let mut lines = String::new();
            for (what, text) in &all {
                let value = packed(text)?;
                let octets = value.expose().len();
                let what = format!("{prefix}{what}");
                if octets > *max_size {
                    return Err(CarrierError::TooLarge {
                        host: host.clone(),
                        what,
                        octets,
                        max_size: *max_size,
                    });
                }
                lines.push_str(&format!(
                    "{what} = \"{}\"\n{what}.encoding = \"gzip+base64\"\n",
                    value.expose()
                ));
            }
            vec![file("properties".into(), Secret::new(lines))]
        }
    })
}

fn gzip_base64(text: &Secret) -> std::io::Result<Secret> {
    // No name and no time: the same text gives the same octets.
    let mut packer = GzBuilder::new().write(Vec::new(), Compression::best());
    packer.write_all(text.expose().as_bytes())?;
    Ok(Secret::new(BASE64_STANDARD.encode(packer.finish()?)))
}
