use std::process::ExitCode;

use clap::{CommandFactory as _, Parser, Subcommand};

use crate::commands::{
    access, backup, check, components, defragment, demo, design, drill, encryption, files,
    first_boot, history, join_file, login, manual, mesh, monitoring, network_files, new, paths,
    pki, raise, rehearse, reports, retire, sequence, snapshot, status, strongbox, survey, tokens,
    uninstall, verify,
};
use crate::failure::Failure;
use crate::options::Options;
use crate::view;

/// From one cluster file to a highly available Kubernetes cluster on machines you own
///
/// Zoisite makes the authorities, certificates and configuration that a highly available cluster
/// needs, works out what differs on each host, and brings that over SSH in a safe order.
#[derive(Debug, Parser)]
#[command(
    name = "zoisite",
    version,
    arg_required_else_help = true,
    after_help = "Example: a cluster from nothing\n  zoisite new saltmarsh 10.77.0.11-15 --virtual-ip 10.77.0.5\n  zoisite components fetch\n  zoisite raise\n  zoisite verify\n\n\
                  Exit status: 0 done, 1 a run failed, 2 wrong usage or invalid file, 3 findings, 4 refused by a safety rule."
)]
pub struct Cli {
    #[command(flatten)]
    pub options: Options,
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    New(new::NewArgs),
    Check(check::CheckArgs),
    Design(design::DesignArgs),
    Survey(survey::SurveyArgs),
    Paths(paths::PathsArgs),
    NetworkFiles(network_files::NetworkFilesArgs),
    Components(components::ComponentsArgs),
    FirstBoot(first_boot::FirstBootArgs),
    Login(login::LoginArgs),
    Pki(pki::PkiArgs),
    Files(files::FilesArgs),
    Sequence(sequence::SequenceArgs),
    Raise(raise::RaiseArgs),
    Retire(retire::RetireArgs),
    Strongbox(strongbox::StrongboxArgs),
    Encryption(encryption::EncryptionArgs),
    Uninstall(uninstall::UninstallArgs),
    Status(status::StatusArgs),
    Verify(verify::VerifyArgs),
    Drill(drill::DrillArgs),
    Snapshot(snapshot::SnapshotArgs),
    Defragment(defragment::DefragmentArgs),
    Backup(backup::BackupArgs),
    Tokens(tokens::TokensArgs),
    JoinFile(join_file::JoinFileArgs),
    Reports(reports::ReportsArgs),
    Mesh(mesh::MeshArgs),
    Access(access::AccessArgs),
    Monitoring(monitoring::MonitoringArgs),
    History(history::HistoryArgs),
    Demo(demo::DemoArgs),
    Manual(manual::ManualArgs),
    Completions(manual::CompletionsArgs),
}

/// What a new user needs first, in this order.
const FIRST: [&str; 9] =
    ["new", "check", "login", "survey", "components", "sequence", "raise", "verify", "status"];

/// Commands by the stage of a cluster's life.
const STAGES: [(&str, &[&str]); 9] = [
    ("Plan", &["new", "check", "design", "network-files"]),
    ("Reach hosts", &["login", "first-boot"]),
    ("Before the first raise", &["survey", "paths", "components"]),
    ("Deploy", &["sequence", "raise", "verify", "files", "demo"]),
    ("Operate", &["status", "history", "access", "monitoring", "mesh", "drill"]),
    ("Maintain", &["pki", "snapshot", "backup", "defragment", "encryption", "strongbox"]),
    ("Offline hosts", &["join-file", "reports", "tokens"]),
    ("Remove", &["retire", "uninstall"]),
    ("The program itself", &["manual", "completions", "help"]),
];

/// The program's arguments; its help shows commands by stage.
pub fn program() -> clap::Command {
    let command = Cli::command();
    let map = map(&command);
    command.help_template(format!(
        "{{about-with-newline}}\n{{usage-heading}} {{usage}}\n\n{map}\nOptions of every command:\n{{options}}{{after-help}}"
    ))
}

fn map(command: &clap::Command) -> String {
    let mut out = format!("Commands; begin with {}:\n", FIRST.join(", "));
    for (stage, names) in STAGES {
        out.push_str(&format!("\n{stage}:\n"));
        for name in names {
            let about = command.find_subcommand(name).and_then(|one| one.get_about());
            let about =
                about.map_or_else(|| "Show the help of a command".to_owned(), ToString::to_string);
            out.push_str(&format!("  {name:<14} {about}\n"));
        }
    }
    view::wrapped(&out, &console::Term::stdout())
}

/// Runs a command.
pub fn run(cli: Cli) -> Result<ExitCode, Failure> {
    let Cli { options, command } = cli;
    if options.events {
        view::events::enable();
    }
    match command {
        Command::New(args) => new::run(&args),
        Command::Check(args) => check::run(&options, &args),
        Command::Design(args) => design::run(&options, &args),
        Command::Survey(args) => survey::run(&options, &args),
        Command::Paths(args) => paths::run(&options, &args),
        Command::NetworkFiles(args) => network_files::run(&options, &args),
        Command::Components(args) => components::run(&options, &args),
        Command::FirstBoot(args) => first_boot::run(&options, &args),
        Command::Login(args) => login::run(&options, &args),
        Command::Pki(args) => pki::run(&options, &args),
        Command::Files(args) => files::run(&options, &args),
        Command::Sequence(args) => sequence::run(&options, &args),
        Command::Raise(args) if args.rehearse => rehearse::run(&options, &args),
        Command::Raise(args) => raise::run(&options, &args),
        Command::Retire(args) => retire::run(&options, &args),
        Command::Strongbox(args) => strongbox::run(&options, &args),
        Command::Encryption(args) => encryption::run(&options, &args),
        Command::Uninstall(args) => uninstall::run(&options, &args),
        Command::Status(args) => status::run(&options, &args),
        Command::Verify(args) => verify::run(&options, &args),
        Command::Drill(args) => drill::run(&options, &args),
        Command::Snapshot(args) => snapshot::run(&options, &args),
        Command::Defragment(args) => defragment::run(&options, &args),
        Command::Backup(args) => backup::run(&options, &args),
        Command::Tokens(args) => tokens::run(&options, &args),
        Command::JoinFile(args) => join_file::run(&options, &args),
        Command::Reports(args) => reports::run(&options, &args),
        Command::Mesh(args) => mesh::run(&options, &args),
        Command::Access(args) => access::run(&options, &args),
        Command::Monitoring(args) => monitoring::run(&options, &args),
        Command::History(args) => history::run(&options, &args),
        Command::Demo(args) => demo::run(&options, &args),
        Command::Manual(args) => manual::manual(&args, program()),
        Command::Completions(args) => manual::completions(&args, program()),
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn the_map_has_every_command_once() {
        let mut command = program();
        command.build();
        let all: BTreeSet<&str> = command.get_subcommands().map(|one| one.get_name()).collect();
        let shown: Vec<&str> = STAGES.iter().flat_map(|(_, names)| names.iter().copied()).collect();
        assert_eq!(shown.iter().copied().collect::<BTreeSet<_>>(), all);
        assert_eq!(shown.len(), all.len());
        assert!(FIRST.iter().all(|name| all.contains(name)));
    }
}
