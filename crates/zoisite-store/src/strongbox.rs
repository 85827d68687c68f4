//! Secrets at rest, encrypted by age for the people who may open them.

use std::fs;
use std::io::{Read, Write as _};
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use age::secrecy::ExposeSecret as _;
use zeroize::Zeroizing;
use zoisite_core::pki::Secret;

use crate::{StoreError, private_folder};

/// What opens a strongbox: an identity of age's, or a person's own SSH key.
enum Identity {
    Age(age::x25519::Identity),
    Ssh(Box<age::ssh::Identity>),
}

impl Identity {
    fn new() -> Self {
        Self::Age(age::x25519::Identity::generate())
    }

    /// Reads it from a file's octets; `ask` is asked for the passphrase that it may be kept under.
    fn read(octets: &[u8], ask: Passphrase<'_>) -> Result<Self, String> {
        if octets.starts_with(SEALED) || octets.starts_with(ARMOURED) {
            let text = asked(ask, |passphrase| under_passphrase(octets, passphrase))?;
            return Self::of_age(&text);
        }
        let Ok(text) = std::str::from_utf8(octets) else {
            return Err("there is no identity in it".into());
        };
        if !text.contains("-----BEGIN ") {
            return Self::of_age(text);
        }
        match age::ssh::Identity::from_buffer(octets, None) {
            Ok(key @ age::ssh::Identity::Unencrypted(_)) => Ok(Self::Ssh(Box::new(key))),
            Ok(age::ssh::Identity::Encrypted(key)) => {
                let key = asked(ask, |passphrase| key.decrypt(passphrase).map_err(not_it))?;
                Ok(Self::Ssh(Box::new(key.into())))
            }
            _ => Err("it is no SSH key of a kind that encrypts: ed25519 and RSA do".into()),
        }
    }

    fn of_age(text: &str) -> Result<Self, String> {
        let found = text.lines().find_map(|line| line.trim().parse().ok());
        found.map(Self::Age).ok_or_else(|| "there is no identity in it".into())
    }

    fn opens(&self) -> &dyn age::Identity {
        match self {
            Self::Age(identity) => identity,
            Self::Ssh(identity) => &**identity,
        }
    }

    /// Its public key.
    fn recipient(&self) -> String {
        match self {
            Self::Age(identity) => identity.to_public().to_string(),
            Self::Ssh(identity) => age::ssh::Recipient::try_from((**identity).clone())
                .map_or_else(|_| String::new(), |key| key.to_string()),
        }
    }
}

/// Who knows the passphrase of an identity: the answer, or why there is none.
pub type Passphrase<'a> = &'a dyn Fn() -> Result<Secret, String>;

/// How a file begins that age sealed, in octets or as text.
const SEALED: &[u8] = b"age-encryption.org/v1";
const ARMOURED: &[u8] = b"-----BEGIN AGE ENCRYPTED FILE-----";

/// How often somebody may be wrong.
const TRIES: usize = 3;

/// Asks until what is answered opens it; an error of `login setup` that is `None` is a wrong passphrase.
fn asked<T>(
    ask: Passphrase<'_>,
    open: impl Fn(age::secrecy::SecretString) -> Result<T, Option<String>>,
) -> Result<T, String> {
    for _ in 0..TRIES {
        let passphrase =
            ask().map_err(|why| format!("it is kept under a passphrase, and {why}"))?;
        match open(passphrase.expose().to_owned().into()) {
            Err(None) => {}
            opened => return opened.map_err(Option::unwrap_or_default),
        }
    }
    Err("that is not the passphrase that it is kept under".into())
}

/// What a decryption says of a wrong passphrase, or of anything else.
fn not_it(error: age::DecryptError) -> Option<String> {
    use age::DecryptError::{DecryptionFailed, KeyDecryptionFailed, NoMatchingKeys};
    match error {
        DecryptionFailed | KeyDecryptionFailed | NoMatchingKeys => None,
        other => Some(other.to_string()),
    }
}

/// The text of an identity that is kept under a passphrase.
fn under_passphrase(
    octets: &[u8],
    passphrase: age::secrecy::SecretString,
) -> Result<Zeroizing<String>, Option<String>> {
    let told = |error: &dyn std::fmt::Display| Some(error.to_string());
    let decryptor = age::Decryptor::new_buffered(age::armor::ArmoredReader::new(octets))
        .map_err(|error| told(&error))?;
    let identity = age::scrypt::Identity::new(passphrase);
    let identity = &identity as &dyn age::Identity;
    let mut reader = decryptor.decrypt(std::iter::once(identity)).map_err(not_it)?;
    let mut text = Zeroizing::new(String::new());
    reader.read_to_string(&mut text).map_err(|error| told(&error))?;
    Ok(text)
}

/// A public key of age's or of SSH, with a name behind it or none, as people write it in one line.
fn recipient_of(line: &str) -> Result<Box<dyn age::Recipient + Send>, String> {
    let key = key_of(line);
    if key.starts_with("ssh-") {
        let key: age::ssh::Recipient = key.parse().map_err(|_| {
            format!("{key} is no SSH key of a kind that encrypts: ed25519 and RSA do")
        })?;
        return Ok(Box::new(key));
    }
    let parsed: Result<age::x25519::Recipient, _> = key.parse();
    parsed.map(|key| Box::new(key) as Box<dyn age::Recipient + Send>).map_err(|_| {
        format!("'{key}' is no public key: they begin with age1, ssh-ed25519 or ssh-rsa")
    })
}

/// The key in a line that may say a name behind it.
pub fn key_of(line: &str) -> String {
    let words: Vec<&str> = line.split_whitespace().collect();
    let long = if line.trim_start().starts_with("ssh-") { 2 } else { 1 };
    words[..words.len().min(long)].join(" ")
}

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
    pub fn open_or_new(path: &Path, ask: Passphrase<'_>) -> Result<Self, StoreError> {
        if path.exists() {
            return Self::open(path, ask);
        }
        Ok(Self { path: path.to_owned(), identity: Identity::new(), new: true.into() })
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
        private_folder(folder).map_err(failed("making the folder of"))?;
        // (An SSH key is never a new one.)
        let Some(text) = self.text() else { return Ok(false) };
        // Whole or not at all, and never over one that another program made meanwhile.
        let mut file = crate::begin_file(path, 0o600).map_err(failed("making"))?;
        file.write_all(text.as_bytes())
            .and_then(|()| file.as_file().sync_all())
            .map_err(failed("writing"))?;
        file.persist_noclobber(path).map_err(|error| failed("making")(error.error))?;
        crate::sync_folder(folder).map_err(failed("writing"))?;
        self.new.store(false, Ordering::Relaxed);
        Ok(true)
    }

    /// What its file says; an SSH key's is not this program's to write.
    fn text(&self) -> Option<Zeroizing<String>> {
        let Identity::Age(identity) = &self.identity else { return None };
        Some(Zeroizing::new(format!(
            "# Zoisite identity: opens the secrets of your clusters. Keep a copy where only you can reach it.\n\
             # public key: {}\n{}\n",
            identity.to_public(),
            identity.to_string().expose_secret()
        )))
    }

    /// Keeps the identity under a passphrase from now on, or under none: its file is replaced in one instant.
    ///
    /// # Errors
    /// When it is an SSH key, which has tools of its own for that, or its file cannot be written.
    pub fn keep_under(&self, passphrase: Option<&Secret>) -> Result<(), StoreError> {
        let failed =
            |doing| move |source| StoreError::File { doing, path: self.path.clone(), source };
        let why = "it is an SSH key: ssh-keygen -p gives that a passphrase";
        let ssh = || StoreError::BadIdentity { path: self.path.clone(), why: why.into() };
        let text = self.text().ok_or_else(ssh)?;
        let octets = match passphrase {
            None => Zeroizing::new(text.as_bytes().to_vec()),
            Some(passphrase) => {
                let encrypt = |error: std::io::Error| StoreError::Encrypt(error.to_string());
                let secret = passphrase.expose().to_owned().into();
                let encryptor = age::Encryptor::with_user_passphrase(secret);
                let mut out = Zeroizing::new(Vec::new());
                let armour = age::armor::ArmoredWriter::wrap_output(
                    &mut *out,
                    age::armor::Format::AsciiArmor,
                );
                let mut writer =
                    encryptor.wrap_output(armour.map_err(encrypt)?).map_err(encrypt)?;
                writer.write_all(text.as_bytes()).map_err(encrypt)?;
                writer.finish().and_then(|armour| armour.finish()).map_err(encrypt)?;
                out
            }
        };
        let folder = crate::folder_of(&self.path);
        private_folder(folder).map_err(failed("making the folder of"))?;
        let mut file = tempfile::NamedTempFile::new_in(folder).map_err(failed("making"))?;
        file.write_all(&octets).map_err(failed("writing"))?;
        crate::put_in_place(file, &self.path).map_err(failed("writing"))?;
        self.new.store(false, Ordering::Relaxed);
        Ok(())
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
        let nobody: Passphrase<'_> = &|| Err("it cannot be asked for here".into());
        let strongbox = Self::open_or_new(path, nobody)?;
        match strongbox.keep() {
            Err(_) if path.exists() => Ok((Self::open(path, nobody)?, false)),
            made => Ok((strongbox, made?)),
        }
    }

    /// An identity that is forgotten with this value: for looking ahead without leaving a trace.
    pub fn fleeting() -> Self {
        Self { path: PathBuf::new(), identity: Identity::new(), new: false.into() }
    }

    /// Opens the identity in `path`; `ask` is asked for the passphrase that it may be kept under.
    ///
    /// # Errors
    /// As [`Strongbox::open_or_make`], and when there is no file.
    pub fn open(path: &Path, ask: Passphrase<'_>) -> Result<Self, StoreError> {
        let failed = |source| StoreError::File { doing: "reading", path: path.to_owned(), source };
        let mut file = fs::File::open(path).map_err(failed)?;
        let mode = file.metadata().map_err(failed)?.permissions().mode() & 0o777;
        if mode & 0o077 != 0 {
            return Err(StoreError::LooseIdentity { path: path.to_owned(), mode });
        }
        let mut octets = Zeroizing::new(Vec::new());
        file.read_to_end(&mut octets).map_err(failed)?;
        let identity = Identity::read(&octets, ask)
            .map_err(|why| StoreError::BadIdentity { path: path.to_owned(), why })?;
        Ok(Self { path: path.to_owned(), identity, new: false.into() })
    }

    /// The public key for which secrets are sealed.
    pub fn recipient(&self) -> String {
        self.identity.recipient()
    }

    /// Whether secrets can be sealed for a line.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn seals_for(line: &str) -> Result<(), StoreError> {
        recipient_of(line).map(|_| ()).map_err(StoreError::BadRecipient)
    }

    /// Whether a line among the recipients is this identity's.
    pub fn is_of(&self, line: &str) -> bool {
        key_of(line) == self.recipient()
    }

    /// What encrypts for `recipients`, public keys in age's text form or SSH's.
    ///
    /// # Errors
    /// When a recipient is not one, or there is none.
    pub(crate) fn encryptor(recipients: &[String]) -> Result<age::Encryptor, StoreError> {
        let encrypt = |e: String| StoreError::Encrypt(e);
        let keys: Vec<Box<dyn age::Recipient + Send>> = recipients
            .iter()
            .map(|line| recipient_of(line).map_err(StoreError::BadRecipient))
            .collect::<Result<_, _>>()?;
        let keys = keys.iter().map(|key| &**key as &dyn age::Recipient);
        age::Encryptor::with_recipients(keys).map_err(|e| encrypt(e.to_string()))
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
        decryptor.decrypt(std::iter::once(self.identity.opens())).map_err(|error| match error {
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
        let mut plain = Zeroizing::new(Vec::new());
        let decryptor = age::Decryptor::new(sealed).map_err(|_| wrong())?;
        let mut reader =
            decryptor.decrypt(std::iter::once(self.identity.opens())).map_err(|_| wrong())?;
        reader.read_to_end(&mut plain).map_err(|_| wrong())?;
        std::str::from_utf8(&plain).map(|text| Secret::new(text.to_owned())).map_err(|_| wrong())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOBODY: Passphrase<'_> = &|| Err("nobody is there".into());

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
        assert!(error.fix().contains(&ada.recipient()), "{}", error.fix());
        assert!(ada.unseal(&sealed[..sealed.len() - 1], &recipients).is_err());
    }

    #[test]
    fn an_identity_that_others_may_read_is_refused() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("identity.txt");
        Strongbox::open_or_make(&path).unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o644)).unwrap();
        assert!(matches!(
            Strongbox::open(&path, NOBODY),
            Err(StoreError::LooseIdentity { mode: 0o644, .. })
        ));
        fs::write(&path, "nothing here").unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).unwrap();
        assert!(matches!(Strongbox::open(&path, NOBODY), Err(StoreError::BadIdentity { .. })));
    }

    #[test]
    fn a_passphrase_is_asked_for_and_only_the_right_one_opens() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("identity.txt");
        let (made, _) = Strongbox::open_or_make(&path).unwrap();
        made.keep_under(Some(&Secret::new("reeds and mud".into()))).unwrap();
        let kept = fs::read_to_string(&path).unwrap();
        assert!(kept.starts_with("-----BEGIN AGE ENCRYPTED FILE-----") && !kept.contains("SECRET"));
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);

        let error = Strongbox::open(&path, NOBODY).unwrap_err();
        assert!(error.to_string().contains("passphrase, and nobody is there"), "{error}");
        let times = std::cell::Cell::new(0);
        let wrong: Passphrase<'_> = &|| {
            times.set(times.get() + 1);
            Ok(Secret::new("mud".into()))
        };
        let error = Strongbox::open(&path, wrong).unwrap_err();
        assert!(error.to_string().contains("not the passphrase"), "{error}");
        assert_eq!(times.get(), TRIES);
        let right: Passphrase<'_> = &|| Ok(Secret::new("reeds and mud".into()));
        let opened = Strongbox::open(&path, right).unwrap();
        assert_eq!(opened.recipient(), made.recipient());
        opened.keep_under(None).unwrap();
        assert_eq!(Strongbox::open(&path, NOBODY).unwrap().recipient(), made.recipient());
    }
}
