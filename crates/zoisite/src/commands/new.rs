use std::fs;
use std::io::{Read as _, Write as _};
use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use zoisite_core::cluster::{ClusterName, Topology, draft, draft_hosts, read};

use crate::failure::{Failure, Kind};
use crate::view::{self, Style};

/// Versions that a new file begins with.
const KUBERNETES: &str = "1.36.3";
const ETCD: &str = "3.6.16";

/// Write a commented cluster file from addresses
///
/// Roles are assigned sensibly: one host does everything, up to four do everything together, from
/// five on three carry etcd and the control plane, from eight on two are balancers. Edit it then.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite new saltmarsh 10.77.0.11-13\n  zoisite new saltmarsh heron=10.77.0.11 egret=10.77.0.12 'tern-{1..40}=10.77.0.{101..140}'\n  cut -f 2 leases.txt | zoisite new saltmarsh - --out saltmarsh.toml"
)]
pub struct NewArgs {
    /// Name of the cluster
    name: String,
    /// ADDRESS or NAME=ADDRESS, with ranges; '-' reads them from standard input
    #[arg(required = true, value_name = "ADDRESS")]
    addresses: Vec<String>,
    /// File to write; '-' writes to standard output
    #[arg(long, short, value_name = "FILE", default_value = "zoisite.toml")]
    out: PathBuf,
    /// Overwrite the file when it is there
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
    let mut words = Vec::new();
    for word in &args.addresses {
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
    let hosts = draft_hosts(&name, &words).map_err(|error| {
        Failure::new(
            Kind::Usage,
            error.to_string().replace('\n', "; "),
            "addresses look like 10.77.0.11, heron=10.77.0.11, 10.77.0.{11..13} or 10.77.0.11-13",
        )
    })?;
    let text = draft(&name, &hosts, KUBERNETES, ETCD);
    if args.out.as_os_str() == "-" {
        view::out(&text);
        return Ok(ExitCode::SUCCESS);
    }
    write(args, &text)?;
    let reading = read(&text);
    if let Some(cluster) = &reading.cluster {
        view::out(&view::topology::render(cluster, &Topology::of(cluster), Style::stdout()));
    }
    view::out(&format!(
        "\nWrote {} with {}. Read it, edit it, then: zoisite check",
        args.out.display(),
        view::count(hosts.len(), "host")
    ));
    Ok(ExitCode::SUCCESS)
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
