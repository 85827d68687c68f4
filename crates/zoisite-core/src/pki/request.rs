//! Certificate requests of joining kubelets: checked here, signed from the strongbox, never by the cluster.

use rcgen::{CertificateSigningRequestParams, DnType, IsCa, KeyUsagePurpose};
use serde::{Deserialize, Serialize};

use super::issued::LedgerEntry;
use super::keys::KeyKind;
use super::wanted::Wanted;
use crate::cluster::HostName;

/// The platform's signer name for client certificates of kubelets.
pub const KUBELET_CLIENT_SIGNER: &str = "kubernetes.io/kube-apiserver-client-kubelet";

/// A pending certificate request, as the API shows it (`certificates.k8s.io/v1`).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct NodeRequest {
    /// Name of the object.
    pub name: String,
    /// Who asks, as the API authenticated them: `system:bootstrap:ID` or `system:node:NAME`.
    pub username: String,
    /// Their groups.
    pub groups: Vec<String>,
    /// Which signer is asked.
    pub signer: String,
    /// Usages asked for.
    pub usages: Vec<String>,
    /// The request itself (PKCS #10, RFC 2986), PEM.
    pub pem: String,
}

impl NodeRequest {
    /// Id of the join token that it was made with; a node's own request has none.
    pub fn token(&self) -> Option<&str> {
        self.username.strip_prefix("system:bootstrap:")
    }

    /// Whether it was made with a join token, for this host's certificate.
    pub fn joins(&self, host: &HostName) -> bool {
        let subject = self.subject();
        self.token().is_some() && subject.is_some_and(|it| it == format!("system:node:{host}"))
    }

    /// Common name of the subject that it asks for, if it can be read.
    pub fn subject(&self) -> Option<String> {
        let request = CertificateSigningRequestParams::from_pem(&self.pem).ok()?;
        text(&request, &DnType::CommonName)
    }
}

/// Who may ask for a host's certificate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Asker<'a> {
    /// A joining kubelet, by the id of the token that was made for this host.
    Token(&'a str),
    /// The node itself, with the certificate that it holds.
    Node(&'a HostName),
}

/// A request that was checked: all that is taken from it is its public key.
#[derive(Debug)]
pub struct CheckedRequest(pub(super) CertificateSigningRequestParams);

impl CheckedRequest {
    /// Whether it asks for the key that a certificate already certifies: the same request, once more.
    pub fn has_key_of(&self, entry: &LedgerEntry) -> bool {
        let Ok(der) = entry.der() else { return false };
        x509_parser::parse_x509_certificate(&der).is_ok_and(|(_, certificate)| {
            *certificate.public_key().subject_public_key.data
                == *rcgen::PublicKeyData::der_bytes(&self.0.public_key)
        })
    }
}

/// Holds a request against what may be signed for a host.
///
/// # Errors
/// Every reason why it must not be signed.
pub fn check_request(
    request: &NodeRequest,
    wanted: &Wanted,
    asker: Asker<'_>,
) -> Result<CheckedRequest, Vec<String>> {
    let mut faults = Vec::new();
    if request.signer != KUBELET_CLIENT_SIGNER {
        faults.push(format!("it asks the signer {}", request.signer));
    }
    let (username, group) = match asker {
        Asker::Token(id) => (format!("system:bootstrap:{id}"), "system:bootstrappers"),
        Asker::Node(host) => (format!("system:node:{host}"), "system:nodes"),
    };
    if request.username != username {
        faults.push(format!("{} asks, and only {username} may", request.username));
    }
    if !request.groups.iter().any(|g| g == group) {
        faults.push(format!("who asks is not in the group {group}"));
    }
    let allowed = ["client auth", "digital signature", "key encipherment"];
    for usage in request.usages.iter().filter(|usage| !allowed.contains(&usage.as_str())) {
        faults.push(format!("it asks for the usage '{usage}'"));
    }
    if !request.usages.iter().any(|usage| usage == "client auth") {
        faults.push("it does not ask for the usage 'client auth'".into());
    }
    match CertificateSigningRequestParams::from_pem(&request.pem) {
        Ok(parsed) => {
            faults.extend(subject_faults(&parsed, wanted));
            faults.extend(key_faults(&parsed, KeyKind::EcdsaP256));
            if faults.is_empty() {
                return Ok(CheckedRequest(parsed));
            }
        }
        // Its signature is verified there, and extensions that nobody expects are refused.
        Err(error) => {
            faults.push(format!("it cannot be read or is not signed by its own key: {error}"));
        }
    }
    Err(faults)
}

fn text(request: &CertificateSigningRequestParams, kind: &DnType) -> Option<String> {
    use rcgen::DnValue;
    Some(match request.params.distinguished_name.get(kind)? {
        DnValue::PrintableString(text) => text.as_str().to_owned(),
        DnValue::Utf8String(text) => text.clone(),
        DnValue::Ia5String(text) => text.as_str().to_owned(),
        DnValue::TeletexString(text) => text.as_str().to_owned(),
        _ => return None,
    })
}

/// What is wrong with whom a request names, and with what it wants to be.
pub(super) fn subject_faults(
    parsed: &CertificateSigningRequestParams,
    wanted: &Wanted,
) -> Vec<String> {
    let mut faults = Vec::new();
    let params = &parsed.params;
    let name = text(parsed, &DnType::CommonName).unwrap_or_default();
    if name != wanted.common_name {
        faults.push(format!("it names {name}, and {} was expected", wanted.common_name));
    }
    let group = text(parsed, &DnType::OrganizationName);
    let fields = 1 + usize::from(wanted.organization.is_some());
    if group != wanted.organization || params.distinguished_name.iter().count() != fields {
        faults.push(format!(
            "its groups are not exactly {}",
            wanted.organization.as_deref().unwrap_or("none")
        ));
    }
    if !params.subject_alt_names.is_empty() {
        faults.push("it carries names or addresses, and those are not its to say".into());
    }
    if params.is_ca != IsCa::NoCa && params.is_ca != IsCa::ExplicitNoCa {
        faults.push("it wants to be an authority".into());
    }
    let plain = [KeyUsagePurpose::DigitalSignature, KeyUsagePurpose::KeyEncipherment];
    if params.key_usages.iter().any(|usage| !plain.contains(usage)) {
        faults.push("it asks for key usages beyond signing and key exchange".into());
    }
    faults
}

/// What is wrong with the key of a request, which must be of this kind.
pub(super) fn key_faults(
    parsed: &CertificateSigningRequestParams,
    kind: KeyKind,
) -> Option<String> {
    let key = rcgen::PublicKeyData::der_bytes(&parsed.public_key);
    // Uncompressed points (SEC 1 section 2.3.3) of P-256 and P-384 have 65 and 97 octets; a modulus of 3072 bits has 384,
    // in a sequence with its exponent (RFC 8017 appendix A.1.1).
    let (octets, title) = match kind {
        KeyKind::EcdsaP256 => (65..=65, "ECDSA on P-256"),
        KeyKind::EcdsaP384 => (97..=97, "ECDSA on P-384"),
        KeyKind::Rsa3072 => (396..=404, "RSA with 3072 bits"),
    };
    let fits = parsed.public_key.algorithm() == kind.algorithm() && octets.contains(&key.len());
    (!fits).then(|| format!("its key is not {title}"))
}
