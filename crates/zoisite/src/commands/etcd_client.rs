//! `zoisite access NAME --etcd FOLDER`: etcd's own tools, for a short while.

use std::net::SocketAddr;
use std::path::Path;
use std::process::ExitCode;

use zoisite_core::cluster::Role;
use zoisite_core::pki::{AuthorityKind, person_in_etcd};
use zoisite_store::{State, private_folder};

use super::signed;
use crate::failure::{Failure, Kind};
use crate::site::{Private, Site, Working, begin_run};
use crate::view;

const HOUR: i64 = 3_600;

/// Writes a client's certificate and what etcd's own tools read of their environment into a folder. There are no rights
/// in etcd: its holder may do everything, so it lasts a day at most, and is recorded.
pub fn give(
    site: &Site,
    state: State,
    name: &str,
    folder: &Path,
    expires: Option<i64>,
) -> Result<ExitCode, Failure> {
    let seconds = expires.unwrap_or(8 * HOUR);
    if seconds > 24 * HOUR {
        return Err(Failure::new(
            Kind::Usage,
            "a client's certificate allows everything in etcd: it is for a day at most",
            "add --expires 8h",
        ));
    }
    private_folder(folder).map_err(|error| Failure::file("making", folder, &error))?;
    let folder =
        std::path::absolute(folder).map_err(|error| Failure::file("finding", folder, &error))?;
    let at = |file: &str| folder.join(file);
    // That all can be written is known before anything is issued.
    let begin = |file: &str| Private::begin(&at(file));
    let (certificate, key, authority, env) =
        (begin("client.crt")?, begin("client.key")?, begin("authority.crt")?, begin("env")?);
    let mut work = Working::briefly(state)?;
    let state = &mut work.state;
    let record = begin_run(state, &format!("access {name} to etcd"))?;
    let wanted = person_in_etcd(&site.cluster, name, seconds);
    let (entry, secret) = signed(site, state, record, &wanted)?;
    let believed = state.ledger()?.bundle(AuthorityKind::EtcdClient).unwrap_or_default();
    let end = view::minute(entry.not_after);
    let members = site.cluster.hosts_of(Role::EtcdMember);
    let members = members
        .iter()
        .map(|host| {
            format!("https://{}", SocketAddr::new(host.address, site.cluster.etcd.client_port))
        })
        .collect::<Vec<_>>()
        .join(",");
    let quoted =
        |file: &str| format!("'{}'", at(file).display().to_string().replace('\'', r"'\''"));
    let text = format!(
        "# etcd of {} for {name}, until {end}.\nexport ETCDCTL_ENDPOINTS='{members}'\n\
         export ETCDCTL_CACERT={}\nexport ETCDCTL_CERT={}\nexport ETCDCTL_KEY={}\n",
        site.cluster.name,
        quoted("authority.crt"),
        quoted("client.crt"),
        quoted("client.key"),
    );
    key.end(secret.expose())?;
    certificate.end(&entry.pem)?;
    authority.end(&believed)?;
    env.end(&text)?;
    view::note(&format!("{name} may do everything in etcd until {end}; it is recorded"));
    view::out(&format!(". {}", at("env").display()));
    Ok(ExitCode::SUCCESS)
}
