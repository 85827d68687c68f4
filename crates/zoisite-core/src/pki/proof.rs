//! Proving edges on the very certificates that will be shipped, with a real TLS verifier and the
//! rules that it leaves out.

use std::collections::HashMap;
use std::fmt;

use jiff::Timestamp;
use rayon::prelude::*;
use rustls_pki_types::{CertificateDer, ServerName, UnixTime};
use webpki::{EndEntityCert, KeyUsage, anchor_from_trusted_cert};
use x509_parser::prelude::{FromDer as _, X509Certificate};

use super::edges::{Edge, Party};
use super::issued::{AuthorityCertificate, LedgerEntry};
use super::ledger::Ledger;
use super::profile::Profile;
use super::wanted::San;
use crate::cluster::HostName;

/// An edge that would fail.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EdgeFailure {
    /// The connection.
    pub edge: Edge,
    /// Whose certificate is at fault.
    pub holder: Party,
    /// What is missing or wrong.
    pub why: String,
}

impl fmt::Display for EdgeFailure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.edge, self.why)
    }
}

/// What proving gave.
#[derive(Clone, Debug, Default)]
pub struct Proof {
    /// Edges whose both ends hold.
    pub held: Vec<Edge>,
    /// Edges that would fail, with the reason.
    pub failed: Vec<EdgeFailure>,
}

/// Proves every edge at the time `now`, on the certificates in force in `ledger`.
///
/// `run` are the run's own certificates, which no host holds; an edge that needs one that is not
/// there is proven on the server's side alone.
pub fn prove(edges: &[Edge], ledger: &Ledger, run: &[LedgerEntry], now: Timestamp) -> Proof {
    // Hosts that no edge names were taken out of the file: theirs is not proven.
    let hosts: std::collections::HashSet<&HostName> = edges
        .iter()
        .flat_map(|edge| [&edge.client, &edge.server])
        .filter_map(Party::host)
        .collect();
    let mut current = ledger.current();
    current.retain(|(_, host), _| hosts.contains(host));
    let mut certificates: HashMap<(Profile, Option<HostName>), &LedgerEntry> = current
        .iter()
        .map(|((profile, host), entry)| ((*profile, Some(host.clone())), *entry))
        .collect();
    certificates.extend(run.iter().map(|entry| ((entry.profile, None), entry)));

    // A chain is verified once for all edges that rest on it; names are held against each edge.
    let mut all: Vec<(&(Profile, Option<HostName>), &LedgerEntry)> =
        certificates.iter().map(|(key, entry)| (key, *entry)).collect();
    all.sort_by_key(|(key, _)| *key);
    let verified: HashMap<&(Profile, Option<HostName>), Verified> = all
        .into_par_iter()
        .map(|(key, entry)| {
            let signs = || ledger.authority(entry.profile.authority());
            (key, verify(entry, ledger.issuer(entry).or_else(signs), now))
        })
        .collect();

    let mut proof = Proof::default();
    for edge in edges {
        match check(edge, &verified) {
            Ok(()) => proof.held.push(edge.clone()),
            Err((holder, why)) => {
                proof.failed.push(EdgeFailure { edge: edge.clone(), holder, why });
            }
        }
    }
    proof
}

/// A leaf whose chain was verified for what its profile says, or why not.
struct Verified {
    as_server: Result<(), String>,
    as_client: Result<(), String>,
    der: Option<CertificateDer<'static>>,
    addresses: Vec<std::net::IpAddr>,
}

fn verify(
    entry: &LedgerEntry,
    authority: Option<&AuthorityCertificate>,
    now: Timestamp,
) -> Verified {
    let der = match entry.der() {
        Ok(der) => der,
        Err(error) => {
            let why = error.to_string();
            return Verified {
                as_server: Err(why.clone()),
                as_client: Err(why),
                der: None,
                addresses: Vec::new(),
            };
        }
    };
    let common = leaf_rules(&der, authority, now);
    let chain = |usage: KeyUsage, side: &str| -> Result<(), String> {
        let anchor_der = common.as_ref().map_err(Clone::clone)?;
        let anchor = anchor_from_trusted_cert(anchor_der).map_err(|e| {
            format!("the {} authority cannot be trusted: {e}", entry.profile.authority())
        })?;
        let leaf = EndEntityCert::try_from(&der).map_err(|e| format!("cannot be read: {e}"))?;
        let seconds = u64::try_from(now.as_second()).unwrap_or(0);
        leaf.verify_for_usage(
            webpki::ALL_VERIFICATION_ALGS,
            &[anchor],
            &[],
            UnixTime::since_unix_epoch(std::time::Duration::from_secs(seconds)),
            usage,
            None,
            None,
        )
        .map(|_| ())
        .map_err(|error| explain(&error, entry, side))
    };
    let as_server = chain(KeyUsage::server_auth(), "server");
    let as_client = chain(KeyUsage::client_auth(), "client");
    let addresses = addresses(&der);
    Verified { as_server, as_client, addresses, der: Some(der) }
}

/// What a TLS verifier says, in the words of this job.
fn explain(error: &webpki::Error, entry: &LedgerEntry, side: &str) -> String {
    match error {
        webpki::Error::CertExpired { .. } => format!("it ended on {}", day(entry.not_after)),
        webpki::Error::CertNotValidYet { .. } => {
            format!("it begins on {}, and that is still to come", day(entry.not_before))
        }
        webpki::Error::RequiredEkuNotFoundContext(_) => {
            format!("the {side} usage is missing from the {} certificate", entry.label())
        }
        webpki::Error::UnknownIssuer | webpki::Error::InvalidSignatureForPublicKey => {
            format!("the {} authority did not issue it", entry.profile.authority())
        }
        other => format!("the verifier says: {other}"),
    }
}

pub(super) fn day(time: Timestamp) -> String {
    time.strftime("%Y-%m-%d").to_string()
}

/// The rules that the verifier leaves out: the anchor's dates and authority bits, the leaf's key
/// usage (RFC 5280 section 4.2.1.3), and that the leaf does not outlive its authority.
fn leaf_rules(
    der: &CertificateDer<'_>,
    authority: Option<&AuthorityCertificate>,
    now: Timestamp,
) -> Result<CertificateDer<'static>, String> {
    let Some(authority) = authority else { return Err("its authority is missing".into()) };
    let anchor = authority.der().map_err(|e| e.to_string())?;
    let (_, ca) = X509Certificate::from_der(&anchor)
        .map_err(|e| format!("the {} authority cannot be read: {e}", authority.kind))?;
    let now = now.as_second();
    let (from, to) = (ca.validity().not_before.timestamp(), ca.validity().not_after.timestamp());
    if now < from || now > to {
        return Err(format!("the {} authority is not valid at this time", authority.kind));
    }
    let is_ca = ca.basic_constraints().ok().flatten().is_some_and(|bc| bc.critical && bc.value.ca);
    let signs = ca.key_usage().ok().flatten().is_some_and(|ku| ku.value.key_cert_sign());
    if !is_ca || !signs {
        return Err(format!("the {} authority may not sign certificates", authority.kind));
    }
    let (_, leaf) =
        X509Certificate::from_der(der).map_err(|e| format!("it cannot be read: {e}"))?;
    if !leaf.key_usage().ok().flatten().is_some_and(|ku| ku.value.digital_signature()) {
        return Err("its key usage lacks digitalSignature, which TLS needs".into());
    }
    if leaf.validity().not_after.timestamp() > to {
        return Err(format!("it outlives the {} authority", authority.kind));
    }
    Ok(anchor)
}

fn addresses(der: &CertificateDer<'_>) -> Vec<std::net::IpAddr> {
    use x509_parser::extensions::GeneralName;
    let Ok((_, leaf)) = X509Certificate::from_der(der) else { return Vec::new() };
    let Ok(Some(names)) = leaf.subject_alternative_name() else { return Vec::new() };
    names
        .value
        .general_names
        .iter()
        .filter_map(|name| match name {
            GeneralName::IPAddress(bytes) => match bytes.len() {
                4 => <[u8; 4]>::try_from(*bytes).ok().map(Into::into),
                16 => <[u8; 16]>::try_from(*bytes).ok().map(Into::into),
                _ => None,
            },
            _ => None,
        })
        .collect()
}

fn check(
    edge: &Edge,
    verified: &HashMap<&(Profile, Option<HostName>), Verified>,
) -> Result<(), (Party, String)> {
    let find = |profile: Profile, party: &Party| {
        let host = match party {
            Party::Host(name) => Some(name.clone()),
            _ => None,
        };
        verified.get(&(profile, host))
    };
    if let Some(profile) = edge.server_profile {
        let fail = |why: String| (edge.server.clone(), why);
        let server = find(profile, &edge.server)
            .ok_or_else(|| fail(format!("{} has no {profile} certificate", edge.server)))?;
        server.as_server.clone().map_err(fail)?;
        if let Some(der) = &server.der {
            named(der, &edge.dialled).map_err(fail)?;
        }
    }
    let Some(profile) = edge.client_profile else { return Ok(()) };
    let fail = |why: String| (edge.client.clone(), why);
    let client = match (&edge.client, find(profile, &edge.client)) {
        (_, Some(client)) => client,
        // The run's certificate may not be made yet, and the nodes hold one each.
        (Party::Run, None) => return Ok(()),
        (Party::Nodes(_), None) => {
            for ((_, host), node) in verified.iter().filter(|((p, _), _)| *p == profile) {
                let host = host.as_ref().map_or(String::new(), |h| format!("{h}: "));
                node.as_client.clone().map_err(|why| fail(format!("{host}{why}")))?;
            }
            return Ok(());
        }
        (_, None) => return Err(fail(format!("{} has no {profile} certificate", edge.client))),
    };
    client.as_client.clone().map_err(fail)?;
    if let Some(source) = edge.source
        && !client.addresses.is_empty()
        && !client.addresses.contains(&source)
    {
        return Err(fail(format!(
            "{} connects from {source}, which its certificate does not name",
            edge.client
        )));
    }
    Ok(())
}

fn named(der: &CertificateDer<'_>, dialled: &San) -> Result<(), String> {
    let name = match dialled {
        San::Ip(ip) => ServerName::IpAddress((*ip).into()),
        San::Dns(name) => ServerName::try_from(name.as_str())
            .map_err(|_| format!("'{name}' is no name that TLS can verify"))?,
    };
    let leaf = EndEntityCert::try_from(der).map_err(|e| format!("cannot be read: {e}"))?;
    leaf.verify_is_valid_for_subject_name(&name)
        .map_err(|_| format!("{dialled} is missing from its certificate"))
}
