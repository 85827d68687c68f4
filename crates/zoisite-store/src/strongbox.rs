//! Secrets at rest, encrypted by age for the people who may open them.

use std::fs;
use std::io::{Read, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use age::secrecy::ExposeSecret as _;
use age::x25519::{Identity, Recipient};
use zeroize::Zeroizing;
use zoisite_core::pki::Secret;

use crate::StoreError;

/// Opens and seals secrets with one person's identity.
pub struct Strongbox {
    path: PathBuf,
    identity: Identity,
    /// It is not in its file yet.
    new: AtomicBool,
}

impl std::fmt::Debug for Strongbox {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Strongbox").field("path", &self.path).finish_non_exhaustive()
    }
}

impl Strongbox {
    /// Opens the identity in `path`; where there is none, a new one, which [`Strongbox::keep`] writes.
    ///
    /// # Errors
    /// When the file cannot be read, may be read by others, or holds no identity.
    pub fn open_or_new(path: &Path) -> Result<Self, StoreError> {
        if path.exists() {
            return Self::open(path);
        }
        Ok(Self { path: path.to_owned(), identity: Identity::generate(), new: true.into() })
    }

    /// Writes a new identity (0600) to its file, if it is not there yet. Returns whether that was so.
    ///
    /// # Errors
    /// When the file cannot be made, or another program made one meanwhile.
    pub fn keep(&self) -> Result<bool, StoreError> {
        if !self.new.load(Ordering::Relaxed) {
            return Ok(false);
        }
        let path = &self.path;
        let failed = |doing| move |source| StoreError::File { doing, path: path.clone(), source };
        let folder = crate::folder_of(path);
        fs::DirBuilder::new()
            .recursive(true)
            .mode(0o700)
            .create(folder)
            .map_err(failed("making the folder of"))?;
        let text = Zeroizing::new(format!(
            "# Zoisite identity: opens the secrets of your clusters. Keep a copy where only you can reach it.\n\
             # public key: {}\n{}\n",
            self.identity.to_public(),
            self.identity.to_string().expose_secret()
        ));
        // Whole or not at all, and never over one that another program made meanwhile.
        let mut file = tempfile::NamedTempFile::new_in(folder).map_err(failed("making"))?;
        file.write_all(text.as_bytes())
            .and_then(|()| file.as_file().sync_all())
            .map_err(failed("writing"))?;
        file.persist_noclobber(path).map_err(|error| failed("making")(error.error))?;
        crate::sync_folder(folder).map_err(failed("writing"))?;
        self.new.store(false, Ordering::Relaxed);
        Ok(true)
    }

    /// Its file, when it is not written yet: nothing can have been encrypted for it.
    pub(crate) fn unwritten(&self) -> Option<&Path> {
        self.new.load(Ordering::Relaxed).then_some(&self.path)
    }

    /// Opens the identity in `path`, making it when there is none yet. Returns whether it was made.
    ///
    /// # Errors
    /// As [`Strongbox::open_or_new`] and [`Strongbox::keep`].
    pub fn open_or_make(path: &Path) -> Result<(Self, bool), StoreError> {
        let strongbox = Self::open_or_new(path)?;
        match strongbox.keep() {
            Err(_) if path.exists() => Ok((Self::open(path)?, false)),
            made => Ok((strongbox, made?)),
        }
    }

    /// An identity that is forgotten with this value: for looking ahead without leaving a trace.
    pub fn fleeting() -> Self {
        Self { path: PathBuf::new(), identity: Identity::generate(), new: false.into() }
    }

    /// Opens the identity in `path`.
    ///
    /// # Errors
    /// As [`Strongbox::open_or_make`], and when there is no file.
    pub fn open(path: &Path) -> Result<Self, StoreError> {
        let failed = |source| StoreError::File { doing: "reading", path: path.to_owned(), source };
        let mut file = fs::File::open(path).map_err(failed)?;
        let mode = file.metadata().map_err(failed)?.permissions().mode() & 0o777;
        if mode & 0o077 != 0 {
            return Err(StoreError::LooseIdentity { path: path.to_owned(), mode });
        }
        let mut text = Zeroizing::new(String::new());
        file.read_to_string(&mut text).map_err(failed)?;
        let identity = text
            .lines()
            .find_map(|line| line.trim().parse().ok())
            .ok_or_else(|| StoreError::BadIdentity { path: path.to_owned() })?;
        Ok(Self { path: path.to_owned(), identity, new: false.into() })
    }

    /// The public key for which secrets are sealed.
    pub fn recipient(&self) -> String {
        self.identity.to_public().to_string()
    }

    /// What encrypts for `recipients`, public keys in age's text form.
    ///
    /// # Errors
    /// When a recipient is not one, or there is none.
    pub(crate) fn encryptor(recipients: &[String]) -> Result<age::Encryptor, StoreError> {
        let encrypt = |e: String| StoreError::Encrypt(e);
        let keys: Vec<Recipient> = recipients
            .iter()
            .map(|text| text.parse().map_err(|e: &str| encrypt(e.to_owned())))
            .collect::<Result<_, _>>()?;
        age::Encryptor::with_recipients(keys.iter().map(|key| key as &dyn age::Recipient))
            .map_err(|e| encrypt(e.to_string()))
    }

    /// What decrypts a stream from a file.
    ///
    /// # Errors
    /// When it was not sealed for this identity, or its beginning is damaged.
    pub(crate) fn reader<R: Read>(
        &self,
        sealed: R,
        path: &Path,
    ) -> Result<age::stream::StreamReader<R>, StoreError> {
        let damaged = |why: String| StoreError::Unsound { path: path.to_owned(), why };
        let decryptor = age::Decryptor::new(sealed).map_err(|e| damaged(e.to_string()))?;
        let own: [&dyn age::Identity; 1] = [&self.identity];
        decryptor.decrypt(own.into_iter()).map_err(|error| match error {
            age::DecryptError::NoMatchingKeys => {
                StoreError::WrongIdentity { path: self.path.clone(), recipients: Vec::new() }
            }
            other => damaged(other.to_string()),
        })
    }

    /// Encrypts a secret for `recipients`.
    ///
    /// # Errors
    /// When a recipient is not one, or encryption fails.
    pub fn seal(secret: &Secret, recipients: &[String]) -> Result<Vec<u8>, StoreError> {
        let encrypt = |e: String| StoreError::Encrypt(e);
        let encryptor = Self::encryptor(recipients)?;
        let mut out = Vec::new();
        let mut writer = encryptor.wrap_output(&mut out).map_err(|e| encrypt(e.to_string()))?;
        writer
            .write_all(secret.expose().as_bytes())
            .and_then(|()| writer.finish().map(|_| ()))
            .map_err(|e| encrypt(e.to_string()))?;
        Ok(out)
    }

    /// Decrypts a secret.
    ///
    /// # Errors
    /// When it was not sealed for this identity, or is damaged.
    pub fn unseal(&self, sealed: &[u8], recipients: &[String]) -> Result<Secret, StoreError> {
        let wrong = || StoreError::WrongIdentity {
            path: self.path.clone(),
            recipients: recipients.to_vec(),
        };
        let plain =
            age::decrypt(&self.identity, sealed).map(Zeroizing::new).map_err(|_| wrong())?;
        std::str::from_utf8(&plain).map(|text| Secret::new(text.to_owned())).map_err(|_| wrong())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_identity_is_made_once_private_and_found_again() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("deep/identity.txt");
        let (made, new) = Strongbox::open_or_make(&path).unwrap();
        let (again, old) = Strongbox::open_or_make(&path).unwrap();
        assert!(new && !old);
        assert_eq!(made.recipient(), again.recipient());
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        assert!(!format!("{made:?}").contains("AGE-SECRET"));
    }

    #[test]
    fn two_programs_that_make_an_identity_at_once_end_with_the_same() {
        for _ in 0..10 {
            let dir = tempfile::tempdir().unwrap();
            let path = dir.path().join("deep/identity.txt");
            let open = || Strongbox::open_or_make(&path).unwrap().0.recipient();
            let all: Vec<String> = std::thread::scope(|scope| {
                let all: Vec<_> = (0..4).map(|_| scope.spawn(open)).collect();
                all.into_iter().map(|one| one.join().unwrap()).collect()
            });
            assert!(all.windows(2).all(|pair| pair[0] == pair[1]), "{all:?}");
        }
    }

    #[test]
    fn what_is_sealed_opens_for_its_recipients_only() {
        let dir = tempfile::tempdir().unwrap();
        let (ada, _) = Strongbox::open_or_make(&dir.path().join("ada")).unwrap();
        let (eve, _) = Strongbox::open_or_make(&dir.path().join("eve")).unwrap();
        let recipients = vec![ada.recipient()];
        let sealed = Strongbox::seal(&Secret::new("marsh".into()), &recipients).unwrap();
        assert!(!sealed.windows(5).any(|w| w == b"marsh"));
        assert_eq!(ada.unseal(&sealed, &recipients).unwrap().expose(), "marsh");
        let error = eve.unseal(&sealed, &recipients).unwrap_err();
        assert!(error.mend().contains(&ada.recipient()), "{}", error.mend());
        assert!(ada.unseal(&sealed[..sealed.len() - 1], &recipients).is_err());
    }

    #[test]
    fn an_identity_that_others_may_read_is_refused() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("identity.txt");
        Strongbox::open_or_make(&path).unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o644)).unwrap();
        assert!(matches!(
            Strongbox::open(&path),
            Err(StoreError::LooseIdentity { mode: 0o644, .. })
        ));
        fs::write(&path, "nothing here").unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).unwrap();
        assert!(matches!(Strongbox::open(&path), Err(StoreError::BadIdentity { .. })));
    }
}
