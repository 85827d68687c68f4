use std::fs;
use std::io::{Read as _, Write as _};
use std::net::{IpAddr, ToSocketAddrs as _};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::Args;
use zoisite_core::cluster::{
    ClusterName, Draft, DraftHost, Endpoint, HostName, Inventory, Topology, brief, draft,
    draft_hosts, inventory, matches, read,
};
use zoisite_reach::{SshHost, ssh_hosts};

use crate::failure::{Failure, Kind};
use crate::view::{self, Style};

/// Versions that a new file begins with.
const KUBERNETES: &str = "1.36.3";
const ETCD: &str = "3.6.16";

/// Write a commented cluster file from addresses, a table of hosts, or an SSH configuration
///
/// Roles are as the table says, or assigned by number: up to four hosts do everything; from five on, three carry
/// etcd and the control plane; from eight on, two are load balancers. The file works as it is. --full writes
/// every key into it, with a comment.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite new saltmarsh 10.77.0.11-15 --virtual-ip 10.77.0.5\n  zoisite new saltmarsh heron=10.77.0.11 egret=10.77.0.12 'tern-{1..40}=10.77.0.{101..140}'\n  zoisite new saltmarsh --table hosts.csv --endpoint api.saltmarsh.example:6443\n  zoisite new saltmarsh --ssh-hosts ~/.ssh/config 'heron' 'tern-*'\n  cut -f 2 leases.txt | zoisite new saltmarsh - --out saltmarsh.toml"
)]
pub struct NewArgs {
    /// Name of the cluster
    name: String,
    /// ADDRESS or NAME=ADDRESS, with ranges; '-' reads them from standard input. With --ssh-hosts: names
    /// of hosts to take, with '*' for any text [default: all]
    #[arg(required_unless_present_any = ["table", "ssh_hosts"], value_name = "ADDRESS")]
    addresses: Vec<String>,
    /// Read hosts from a CSV file with a header: name,address,mac,role,site,rack; the
    /// first two are required
    #[arg(long, value_name = "FILE", conflicts_with_all = ["addresses", "ssh_hosts"])]
    table: Option<PathBuf>,
    /// Read hosts from an SSH client configuration, and log in by it
    #[arg(long, value_name = "FILE")]
    ssh_hosts: Option<PathBuf>,
    /// The API endpoint, NAME:PORT or ADDRESS:PORT
    #[arg(long, value_name = "ADDRESS")]
    endpoint: Option<String>,
    /// Virtual IP: an unused address of the hosts' network, held by one load balancer or control plane at a time; it becomes the API endpoint
    #[arg(long, value_name = "ADDRESS")]
    virtual_ip: Option<IpAddr>,
    /// Also write every key that is not set, with a comment
    #[arg(long)]
    full: bool,
    /// File to write; '-' writes to standard output
    #[arg(long, short, value_name = "FILE", default_value = "zoisite.toml")]
    out: PathBuf,
    /// Overwrite the file if it exists
    #[arg(long)]
    force: bool,
}

pub fn run(args: &NewArgs) -> Result<ExitCode, Failure> {
    let name = ClusterName::new(&args.name).map_err(|why| {
        Failure::new(
            Kind::Usage,
            format!("'{}' cannot name a cluster: {why}", args.name),
            "use a-z, 0-9 and '-', such as saltmarsh",
        )
    })?;
    let endpoint = args.endpoint.as_deref().map(Endpoint::new).transpose().map_err(|why| {
        let endpoint = args.endpoint.as_deref().unwrap_or_default();
        Failure::new(
            Kind::Usage,
            format!("'{endpoint}' cannot be the API endpoint: {why}"),
            "write it like api.saltmarsh.example:6443",
        )
    })?;
    let hosts = match (&args.table, &args.ssh_hosts) {
        (Some(table), _) => from_table(table)?,
        (None, Some(config)) => from_ssh(config, &args.addresses)?,
        (None, None) => from_words(&name, &args.addresses)?,
    };
    let config = args.ssh_hosts.as_ref().map(|path| {
        let whole = fs::canonicalize(path).unwrap_or_else(|_| path.clone());
        whole.to_string_lossy().into_owned()
    });
    let text = draft(&Draft {
        cluster: &name,
        hosts: &hosts,
        kubernetes: KUBERNETES,
        etcd: ETCD,
        endpoint: endpoint.as_ref(),
        virtual_ip: args.virtual_ip,
        ssh_config: config.as_deref(),
    });
    let text = if args.full { text } else { brief(&text) };
    if args.out.as_os_str() == "-" {
        view::verbatim(&text);
        return Ok(ExitCode::SUCCESS);
    }
    write(args, &text)?;
    let reading = read(&text);
    match &reading.cluster {
        Some(cluster) => {
            view::out(&view::topology::render(cluster, &Topology::of(cluster), Style::stdout()));
        }
        // Roles that somebody decided may not fit together.
        None => view::findings::print(&args.out, &text, &reading.findings),
    }
    let alone = reading.cluster.as_ref().is_some_and(|cluster| {
        let endpoint = cluster.api_ip();
        cluster.control_plane.hosts.len() > 1
            && cluster.hosts.iter().any(|host| Some(host.address) == endpoint)
    });
    if alone {
        view::note(
            "the API endpoint is one host's own address, and is lost with it: --virtual-ip ADDRESS names one that moves",
        );
    }
    view::out(&format!(
        "\nWrote {} with {}. Edit it, then: zoisite check",
        args.out.display(),
        view::count(hosts.len(), "host")
    ));
    Ok(ExitCode::SUCCESS)
}

fn from_words(cluster: &ClusterName, given: &[String]) -> Result<Vec<DraftHost>, Failure> {
    let mut words = Vec::new();
    for word in given {
        if word == "-" {
            let mut text = String::new();
            std::io::stdin().lock().take(1 << 20).read_to_string(&mut text).map_err(|error| {
                Failure::new(Kind::Usage, format!("reading addresses: {error}"), "give one a line")
            })?;
            words.extend(text.split_whitespace().map(ToOwned::to_owned));
        } else {
            words.push(word.clone());
        }
    }
    draft_hosts(cluster, &words).map_err(|error| {
        Failure::new(
            Kind::Usage,
            error.to_string().replace('\n', "; "),
            "addresses look like 10.77.0.11, heron=10.77.0.11, 10.77.0.{11..13} or 10.77.0.11-13",
        )
    })
}

fn from_table(path: &Path) -> Result<Vec<DraftHost>, Failure> {
    let mut octets = Vec::new();
    fs::File::open(path)
        .and_then(|file| file.take(16 << 20).read_to_end(&mut octets))
        .map_err(|error| Failure::file("reading hosts from", path, &error))?;
    let Inventory { hosts, ignored } =
        inventory(&octets).map_err(|error| all_wrong(path, &error.0))?;
    if !ignored.is_empty() {
        view::note(&format!("columns that mean nothing here: {}", ignored.join(", ")));
    }
    Ok(hosts)
}

/// Everything that is wrong with a file of hosts, a note each.
fn all_wrong(path: &Path, wrong: &[String]) -> Failure {
    const SHOWN: usize = 20;
    let mut failure = Failure::new(
        Kind::Usage,
        format!("{} cannot be used as it is; nothing was written", path.display()),
        "fix what is named above, then run the same command again",
    );
    for wrong in wrong.iter().take(SHOWN) {
        failure = failure.note("wrong", wrong);
    }
    match wrong.len().saturating_sub(SHOWN) {
        0 => failure,
        more => failure.note("wrong", format!("and {more} more")),
    }
}

fn from_ssh(path: &Path, wanted: &[String]) -> Result<Vec<DraftHost>, Failure> {
    let found = ssh_hosts(path).map_err(|errors| all_wrong(path, &errors))?;
    let mut wrong = Vec::new();
    for pattern in wanted {
        if !found.iter().any(|host| matches(pattern, &host.name)) {
            wrong.push(format!("no Host line names '{pattern}'"));
        }
    }
    if found.is_empty() {
        wrong.push("no Host line names a host: patterns with '*' and '?' name no host".into());
    }
    let taken = |name: &str| wanted.is_empty() || wanted.iter().any(|w| matches(w, name));
    let mut hosts: Vec<DraftHost> = Vec::new();
    for SshHost { name, dials } in found.iter().filter(|host| taken(&host.name)) {
        let address = match dials.parse() {
            Ok(address) => Ok(address),
            Err(_) => (dials.as_str(), 22_u16)
                .to_socket_addrs()
                .map_err(|error| format!("{name}: {dials} leads nowhere: {error}"))
                .and_then(|mut all| {
                    let first = all.next().map(|at| at.ip());
                    first.ok_or_else(|| format!("{name}: {dials} leads nowhere"))
                }),
        };
        let host = HostName::new(&name.to_lowercase())
            .map_err(|why| format!("'{name}' cannot name a host of a cluster: {why}"))
            .and_then(|name| Ok(DraftHost::new(name, address?)));
        match host {
            Err(why) => wrong.push(why),
            Ok(host) => match hosts.iter().find(|other| other.address == host.address) {
                Some(other) => wrong.push(format!(
                    "{} and {} are both at {}: name the hosts that you want",
                    other.name, host.name, host.address
                )),
                None => hosts.push(host),
            },
        }
    }
    if wrong.is_empty() { Ok(hosts) } else { Err(all_wrong(path, &wrong)) }
}

fn write(args: &NewArgs, text: &str) -> Result<(), Failure> {
    let failed = |error: std::io::Error| Failure::file("writing", &args.out, &error);
    if !args.force {
        let made = fs::OpenOptions::new().write(true).create_new(true).open(&args.out);
        return match made {
            Ok(mut file) => file.write_all(text.as_bytes()).map_err(failed),
            Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => Err(Failure::new(
                Kind::Usage,
                format!("{} is there already, and was left as it is", args.out.display()),
                "choose another with --out FILE, or overwrite it with --force",
            )),
            Err(error) => Err(failed(error)),
        };
    }
    // Whole or not at all: the old file is somebody's work.
    let new = args.out.with_extension("toml.zoisite-new");
    fs::write(&new, text).and_then(|()| fs::rename(&new, &args.out)).map_err(failed)
}
