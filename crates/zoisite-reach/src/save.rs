//! Saving what etcd holds: the stream of a member, judged while it is written.

use std::io::{self, Write};

use aws_lc_rs::digest::{Context, SHA256};
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::pki::hex;
use zoisite_core::snapshot::Taken;

use crate::etcd::EtcdClient;
use crate::reach::Progress;

/// The SHA-256 of what comes before it ends a stream.
const TAIL: usize = 32;

/// Octets on their way into a file, summed up: the last 32 of them are the SHA-256 of all others.
struct Summed<'a> {
    into: &'a mut (dyn Write + Send),
    /// All but the last 32.
    inner: Context,
    tail: Vec<u8>,
    octets: u64,
}

impl<'a> Summed<'a> {
    fn new(into: &'a mut (dyn Write + Send)) -> Self {
        Self { into, inner: Context::new(&SHA256), tail: Vec::new(), octets: 0 }
    }

    fn take(&mut self, part: &[u8]) -> io::Result<()> {
        self.into.write_all(part)?;
        self.octets += part.len() as u64;
        // What was kept back is summed up as far as this part may hold the last ones.
        let sure = (self.tail.len() + part.len()).saturating_sub(TAIL);
        let (old, new) = (sure.min(self.tail.len()), sure.saturating_sub(self.tail.len()));
        self.inner.update(&self.tail[..old]);
        self.inner.update(&part[..new]);
        self.tail.drain(..old);
        self.tail.extend_from_slice(&part[new..]);
        Ok(())
    }

    /// Size and sum of the whole stream.
    fn end(self) -> Result<(u64, String), String> {
        // All of it is what comes before the end, and the end.
        let mut whole = self.inner.clone();
        whole.update(&self.tail);
        let (octets, found) = (self.octets, self.inner.finish());
        if self.tail.len() < TAIL || octets == TAIL as u64 {
            return Err(format!("it ended after {octets} octets"));
        }
        if found.as_ref() != self.tail {
            return Err("its own checksum does not fit what came: it is cut or altered".into());
        }
        Ok((octets, hex(whole.finish().as_ref())))
    }
}

/// Reads a kept stream to its end and holds it against its own checksum and what was recorded of it.
///
/// # Errors
/// What is wrong with it.
pub fn check_stream(
    from: impl io::Read,
    taken: &Taken,
    into: &mut (dyn Write + Send),
) -> Result<(), String> {
    let (octets, sha256) = check_whole(from, into)?;
    if (octets, &sha256) != (taken.octets, &taken.sha256) {
        return Err(format!(
            "it has {octets} octets with the SHA-256 {sha256}, and {} with {} were taken",
            taken.octets, taken.sha256
        ));
    }
    Ok(())
}

/// Reads a stream to its end and holds it against its own checksum; its size, and its SHA-256.
///
/// # Errors
/// What is wrong with it.
pub fn check_whole(
    mut from: impl io::Read,
    into: &mut (dyn Write + Send),
) -> Result<(u64, String), String> {
    let mut summed = Summed::new(into);
    let mut part = vec![0; 1 << 18];
    loop {
        match from.read(&mut part) {
            Ok(0) => break,
            Ok(n) => summed.take(&part[..n]).map_err(|error| format!("writing it: {error}"))?,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(format!("it cannot be read to its end: {error}")),
        }
    }
    summed.end()
}

/// Takes everything that a member holds.
///
/// # Errors
/// What kept it from being taken whole.
pub(crate) async fn take(
    host: &HostName,
    client: &EtcdClient,
    into: &mut (dyn Write + Send),
    progress: Progress<'_>,
) -> Result<Taken, String> {
    let answer = client.answer().await?;
    if answer.leader == 0 {
        return Err("it knows no leader".into());
    }
    let database = client.database().await?;
    let size = u64::try_from(database.size).unwrap_or(0);
    // What is known up to here must be in what comes after it.
    let hash = client.hash(0).await?;
    let mut summed = Summed::new(into);
    let (mut told, step) = (0, (size / 10).max(16 << 20));
    client
        .snapshot(|part| {
            summed.take(part).map_err(|error| format!("writing it here: {error}"))?;
            if summed.octets >= told + step {
                told = summed.octets;
                progress(format!("{} of {} MiB", told >> 20, size.max(told) >> 20));
            }
            Ok(())
        })
        .await?;
    let (octets, sha256) = summed.end()?;
    if client.hash(hash.revision).await?.compacted != hash.compacted {
        return Err("its history was compacted meanwhile, and the hash is of before".into());
    }
    Ok(Taken {
        from: host.clone(),
        cluster_id: format!("{:016x}", answer.cluster_id),
        members: answer.members.into_iter().map(|(_, name)| name).collect(),
        version: database.version,
        revision: hash.revision,
        hash: hash.hash,
        compacted: hash.compacted,
        octets,
        sha256,
    })
}

/// None of these members gave what it holds.
pub(crate) fn not_taken(said: Vec<String>) -> Trouble {
    let answer = match said.is_empty() {
        true => "no member is known to be well".to_owned(),
        false => said.join("; "),
    };
    Trouble::new(None, "saving what etcd holds", answer, Vec::new())
        .fix("zoisite status shows which members serve; is there room for it here?")
}

#[cfg(test)]
mod tests {
    use sha2::{Digest as _, Sha256};

    use super::*;

    fn stream(data: &[u8]) -> Vec<u8> {
        let sum = Sha256::digest(data);
        [data, sum.as_slice()].concat()
    }

    fn taken(stream: &[u8]) -> Taken {
        Taken {
            from: HostName::new("heron").unwrap(),
            cluster_id: String::new(),
            members: Vec::new(),
            version: String::new(),
            revision: 1,
            hash: 1,
            compacted: 0,
            octets: stream.len() as u64,
            sha256: hex(&Sha256::digest(stream)),
        }
    }

    #[test]
    fn a_stream_that_is_cut_or_altered_anywhere_is_told() {
        let whole = stream(&b"reeds and mud ".repeat(10_000));
        let check = |of: &[u8], taken: &Taken| {
            let mut out = Vec::new();
            check_stream(of, taken, &mut out).map(|()| out)
        };
        assert_eq!(check(&whole, &taken(&whole)).unwrap(), whole);
        for cut in [0, 1, 31, 32, 33, whole.len() - 33, whole.len() - 1] {
            assert!(check(&whole[..cut], &taken(&whole)).is_err(), "{cut}");
        }
        for at in [0, 70_000, whole.len() - 1] {
            let mut other = whole.clone();
            other[at] ^= 1;
            assert!(check(&other, &taken(&other)).unwrap_err().contains("does not fit"), "{at}");
        }
        let other = stream(b"another one");
        assert!(check(&other, &taken(&whole)).unwrap_err().contains("were taken"));
    }

    #[test]
    fn parts_of_any_size_add_up_to_the_same() {
        let whole = stream(&(0..200_u8).collect::<Vec<_>>());
        for size in [1, 7, 31, 32, 33, 64, 500] {
            let mut out = Vec::new();
            let mut summed = Summed::new(&mut out);
            for part in whole.chunks(size) {
                summed.take(part).unwrap();
            }
            assert_eq!(summed.end().unwrap().0, 232, "{size}");
            assert_eq!(out, whole);
        }
    }
}
