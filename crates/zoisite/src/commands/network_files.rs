use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, ValueEnum};
use zoisite_core::cluster::{NetworkFilesForm, network_files};

use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::Site;
use crate::view::{self, count};

/// Write records for your own DNS, DHCP and routers: names, reservations, routes
///
/// Zoisite changes nothing there: copy the text to your name server, DHCP server, router or hosts.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite network-files hosts                # lines for /etc/hosts on every machine\n  zoisite network-files zone reverse         # records for a DNS server\n  zoisite network-files --out network                  # every form, a file each"
)]
pub struct NetworkFilesArgs {
    /// Only these, on standard output
    #[arg(value_enum, value_name = "FORM", required_unless_present = "out")]
    forms: Vec<Form>,
    /// Folder to write files to
    #[arg(long, short, value_name = "DIR")]
    out: Option<PathBuf>,
    /// Replace files with other content
    #[arg(long, requires = "out")]
    force: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Form {
    /// Lines of a hosts file
    Hosts,
    /// A fragment of the hosts' DNS zone
    Zone,
    /// The DNS zones that lead from addresses to names
    Reverse,
    /// Reservations as comma-separated values
    Reservations,
    /// Reservations and names for dnsmasq
    Dnsmasq,
    /// Routes to pods, for ip -batch
    Routes,
}

impl From<Form> for NetworkFilesForm {
    fn from(form: Form) -> Self {
        match form {
            Form::Hosts => Self::Hosts,
            Form::Zone => Self::Zone,
            Form::Reverse => Self::Reverse,
            Form::Reservations => Self::Reservations,
            Form::Dnsmasq => Self::Dnsmasq,
            Form::Routes => Self::Routes,
        }
    }
}

pub fn run(options: &Options, args: &NetworkFilesArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let named: Vec<NetworkFilesForm> = args.forms.iter().map(|form| (*form).into()).collect();
    let forms = if named.is_empty() { NetworkFilesForm::ALL.to_vec() } else { named };
    // Subnets that nodes have already, and those that they would get.
    let subnets = site.scratch()?.subnets(&site.cluster)?;
    let mut texts = Vec::new();
    let mut missing = Vec::new();
    for form in forms {
        match network_files(&site.cluster, &subnets, form) {
            Ok(text) => texts.push((form, text)),
            Err(why) => missing.push(format!("{}: {why}", form.file())),
        }
    }
    // What was asked for by name must be there; of all forms those that can be written are.
    if !args.forms.is_empty() && !missing.is_empty() {
        return Err(Failure::new(
            Kind::Usage,
            missing.join("; "),
            "then run the same command again",
        ));
    }
    let mut left_out = missing;
    for (form, text) in &texts {
        left_out.extend(text.left_out.iter().map(|why| format!("{}: {why}", form.file())));
    }
    match &args.out {
        None => texts.iter().for_each(|(_, text)| view::verbatim(text.text.trim_end())),
        Some(folder) => {
            let failed = |error: std::io::Error| Failure::file("writing to", folder, &error);
            std::fs::create_dir_all(folder).map_err(failed)?;
            let others = texts.iter().filter(|(form, text)| {
                std::fs::read(folder.join(form.file()))
                    .is_ok_and(|there| there != text.text.as_bytes())
            });
            let others: Vec<&str> = others.map(|(form, _)| form.file()).collect();
            if !others.is_empty() && !args.force {
                return Err(Failure::new(
                    Kind::Usage,
                    format!(
                        "{} has files that say something else: {}",
                        folder.display(),
                        others.join(", ")
                    ),
                    "nothing was written; --force replaces them",
                ));
            }
            for (form, text) in &texts {
                let file = folder.join(form.file());
                std::fs::write(&file, &text.text)
                    .map_err(|error| Failure::file("writing", &file, &error))?;
            }
            let files: Vec<&str> = texts.iter().map(|(form, _)| form.file()).collect();
            view::out(&format!(
                "Wrote {} to {}: {}",
                count(texts.len(), "file"),
                folder.display(),
                files.join(", ")
            ));
        }
    }
    for why in left_out {
        view::note(&format!("left out of {why}"));
    }
    Ok(ExitCode::SUCCESS)
}
