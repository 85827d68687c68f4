//! What projects publish, served on this machine in their layouts, well and badly: files, checksums beside them, a
//! registry, and a proxy that wants a password.

use std::collections::BTreeMap;
use std::io::{BufRead as _, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use base64::Engine as _;
use flate2::Compression;
use flate2::write::GzEncoder;
use rcgen::{CertificateParams, IsCa, Issuer, KeyPair};
use rustls_pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};
use tar::{Builder, EntryType, Header};
use tokio_rustls::rustls::{ServerConfig, ServerConnection, StreamOwned};

/// How one path is answered instead.
#[derive(Clone)]
pub enum Badly {
    /// A web page, with status 200.
    Page,
    /// Sent elsewhere.
    Elsewhere(String),
    /// Cut after so many octets, so many times.
    Cut(usize, usize),
    /// Something else of the same name.
    Other(Vec<u8>),
    /// Not there.
    Gone,
}

#[derive(Default)]
struct Inner {
    badly: BTreeMap<String, Badly>,
    /// Method, path and range of everything that was asked for.
    asked: Vec<(String, Option<String>)>,
    password: Option<String>,
}

/// A server of one folder, over TLS.
pub struct Served {
    pub folder: PathBuf,
    pub port: u16,
    /// The authority of its certificate, PEM.
    pub authority: String,
    inner: Arc<Mutex<Inner>>,
}

impl Served {
    /// Serves a folder at `https://localhost:PORT/`.
    pub fn new(folder: PathBuf) -> Self {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::new([]).unwrap();
        params.is_ca = IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
        let authority = params.self_signed(&key).unwrap().pem();
        let issuer = Issuer::new(params, key);
        let own = KeyPair::generate().unwrap();
        let names = ["localhost".to_owned(), "127.0.0.1".to_owned()];
        let leaf = CertificateParams::new(names).unwrap().signed_by(&own, &issuer).unwrap();
        let config = ServerConfig::builder()
            .with_no_client_auth()
            .with_single_cert(
                vec![leaf.der().clone()],
                PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(own.serialize_der())),
            )
            .unwrap();
        let (config, inner) = (Arc::new(config), Arc::<Mutex<Inner>>::default());
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let (root, shared) = (folder.clone(), Arc::clone(&inner));
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (config, root, shared) =
                    (Arc::clone(&config), root.clone(), Arc::clone(&shared));
                std::thread::spawn(move || {
                    let Ok(connection) = ServerConnection::new(config) else { return };
                    // Whoever asks may go away at any time.
                    let _ = answer(StreamOwned::new(connection, stream), &root, &shared);
                });
            }
        });
        Self { folder, port, authority, inner }
    }

    pub fn base(&self) -> String {
        format!("https://localhost:{}", self.port)
    }

    pub fn badly(&self, path: &str, how: Badly) {
        self.inner.lock().unwrap().badly.insert(path.into(), how);
    }

    pub fn well(&self) {
        self.inner.lock().unwrap().badly.clear();
    }

    pub fn wants(&self, name: &str, password: &str) {
        let both = base64::engine::general_purpose::STANDARD.encode(format!("{name}:{password}"));
        self.inner.lock().unwrap().password = Some(format!("Basic {both}"));
    }

    /// What was asked for since this was asked last.
    pub fn asked(&self) -> Vec<(String, Option<String>)> {
        std::mem::take(&mut self.inner.lock().unwrap().asked)
    }

    pub fn put(&self, path: &str, octets: impl AsRef<[u8]>) {
        let path = self.folder.join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, octets).unwrap();
    }
}

fn answer(
    mut stream: StreamOwned<ServerConnection, TcpStream>,
    root: &Path,
    inner: &Mutex<Inner>,
) -> std::io::Result<()> {
    let mut lines = Vec::new();
    let mut reader = BufReader::new(&mut stream);
    loop {
        let mut line = String::new();
        if reader.read_line(&mut line)? == 0 {
            return Ok(());
        }
        if line.trim().is_empty() {
            break;
        }
        lines.push(line.trim().to_owned());
    }
    let path = lines[0].split(' ').nth(1).unwrap_or_default().to_owned();
    let header = |name: &str| {
        let mut found = lines.iter().filter_map(|line| line.split_once(": "));
        found.find(|(key, _)| key.eq_ignore_ascii_case(name)).map(|(_, value)| value.to_owned())
    };
    let range = header("range");
    let (how, wanted) = {
        let mut inner = inner.lock().unwrap();
        inner.asked.push((path.clone(), range.clone()));
        let how = inner.badly.get(&path).cloned();
        if let Some(Badly::Cut(after, times)) = inner.badly.get_mut(&path) {
            let (after, left) = (*after, *times - 1);
            match left {
                0 => drop(inner.badly.remove(&path)),
                left => drop(inner.badly.insert(path.clone(), Badly::Cut(after, left))),
            }
        }
        (how, inner.password.clone())
    };
    let mut send = |status: &str, headers: &str, body: &[u8], cut: Option<usize>| {
        let head = format!(
            "HTTP/1.1 {status}\r\nContent-Length: {}\r\nConnection: close\r\n{headers}\r\n",
            body.len()
        );
        stream.write_all(head.as_bytes())?;
        stream.write_all(&body[..cut.unwrap_or(body.len()).min(body.len())])?;
        stream.flush()?;
        if cut.is_none() {
            stream.conn.send_close_notify();
            let _ = stream.conn.complete_io(&mut stream.sock);
        }
        Ok(())
    };
    if wanted.is_some() && header("authorization") != wanted {
        return send("401 Unauthorized", "WWW-Authenticate: Basic realm=\"gulls\"\r\n", b"", None);
    }
    if path == "/v2/" {
        return send("200 OK", "", b"{}", None);
    }
    let file = root.join(path.trim_start_matches('/'));
    let (octets, cut) = match how {
        Some(Badly::Page) => {
            let page = b"<!doctype html><title>Sign in</title>";
            return send("200 OK", "Content-Type: text/html\r\n", page, None);
        }
        Some(Badly::Elsewhere(to)) => {
            return send("302 Found", &format!("Location: {to}\r\n"), b"", None);
        }
        Some(Badly::Gone) => return send("404 Not Found", "", b"", None),
        Some(Badly::Other(octets)) => (octets, None),
        Some(Badly::Cut(after, _)) => (std::fs::read(&file).unwrap_or_default(), Some(after)),
        None => match std::fs::read(&file) {
            Ok(octets) => (octets, None),
            Err(_) => return send("404 Not Found", "", b"{\"errors\":[]}", None),
        },
    };
    let media = match path.contains("/manifests/") {
        true => serde_json::from_slice::<Value>(&octets)
            .ok()
            .and_then(|value| Some(format!("Content-Type: {}\r\n", value["mediaType"].as_str()?))),
        false => None,
    };
    let media = media.unwrap_or_default();
    let from =
        range.and_then(|range| range.strip_prefix("bytes=")?.split('-').next()?.parse().ok());
    match from {
        Some(from) if from > 0_usize && from < octets.len() => {
            let all = octets.len();
            let headers = format!("Content-Range: bytes {from}-{}/{all}\r\n{media}", all - 1);
            send("206 Partial Content", &headers, &octets[from..], cut)
        }
        Some(from) if from >= octets.len() => send("416 Range Not Satisfiable", "", b"", None),
        _ => send("200 OK", &media, &octets, cut),
    }
}

/// A proxy that lets through who knows the password; returns its port.
pub fn proxy(name: &str, password: &str) -> u16 {
    let wanted = base64::engine::general_purpose::STANDARD.encode(format!("{name}:{password}"));
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let wanted = format!("Basic {wanted}");
            std::thread::spawn(move || -> std::io::Result<()> {
                let mut head = Vec::new();
                let mut octet = [0];
                while !head.ends_with(b"\r\n\r\n") {
                    if stream.read(&mut octet)? == 0 {
                        return Ok(());
                    }
                    head.push(octet[0]);
                }
                let head = String::from_utf8_lossy(&head).into_owned();
                if !head.lines().any(|line| {
                    line.to_lowercase().starts_with("proxy-authorization")
                        && line.ends_with(&wanted)
                }) {
                    let refused = b"HTTP/1.1 407 Proxy Authentication Required\r\nProxy-Authenticate: Basic realm=\"site\"\r\nContent-Length: 0\r\n\r\n";
                    return stream.write_all(refused);
                }
                let to = head.split(' ').nth(1).unwrap_or_default();
                let far = TcpStream::connect(to)?;
                stream.write_all(b"HTTP/1.1 200 OK\r\n\r\n")?;
                let (mut here, mut there) = (stream.try_clone()?, far.try_clone()?);
                std::thread::spawn(move || {
                    let _ = std::io::copy(&mut here, &mut there);
                    there.shutdown(std::net::Shutdown::Write)
                });
                let (mut far, mut stream) = (far, stream);
                std::io::copy(&mut far, &mut stream)?;
                stream.shutdown(std::net::Shutdown::Write)
            });
        }
    });
    port
}

pub fn sha256(octets: &[u8]) -> String {
    Sha256::digest(octets).iter().map(|octet| format!("{octet:02x}")).collect()
}

/// A tar file of entries: name, kind, content or where a link leads.
pub fn tar_of(entries: &[(&str, EntryType, &[u8])]) -> Vec<u8> {
    let mut out = Builder::new(Vec::new());
    for (name, kind, content) in entries {
        let mut header = Header::new_gnu();
        header.set_entry_type(*kind);
        header.set_mode(0o755);
        // Written past what the crate would refuse: somebody else made the archive.
        header.as_old_mut().name[..name.len()].copy_from_slice(name.as_bytes());
        let body: &[u8] = if *kind == EntryType::Regular { content } else { b"" };
        if *kind == EntryType::Symlink {
            header.as_old_mut().linkname[..content.len()].copy_from_slice(content);
        }
        header.set_size(body.len() as u64);
        header.set_cksum();
        out.append(&header, body).unwrap();
    }
    out.into_inner().unwrap()
}

pub fn gzip(octets: &[u8]) -> Vec<u8> {
    let mut out = GzEncoder::new(Vec::new(), Compression::fast());
    out.write_all(octets).unwrap();
    out.finish().unwrap()
}

/// An image of several architectures, as blobs by their digests; the last one is its index.
pub fn image_of(word: &str, arches: &[&str]) -> Vec<(String, Vec<u8>)> {
    let digest = |octets: &[u8]| format!("sha256:{}", sha256(octets));
    let mut blobs = Vec::new();
    let mut listed = Vec::new();
    for arch in arches {
        let program = format!("{word} {arch} ").repeat(20_000);
        let layer = gzip(&tar_of(&[("program", EntryType::Regular, program.as_bytes())]));
        let config = json!({"architecture": arch, "os": "linux", "rootfs": {"type": "layers", "diff_ids": []}}).to_string();
        let manifest = json!({
            "schemaVersion": 2,
            "mediaType": "application/vnd.oci.image.manifest.v1+json",
            "config": {"mediaType": "application/vnd.oci.image.config.v1+json", "digest": digest(config.as_bytes()), "size": config.len()},
            "layers": [{"mediaType": "application/vnd.oci.image.layer.v1.tar+gzip", "digest": digest(&layer), "size": layer.len()}],
        })
        .to_string();
        listed.push(json!({
            "mediaType": "application/vnd.oci.image.manifest.v1+json",
            "digest": digest(manifest.as_bytes()),
            "size": manifest.len(),
            "platform": {"os": "linux", "architecture": arch},
        }));
        for blob in [layer, config.into_bytes(), manifest.into_bytes()] {
            blobs.push((digest(&blob), blob));
        }
    }
    let index = json!({"schemaVersion": 2, "mediaType": "application/vnd.oci.image.index.v1+json", "manifests": listed});
    let index = index.to_string().into_bytes();
    blobs.push((digest(&index), index));
    blobs
}

/// An archive of such an image, called `name`.
pub fn archive_of(name: &str, word: &str, arches: &[&str]) -> Vec<u8> {
    let blobs = image_of(word, arches);
    let (digest, index) = blobs.last().unwrap();
    let outer = json!({"schemaVersion": 2, "manifests": [{
        "mediaType": "application/vnd.oci.image.index.v1+json",
        "digest": digest,
        "size": index.len(),
        "annotations": {"io.containerd.image.name": name},
    }]});
    let outer = outer.to_string();
    let paths: Vec<String> =
        blobs.iter().map(|(digest, _)| digest.replace("sha256:", "blobs/sha256/")).collect();
    let mut entries: Vec<(&str, EntryType, &[u8])> = vec![
        ("oci-layout", EntryType::Regular, b"{\"imageLayoutVersion\":\"1.0.0\"}"),
        ("index.json", EntryType::Regular, outer.as_bytes()),
    ];
    for (path, (_, blob)) in paths.iter().zip(&blobs) {
        entries.push((path, EntryType::Regular, blob));
    }
    tar_of(&entries)
}

impl Served {
    /// Puts an image into the registry, below `/v2/REPOSITORY`.
    pub fn put_image(&self, repository: &str, tag: &str, blobs: &[(String, Vec<u8>)]) {
        for (digest, blob) in blobs {
            let kind = if blob.starts_with(b"{\"schemaVersion\"") { "manifests" } else { "blobs" };
            self.put(&format!("v2/{repository}/{kind}/{digest}"), blob);
        }
        self.put(&format!("v2/{repository}/manifests/{tag}"), &blobs.last().unwrap().1);
    }

    /// All that the demo's cluster needs, published for both architectures, made up and small.
    pub fn whole(folder: PathBuf) -> Self {
        let served = Self::new(folder);
        let kubernetes = "published/dl.k8s.io/v1.36.3/bin/linux";
        for arch in ["amd64", "arm64"] {
            for program in [
                "kube-apiserver",
                "kube-controller-manager",
                "kube-scheduler",
                "kubelet",
                "kube-proxy",
                "kubectl",
            ] {
                let octets = format!("#!/bin/sh\n# {program} for {arch}\n").repeat(2_000);
                served.put(&format!("{kubernetes}/{arch}/{program}"), &octets);
                served.put(
                    &format!("{kubernetes}/{arch}/{program}.sha256"),
                    sha256(octets.as_bytes()),
                );
            }
        }
        let etcd = "published/github.com/etcd-io/etcd/releases/download/v3.6.16";
        let mut sums = String::new();
        for arch in ["amd64", "arm64"] {
            let archive = served.etcd(arch, &[]);
            let name = format!("etcd-v3.6.16-linux-{arch}.tar.gz");
            sums.push_str(&format!("{}  {name}\n", sha256(&archive)));
            served.put(&format!("{etcd}/{name}"), archive);
        }
        served.put(&format!("{etcd}/SHA256SUMS"), sums);
        let both = ["amd64", "arm64"];
        served.put_image("kept/registry.k8s.io/pause", "3.10", &image_of("pause", &both));
        served.put_image(
            "kept/registry.k8s.io/coredns/coredns",
            "v1.15.0",
            &image_of("dns", &both),
        );
        served
    }

    /// etcd's archive, with further entries.
    pub fn etcd(&self, arch: &str, more: &[(&str, EntryType, &[u8])]) -> Vec<u8> {
        let folder = format!("etcd-v3.6.16-linux-{arch}/");
        let names: Vec<String> = ["etcd", "etcdctl", "etcdutl", "README.md"]
            .map(|name| format!("{folder}{name}"))
            .into();
        let mut entries: Vec<(&str, EntryType, &[u8])> = vec![(&folder, EntryType::Directory, b"")];
        entries.extend(more);
        entries
            .extend(names.iter().map(|name| (name.as_str(), EntryType::Regular, name.as_bytes())));
        gzip(&tar_of(&entries))
    }
}
