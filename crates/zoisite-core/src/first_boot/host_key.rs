use ssh_key::private::Ed25519Keypair;
use ssh_key::{LineEnding, PrivateKey};
use zeroize::Zeroizing;

use crate::pki::Secret;

/// The key by which a host's SSH server proves that it is that host (RFC 8709), made before the host is: its first contact is
/// with somebody known.
#[derive(Clone, Debug)]
pub struct HostKey {
    /// Kind and key, as known_hosts has them (sshd(8)): `ssh-ed25519 AAAA…`.
    pub public: String,
    /// The private half in OpenSSH's own form.
    pub private: Secret,
}

impl HostKey {
    /// The key that follows from 32 random octets.
    ///
    /// # Errors
    /// Where it cannot be written down.
    pub fn of(seed: &Zeroizing<[u8; 32]>) -> Result<Self, String> {
        let key = PrivateKey::from(Ed25519Keypair::from_seed(seed));
        let public = key.public_key().to_openssh().map_err(|error| error.to_string())?;
        let private = key.to_openssh(LineEnding::LF).map_err(|error| error.to_string())?;
        Ok(Self { public: public.trim().to_owned(), private: Secret::new(private.to_string()) })
    }
}
