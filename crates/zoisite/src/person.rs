//! The person's own SSH: the key by which they log in, and the hosts that they know.

use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use zoisite_core::first_boot::public_key_lines;
use zoisite_reach::{OpenSsh, Target, ssh_path};

use crate::failure::{Failure, Kind};

fn of<'a>(resolved: &'a [(String, String)], wanted: &'a str) -> impl Iterator<Item = &'a str> {
    resolved.iter().filter(move |(key, _)| key == wanted).map(|(_, value)| value.as_str())
}

async fn resolved(carrier: &OpenSsh, target: &Target) -> Result<Vec<(String, String)>, Failure> {
    carrier.resolved(target).await.map_err(|why| {
        Failure::new(
            Kind::Usage,
            format!("ssh does not understand its configuration for {}: {why}", target.name),
            "put it right: ssh -G shows what it makes of it",
        )
    })
}

/// The first file in which ssh looks for known hosts.
pub async fn known_hosts(carrier: &OpenSsh, target: &Target) -> Result<PathBuf, Failure> {
    let resolved = resolved(carrier, target).await?;
    let file = of(&resolved, "userknownhostsfile").next().unwrap_or_default();
    let file = file.split_whitespace().next().unwrap_or("~/.ssh/known_hosts");
    Ok(ssh_path(file))
}

/// Adds lines to a file of known hosts, which is made where there is none.
pub fn add_known(file: &Path, lines: &[String]) -> Result<(), Failure> {
    let failed = |error: std::io::Error| Failure::file("writing", file, &error);
    if let Some(folder) = file.parent() {
        fs::create_dir_all(folder).map_err(failed)?;
    }
    let before = fs::read_to_string(file).unwrap_or_default();
    let gap = if before.is_empty() || before.ends_with('\n') { "" } else { "\n" };
    let text = format!("{gap}{}\n", lines.join("\n"));
    let mut open = fs::OpenOptions::new().append(true).create(true).open(file).map_err(failed)?;
    open.write_all(text.as_bytes()).map_err(failed)
}

/// As whom ssh logs in at a host.
pub async fn login_user(carrier: &OpenSsh, target: &Target) -> Result<String, Failure> {
    let resolved = resolved(carrier, target).await?;
    Ok(of(&resolved, "user").next().unwrap_or("root").to_owned())
}

/// The public keys in a file.
pub fn keys_in(path: &Path) -> Result<Vec<String>, Failure> {
    let text = fs::read_to_string(path)
        .map_err(|error| Failure::file("reading the public key", path, &error))?;
    public_key_lines(&text).map_err(|why| {
        Failure::new(
            Kind::Usage,
            format!("{} holds no public SSH key: {why}", path.display()),
            "name the file that ends in .pub",
        )
    })
}

/// The person's public key, as one line of authorized_keys: the first of their agent, or of their SSH configuration.
/// `named` is how another one is named.
pub async fn key_line(carrier: &OpenSsh, target: &Target, named: &str) -> Result<String, Failure> {
    let line = |text: &str| public_key_lines(text).ok().and_then(|lines| lines.into_iter().next());
    let resolved = resolved(carrier, target).await?;
    let only_files = of(&resolved, "identitiesonly").next() == Some("yes");
    if !only_files
        && let Ok(said) = std::process::Command::new("ssh-add").arg("-L").output()
        && said.status.success()
        && let Some(key) = line(&String::from_utf8_lossy(&said.stdout))
    {
        return Ok(key);
    }
    let mut looked = Vec::new();
    for file in of(&resolved, "identityfile") {
        let mut public = ssh_path(file).into_os_string();
        public.push(".pub");
        if let Some(key) = fs::read_to_string(&public).ok().and_then(|text| line(&text)) {
            return Ok(key);
        }
        looked.push(file);
    }
    Err(Failure::new(
        Kind::Usage,
        format!("you have no SSH key: none in an agent, none at {}", looked.join(", ")),
        format!("make one: ssh-keygen -t ed25519; or name one with {named}"),
    ))
}
