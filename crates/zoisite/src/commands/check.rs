use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::Args;
use serde_json::json;
use zoisite_core::cluster::{
    Cluster, EndpointHost, Finding, Grade, HostName, MADE_UP_NAME, Topology, read,
};
use zoisite_store::Met;

use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::{Site, read_text};
use crate::view::{self, Style, count};

/// Check the cluster file; show roles, and which losses the cluster survives
///
/// Reports every mistake at once, with its place in the file and the fix. Exits with 2 when something blocks, as
/// every command does then, and with 3 when something warns and --strict is given.
#[derive(Args, Debug)]
#[command(after_help = "Examples:\n  zoisite check\n  zoisite check saltmarsh.toml --json")]
pub struct CheckArgs {
    /// The cluster file, instead of the one that --cluster names
    #[arg(value_name = "FILE")]
    file: Option<PathBuf>,
    /// Treat warnings as findings that block
    #[arg(long)]
    strict: bool,
}

pub fn run(options: &Options, args: &CheckArgs) -> Result<ExitCode, Failure> {
    let mut options = options.clone();
    if let Some(file) = &args.file {
        options.cluster.clone_from(file);
    }
    let options = &options;
    let text = read_text(&options.cluster)?;
    let mut reading = read(&text);
    if let Some(cluster) = &reading.cluster {
        if reading.findings.iter().any(|f| f.code == MADE_UP_NAME) && resolves(cluster) {
            reading.findings.retain(|finding| finding.code != MADE_UP_NAME);
        }
        let known = Site::of(cluster.clone(), options).existing_state().and_then(|state| {
            Ok(state.map(|state| state.departed(cluster)).transpose()?.unwrap_or_default())
        });
        match known {
            Ok(known) => reading.findings.extend(known.iter().map(departed)),
            // The file is judged all the same.
            Err(failure) => {
                view::note(&format!("hosts met before are not known: {}", failure.summary()));
            }
        }
    }
    if let Some(cluster) = &reading.cluster {
        let found = beside(cluster, &options.cluster);
        reading.findings.extend(found);
    }
    let blocking = reading.of(Grade::Blocks).count();
    let warning = reading.of(Grade::Warns).count();
    let topology = reading.cluster.as_ref().map(Topology::of);
    if options.json {
        let findings: Vec<_> = reading
            .findings
            .iter()
            .map(|f| {
                json!({"code": f.code, "grade": f.grade, "message": f.message, "reason": f.label,
                       "fix": f.fix, "line": f.line(&text)})
            })
            .collect();
        let hosts = reading.cluster.as_ref().zip(topology.as_ref()).map(|(cluster, topology)| {
            cluster
                .hosts
                .iter()
                .zip(&topology.roles)
                .map(|(host, (_, roles))| {
                    json!({"name": host.name, "address": host.address, "roles": roles,
                           "login": cluster.login_of(host),
                           "endpoint": host.endpoint.as_ref().map(ToString::to_string),
                           "offline": host.offline})
                })
                .collect::<Vec<_>>()
        });
        view::json(&json!({
            "file": options.cluster,
            "findings": findings,
            "tolerance": topology.as_ref().map(|t| t.tolerance),
            "hosts": hosts.unwrap_or_default(),
            "stable": reading.cluster.as_ref().map(stable),
        }));
    } else {
        let style = Style::stdout();
        view::out(&view::findings::render(&options.cluster, &text, &reading.findings, style));
        if let Some((cluster, topology)) = reading.cluster.as_ref().zip(topology.as_ref()) {
            view::out(&view::topology::render(cluster, topology, style));
        }
        let file = options.cluster.display();
        view::out(&match (blocking, warning) {
            (0, 0) => format!("\n{} no mistakes in {file}", style.good("✓")),
            (0, n) => format!("\n{} {file} can be used; {}", style.good("✓"), count(n, "warning")),
            (b, 0) => format!("{} {file}: {}", style.bad("✗"), count(b, "mistake")),
            (b, w) => format!(
                "{} {file}: {} and {}",
                style.bad("✗"),
                count(b, "mistake"),
                count(w, "warning")
            ),
        });
    }
    if blocking > 0 {
        return Err(Failure::reported(Kind::Usage));
    }
    if args.strict && warning > 0 {
        return Err(Failure::reported(Kind::Findings));
    }
    Ok(ExitCode::SUCCESS)
}

/// The API endpoint, and where it leads.
fn stable(cluster: &Cluster) -> serde_json::Value {
    let address = &cluster.control_plane.endpoint;
    let name = match &address.host {
        EndpointHost::Name(name) => Some(name),
        EndpointHost::Address(_) => None,
    };
    json!({"address": address.to_string(), "name": name, "addresses": cluster.api_leads_to()})
}

/// Whether the API endpoint's name leads anywhere, as far as this machine knows; a name server that does not answer
/// is not waited for.
fn resolves(cluster: &Cluster) -> bool {
    use std::net::ToSocketAddrs as _;
    let address = &cluster.control_plane.endpoint;
    let (name, port) = (address.host.to_string(), address.port);
    let (said, saying) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        let found = (name, port).to_socket_addrs().is_ok_and(|mut all| all.next().is_some());
        let _ = said.send(found);
    });
    saying.recv_timeout(std::time::Duration::from_secs(2)).unwrap_or(false)
}

/// Other clusters whose files lie in the same folder: what two of them cannot share on one segment.
fn beside(cluster: &Cluster, file: &Path) -> Vec<Finding> {
    let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty());
    let Ok(listed) = std::fs::read_dir(folder.unwrap_or(Path::new("."))) else { return Vec::new() };
    let mut paths: Vec<PathBuf> = listed.filter_map(|entry| Some(entry.ok()?.path())).collect();
    paths.retain(|path| {
        path.extension().is_some_and(|end| end == "toml") && path.file_name() != file.file_name()
    });
    paths.sort();
    let mut found = Vec::new();
    for path in paths.iter().take(BESIDE) {
        let Ok(text) = std::fs::read_to_string(path) else { continue };
        let Some(other) = read(&text).cluster.filter(|other| other.name != cluster.name) else {
            continue;
        };
        let whose = format!("{} ({})", other.name, path.display());
        let (ours, theirs) = (cluster.load_balancers.virtual_ip, other.load_balancers.virtual_ip);
        if let (Some(ours), true) = (ours, ours == theirs) {
            let finding = Finding::blocks(
                "virtual-ip-taken",
                format!("{whose} has the virtual IP {ours} too"),
            );
            found.push(finding.fix("choose an address that no other cluster has"));
        } else if let (Some(id), true) =
            (cluster.router_id(), cluster.router_id() == other.router_id())
        {
            let finding = Finding::warns(
                "router-id-taken",
                format!("{whose} has the virtual router's id {id} too"),
            );
            found.push(finding.fix(
                "where both stand on one segment, choose another for load-balancers.router-id",
            ));
        }
    }
    found
}

/// Files beside the cluster file that are looked at, at most.
const BESIDE: usize = 64;

fn departed((host, met): (&HostName, &Met)) -> Finding {
    Finding::warns(
        "departed-host",
        format!("{host} ({}) was raised, and the file names it no more", met.address),
    )
    .fix("it runs on, and nothing is done with it: name it again, or zoisite retire evicts its pods and uninstalls it")
}
