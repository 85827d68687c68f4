use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, ValueEnum};
use serde_json::{Value, json};
use zoisite_core::blueprint::{ApiObject, person_kubeconfig};
use zoisite_core::pki::{AuthorityKind, person};
use zoisite_store::{FreshKeys, trust};

use super::with_api;
use crate::cli::Options;
use crate::failure::{Failure, Kind};
use crate::site::{Site, lock_holder, now, write_private};
use crate::view;

/// Give a named person a kubeconfig at the stable address
///
/// The person gets a certificate of their own in one group, and the group gets no more rights than you
/// ask for. Certificates of people cannot be revoked: give them an end.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite access ada --out ada.yaml\n  zoisite access ada --group wardens --may edit --ends 90d --merge\n  zoisite access ada --break-glass --ends 1h --out glass.yaml"
)]
pub struct AccessArgs {
    /// The person
    #[arg(value_name = "NAME", value_parser = person_name)]
    name: String,
    /// Their group
    #[arg(long, value_name = "GROUP", default_value = "readers", value_parser = group_name)]
    group: String,
    /// What the group may do in the whole cluster
    #[arg(long, value_name = "RIGHTS", value_enum, default_value_t = Rights::View)]
    may: Rights,
    /// When it ends, such as 8h or 30d
    #[arg(long, value_name = "TIME", default_value = "30d", value_parser = view::span)]
    ends: i64,
    /// Write the kubeconfig there (0600) instead of to standard output
    #[arg(long, value_name = "FILE", conflicts_with = "merge")]
    out: Option<PathBuf>,
    /// Add it as a context to your own kubeconfig, of which a copy is kept
    #[arg(long)]
    merge: bool,
    /// The built-in group that no rule restricts, for a day at most; it is recorded
    #[arg(long, conflicts_with_all = ["group", "may"])]
    break_glass: bool,
}

/// The platform's own roles for people, from the least to the most.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Rights {
    /// Read most things, no secrets
    View,
    /// Change workloads
    Edit,
    /// Change workloads and rights within namespaces
    Admin,
    /// Change everything
    Everything,
}

impl Rights {
    fn role(self) -> &'static str {
        match self {
            Self::View => "view",
            Self::Edit => "edit",
            Self::Admin => "admin",
            Self::Everything => "cluster-admin",
        }
    }
}

const UNRESTRICTED: &str = "system:masters";
const DAY: i64 = 86_400;

fn person_name(text: &str) -> Result<String, String> {
    plain(text, "a name has letters, digits and .-_@ and does not begin with 'system:'")
}

fn group_name(text: &str) -> Result<String, String> {
    plain(
        text,
        "a group has letters, digits and .-_@, and the platform's own ones are not given out",
    )
}

fn plain(text: &str, rule: &str) -> Result<String, String> {
    let fits = |c: char| c.is_ascii_alphanumeric() || ".-_@".contains(c);
    if text.is_empty() || text.len() > 63 || !text.chars().all(fits) {
        return Err(rule.to_owned());
    }
    Ok(text.to_owned())
}

pub fn run(options: &Options, args: &AccessArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let mut state = site.raised_state()?;
    if args.break_glass && args.ends > DAY {
        return Err(Failure::new(
            Kind::Usage,
            "--break-glass is for a day at most",
            "add --ends 1h, or ask for a group with --may everything",
        ));
    }
    let vault = site.vault()?;
    let group = if args.break_glass { UNRESTRICTED } else { &args.group };
    if !args.break_glass {
        let binding = ApiObject(json!({
            "apiVersion": "rbac.authorization.k8s.io/v1",
            "kind": "ClusterRoleBinding",
            "metadata": {
                "name": format!("zoisite:people:{group}:{}", args.may.role()),
                "labels": {"app.kubernetes.io/managed-by": "zoisite"},
            },
            "roleRef": {
                "apiGroup": "rbac.authorization.k8s.io",
                "kind": "ClusterRole",
                "name": args.may.role(),
            },
            "subjects": [{
                "apiGroup": "rbac.authorization.k8s.io",
                "kind": "Group",
                "name": group,
            }],
        }));
        with_api(&site, &mut state, &vault, async |api| {
            api.apply(&binding, false).await.map(|_| ())
        })?;
    }
    let wanted = person(&site.cluster, &args.name, Some(group), args.ends);
    let who = lock_holder();
    let command = format!("access {} in {group}", args.name);
    let record = state.begin_run(&command, &format!("{} on {}", who.user, who.host), now())?;
    let (entry, key) = trust::issue_unkept(&mut state, &vault, &wanted, &FreshKeys, now())?;
    state.end_run(record, &format!("until {}", view::minute(entry.not_after)), now())?;
    let authority = state.ledger()?.authority(AuthorityKind::Cluster).map(|a| a.pem.clone());
    let authority = base64(&authority.unwrap_or_default());
    let config = person_kubeconfig(
        &site.cluster,
        &args.name,
        &authority,
        base64(&entry.pem),
        base64(key.expose()),
    );
    let end = view::minute(entry.not_after);
    match (&args.out, args.merge) {
        (_, true) => {
            let path = own_kubeconfig()?;
            let kept = merge_into(&path, &config)?;
            let context = config["current-context"].as_str().unwrap_or_default();
            view::note(&format!(
                "added the context {context} to {}{}",
                path.display(),
                kept.map_or(String::new(), |kept| format!(
                    "; a copy of before is {}",
                    kept.display()
                ))
            ));
        }
        (Some(path), false) => {
            write_private(path, &yaml(&config)?)?;
            view::note(&format!("wrote {}", path.display()));
        }
        (None, false) => view::out(&yaml(&config)?),
    }
    let may = if args.break_glass { "everything, unrestricted" } else { args.may.role() };
    view::note(&format!("{} in {group} ({may}) until {end}", args.name));
    Ok(ExitCode::SUCCESS)
}

fn base64(text: &str) -> String {
    use base64::Engine as _;
    base64::engine::general_purpose::STANDARD.encode(text)
}

fn yaml(value: &Value) -> Result<String, Failure> {
    serde_saphyr::to_string(value).map_err(|error| {
        Failure::new(Kind::Run, format!("writing YAML: {error}"), "report this, please")
    })
}

/// The person's own kubeconfig, as the platform's clients find it.
fn own_kubeconfig() -> Result<PathBuf, Failure> {
    let first = std::env::var_os("KUBECONFIG")
        .and_then(|paths| std::env::split_paths(&paths).find(|p| !p.as_os_str().is_empty()));
    let home = std::env::var_os("HOME").map(|home| Path::new(&home).join(".kube/config"));
    first.or(home).ok_or_else(|| {
        Failure::new(Kind::Usage, "neither KUBECONFIG nor HOME is set", "name a file with --out")
    })
}

/// Puts cluster, user and context into a kubeconfig and leaves all else; keeps a copy of what was there.
fn merge_into(path: &Path, config: &Value) -> Result<Option<PathBuf>, Failure> {
    let failed = |doing: &str, error: &std::io::Error| Failure::file(doing, path, error);
    let old = match std::fs::read_to_string(path) {
        Ok(text) => Some(text),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => None,
        Err(error) => return Err(failed("reading", &error)),
    };
    let mut whole: Value = match old.as_deref().map(str::trim) {
        None | Some("") => json!({"apiVersion": "v1", "kind": "Config"}),
        Some(text) => serde_saphyr::from_str(text)
            .ok()
            .filter(|whole: &Value| whole.is_object())
            .ok_or_else(|| {
            Failure::new(
                Kind::Usage,
                format!("{} is not a kubeconfig", path.display()),
                "it was left as it is; write the new one elsewhere with --out FILE",
            )
        })?,
    };
    for list in ["clusters", "users", "contexts"] {
        let new = config[list][0].clone();
        if !whole[list].is_array() {
            whole[list] = json!([]);
        }
        if let Some(entries) = whole[list].as_array_mut() {
            match entries.iter_mut().find(|entry| entry["name"] == new["name"]) {
                Some(entry) => *entry = new,
                None => entries.push(new),
            }
        }
    }
    if whole["current-context"].as_str().unwrap_or_default().is_empty() {
        whole["current-context"] = config["current-context"].clone();
    }
    let kept = match &old {
        None => None,
        Some(text) => {
            let stamp = now().strftime("%Y%m%d-%H%M%S").to_string();
            let mut name = path.as_os_str().to_owned();
            name.push(format!(".before-{stamp}"));
            let kept = PathBuf::from(name);
            write_private(&kept, text)?;
            Some(kept)
        }
    };
    if let Some(parent) = path.parent() {
        std::fs::create_dir_all(parent).map_err(|error| failed("making the folder of", &error))?;
    }
    write_private(path, &yaml(&whole)?)?;
    Ok(kept)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn merging_leaves_all_else_and_keeps_a_copy() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("config");
        let mine = "apiVersion: v1\nkind: Config\nclusters:\n- name: mudflat\n  cluster:\n    server: https://mudflat.example\nusers: []\ncontexts: []\ncurrent-context: mudflat\n";
        std::fs::write(&path, mine).unwrap();
        let new = json!({
            "clusters": [{"name": "saltmarsh", "cluster": {"server": "https://a"}}],
            "users": [{"name": "ada@saltmarsh", "user": {}}],
            "contexts": [{"name": "ada@saltmarsh", "context": {}}],
            "current-context": "ada@saltmarsh",
        });
        for server in ["https://a", "https://b"] {
            let mut new = new.clone();
            new["clusters"][0]["cluster"]["server"] = json!(server);
            let kept = merge_into(&path, &new).unwrap();
            assert!(kept.unwrap().exists());
        }
        let whole: Value =
            serde_saphyr::from_str(&std::fs::read_to_string(&path).unwrap()).unwrap();
        assert_eq!(whole["current-context"], "mudflat", "which one is current is theirs to say");
        assert_eq!(whole["clusters"].as_array().unwrap().len(), 2, "the same name is replaced");
        assert_eq!(whole["clusters"][1]["cluster"]["server"], "https://b");
        std::fs::write(&path, "- no\n- config\n").unwrap();
        assert!(merge_into(&path, &new).is_err());
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "- no\n- config\n");
    }

    #[test]
    fn the_platforms_own_groups_are_not_given_out() {
        assert!(group_name("system:masters").is_err());
        assert!(person_name("system:admin").is_err());
        assert!(group_name("wardens").is_ok());
    }
}
