//! Reading what a host says, within bounds.

use std::time::Duration;

use tokio::io::{AsyncRead, AsyncReadExt as _};

/// A longer line is cut: no host has so much to say at once.
pub(super) const LINE: usize = 1 << 20;
/// What comes after so many octets is not read.
pub(super) const ALL: usize = 64 << 20;

/// Why reading ended before the far end did.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Ended {
    /// Nothing more is said.
    Well,
    /// Nothing was said for as long as may be.
    Silent,
    /// More was said than is read.
    TooMuch,
}

/// Takes every line: octets that are not UTF-8 are replaced. Nothing said for `timeout` ends the reading.
pub(super) async fn read(
    from: &mut (impl AsyncRead + Unpin + ?Sized),
    timeout: Duration,
    line: &mut (dyn FnMut(&str) + Send),
) -> Ended {
    let mut block = vec![0; 16 * 1_024];
    let mut begun: Vec<u8> = Vec::new();
    let mut total = 0_usize;
    loop {
        let n = match tokio::time::timeout(timeout, from.read(&mut block)).await {
            Err(_) => return Ended::Silent,
            Ok(Ok(0) | Err(_)) => {
                if !begun.is_empty() {
                    line(&String::from_utf8_lossy(&begun));
                }
                return Ended::Well;
            }
            Ok(Ok(n)) => n,
        };
        total += n;
        if total > ALL {
            return Ended::TooMuch;
        }
        for piece in block[..n].split_inclusive(|octet| *octet == b'\n') {
            let room = LINE.saturating_sub(begun.len());
            begun.extend_from_slice(&piece[..piece.len().min(room)]);
            if piece.ends_with(b"\n") {
                let text = String::from_utf8_lossy(&begun);
                line(text.trim_end_matches(['\n', '\r']));
                begun.clear();
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    async fn lines(said: &[u8]) -> (Vec<String>, Ended) {
        let mut lines = Vec::new();
        let mut from = said;
        let ended =
            read(&mut from, Duration::from_secs(60), &mut |line| lines.push(line.into())).await;
        (lines, ended)
    }

    #[tokio::test]
    async fn octets_that_are_no_text_do_not_end_the_reading() {
        let (lines, ended) = lines(b"one\n\xff\xfe two\r\nthree").await;
        assert_eq!(lines, ["one", "\u{fffd}\u{fffd} two", "three"]);
        assert_eq!(ended, Ended::Well);
    }

    #[tokio::test]
    async fn a_line_without_end_is_cut_and_a_host_without_end_is_left() {
        let mut said = vec![b'x'; LINE + 5];
        said.extend(b"\nnext\n");
        let (got, _) = lines(&said).await;
        assert_eq!((got[0].len(), got[1].as_str()), (LINE, "next"));
        let (_, ended) = lines(&vec![b'\n'; ALL + 1]).await;
        assert_eq!(ended, Ended::TooMuch);
    }

    #[tokio::test(start_paused = true)]
    async fn silence_has_an_end() {
        let (mut near, _far) = tokio::io::duplex(64);
        let ended = read(&mut near, Duration::from_secs(30), &mut |_| ()).await;
        assert_eq!(ended, Ended::Silent);
    }
}
