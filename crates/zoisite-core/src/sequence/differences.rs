use std::fmt;

use serde::Serialize;

use crate::blueprint::{ComponentSums, File, HostBlueprint, Item, RUNTIME_UNIT};
use crate::cluster::HostName;
use crate::script::{FileFacts, Observed};

/// In which way something on a host is not as it must be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Differs {
    /// It is not there.
    Missing,
    /// It is there, and must not be.
    StillThere,
    /// Its content is another.
    Content,
    /// What it says for the first start, which is still to come, is out of date.
    FirstStart,
    /// Its owner or mode is another: as found.
    Access(String),
    /// Whether it is there cannot be seen: the service that knows does not run.
    Unseen(&'static str),
    /// A unit does not start at boot.
    NotEnabled,
    /// A unit does not run: its state.
    NotRunning(String),
    /// A unit runs with older files than stand on the host.
    NotRestarted,
}

impl fmt::Display for Differs {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Missing => f.write_str("is missing"),
            Self::StillThere => f.write_str("is still there"),
            Self::Content => f.write_str("has other content"),
            Self::FirstStart => f.write_str("says something else for the first start"),
            Self::Access(found) => write!(f, "has owner and mode {found}"),
            Self::Unseen(unit) => write!(f, "cannot be seen while {unit} does not answer"),
            Self::NotEnabled => f.write_str("does not start at boot"),
            Self::NotRunning(state) => write!(f, "does not run ({state})"),
            Self::NotRestarted => f.write_str("runs with older files than are there"),
        }
    }
}

/// One difference between what a host must hold and what it holds.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Difference {
    /// The host.
    pub host: HostName,
    /// What differs: a path or a name.
    pub what: String,
    /// In which way.
    pub how: Differs,
    /// The unit that must restart for it, if any.
    pub restarts: Option<&'static str>,
    /// Which item of the host's blueprint it is about.
    #[serde(skip)]
    pub item: usize,
}

impl fmt::Display for Difference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.what, self.how)
    }
}

/// Compares a host with its blueprint, item by item; first-start facts never differ.
pub fn differences(
    blueprint: &HostBlueprint,
    observed: &Observed,
    sums: &ComponentSums,
) -> Vec<Difference> {
    let mut out = Vec::new();
    for (item, wanted) in blueprint.items.iter().enumerate() {
        let mut add = |what: &str, how: Differs, restarts: Option<&'static str>| {
            out.push(Difference {
                host: blueprint.host.clone(),
                what: what.to_owned(),
                how,
                restarts,
                item,
            });
        };
        match wanted {
            Item::User(user) => {
                if !observed.users.get(user.name).copied().unwrap_or(false) {
                    add(&format!("user {}", user.name), Differs::Missing, None);
                }
            }
            Item::Directory(directory) => {
                let found = observed.directories.get(&directory.path).filter(|d| d.present);
                let how = found.map_or(Some(Differs::Missing), |found| {
                    access(&found.owner, &found.mode, directory.owner, directory.mode)
                });
                if let Some(how) = how {
                    add(&directory.path, how, None);
                }
            }
            Item::File(file) => {
                let found = observed.files.get(&file.path);
                let sha256 = found.and_then(|found| found.sha256.as_deref());
                match (sha256, found) {
                    (Some(sha256), Some(found)) => {
                        if sha256 != file.content.lasting_sha256() {
                            add(&file.path, Differs::Content, file.restarts);
                        } else if first_start_is_stale(file, found, observed) {
                            add(&file.path, Differs::FirstStart, file.restarts);
                        } else if let Some(how) =
                            access(&found.owner, &found.mode, file.owner, file.mode)
                        {
                            add(&file.path, how, None);
                        }
                    }
                    _ => add(&file.path, Differs::Missing, file.restarts),
                }
            }
            Item::Component(component) => {
                let wanted = sums.sha256(&component.pinned, &observed.arch);
                match observed.components.get(&component.path) {
                    None => add(&component.path, Differs::Missing, component.restarts),
                    // Where no checksums are known, nothing can be said of what is there.
                    Some(found) if wanted.is_some_and(|wanted| wanted != found) => {
                        add(&component.path, Differs::Content, component.restarts);
                    }
                    Some(_) => {}
                }
            }
            Item::Absent(path) => {
                if observed.files.contains_key(path) {
                    add(path, Differs::StillThere, None);
                }
            }
            Item::Image(image) => {
                if !observed.images.contains(&image.name) {
                    let runtime = observed.units.get(RUNTIME_UNIT);
                    let stopped =
                        runtime.is_some_and(|u| u.load == "loaded" && u.active != "active");
                    // What hangs or does not run shows none, whatever it holds.
                    let how = match stopped || !observed.hangs.is_empty() {
                        true => Differs::Unseen(RUNTIME_UNIT),
                        false => Differs::Missing,
                    };
                    add(&format!("image {}", image.name), how, None);
                }
            }
            Item::Unit(unit) => match observed.units.get(unit.name) {
                Some(found) if found.load == "loaded" => {
                    if !found.enabled {
                        add(unit.name, Differs::NotEnabled, None);
                    }
                    if found.active != "active" {
                        let state = format!("{}, {}", found.active, found.sub);
                        add(unit.name, Differs::NotRunning(state), None);
                    } else if found.pending {
                        add(unit.name, Differs::NotRestarted, Some(unit.name));
                    }
                }
                _ => add(unit.name, Differs::Missing, None),
            },
        }
    }
    out
}

/// First-start facts matter as long as the member has no data; then they never differ again.
fn first_start_is_stale(file: &File, found: &FileFacts, observed: &Observed) -> bool {
    let wanted = file.content.whole_sha256();
    wanted.is_some() && !observed.etcd.data && found.whole_sha256 != wanted
}

fn access(owner: &str, mode: &str, wanted_owner: &str, wanted_mode: u32) -> Option<Differs> {
    let same = owner == wanted_owner && u32::from_str_radix(mode, 8) == Ok(wanted_mode);
    (!same).then(|| Differs::Access(format!("{owner} {mode}")))
}
