use std::process::ExitCode;

use clap::{CommandFactory as _, Parser, Subcommand};

use crate::commands::{
    access, at_rest, check, components, copy, demo, drawing, drill, files, first_boot, history,
    join_file, joining, lan, letters, login, manual, mesh, monitoring, new, newcomers, open, paths,
    pki, raise, rehearse, retire, sequence, snapshot, status, strongbox, survey, take_back, tokens,
    upkeep, verify,
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
    after_help = "Example: a cluster from nothing\n  zoisite new saltmarsh 10.77.0.11-15 --floating 10.77.0.5\n  zoisite components fetch\n  zoisite raise\n  zoisite verify\n\n\
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
    Drawing(drawing::DrawingArgs),
    Survey(survey::SurveyArgs),
    Paths(paths::PathsArgs),
    Lan(lan::LanArgs),
    Components(components::ComponentsArgs),
    FirstBoot(first_boot::FirstBootArgs),
    Newcomers(newcomers::NewcomersArgs),
    Login(login::LoginArgs),
    Open(open::OpenArgs),
    Pki(pki::PkiArgs),
    Files(files::FilesArgs),
    Sequence(sequence::SequenceArgs),
    Raise(raise::RaiseArgs),
    Retire(retire::RetireArgs),
    Strongbox(strongbox::StrongboxArgs),
    AtRest(at_rest::AtRestArgs),
    TakeBack(take_back::TakeBackArgs),
    Status(status::StatusArgs),
    Verify(verify::VerifyArgs),
    Drill(drill::DrillArgs),
    Snapshot(snapshot::SnapshotArgs),
    Upkeep(upkeep::UpkeepArgs),
    Copy(copy::CopyArgs),
    Tokens(tokens::TokensArgs),
    JoinFile(join_file::JoinFileArgs),
    Letters(letters::LettersArgs),
    Joining(joining::JoiningArgs),
    Mesh(mesh::MeshArgs),
    Access(access::AccessArgs),
    Monitoring(monitoring::MonitoringArgs),
    History(history::HistoryArgs),
    Demo(demo::DemoArgs),
    Manual(manual::ManualArgs),
    Completions(manual::CompletionsArgs),
}

/// What a newcomer needs first, in this order.
const FIRST: [&str; 9] =
    ["new", "check", "login", "survey", "components", "sequence", "raise", "verify", "status"];

/// Commands by the stage of a cluster's life.
const STAGES: [(&str, &[&str]); 9] = [
    ("Plan", &["new", "check", "drawing", "lan"]),
    ("Reach hosts", &["login", "open", "first-boot", "newcomers"]),
    ("Before the first raise", &["survey", "paths", "components"]),
    ("Deploy", &["sequence", "raise", "verify", "files", "demo"]),
    ("Operate", &["status", "history", "access", "monitoring", "mesh", "drill"]),
    ("Maintain", &["pki", "snapshot", "upkeep", "at-rest", "copy", "strongbox"]),
    ("Offline hosts", &["join-file", "letters", "joining", "tokens"]),
    ("Remove", &["retire", "take-back"]),
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
            out.push_str(&format!("  {name:<12} {about}\n"));
        }
    }
    view::wrapped(&out, &console::Term::stdout())
}

/// Runs a command.
pub fn run(cli: Cli) -> Result<ExitCode, Failure> {
    let Cli { options, command } = cli;
    if options.events {
        view::events::tell_them();
    }
    match command {
        Command::New(args) => new::run(&args),
        Command::Check(args) => check::run(&options, &args),
        Command::Drawing(args) => drawing::run(&options, &args),
        Command::FirstBoot(args) => first_boot::run(&options, &args),
        Command::Newcomers(args) => newcomers::run(&options, &args),
        Command::Login(args) => login::run(&options, &args),
        Command::Open(args) => open::run(&options, &args),
        Command::Survey(args) => survey::run(&options, &args),
        Command::Paths(args) => paths::run(&options, &args),
        Command::Lan(args) => lan::run(&options, &args),
        Command::Components(args) => components::run(&options, &args),
        Command::Pki(args) => pki::run(&options, &args),
        Command::Files(args) => files::run(&options, &args),
        Command::Sequence(args) => sequence::run(&options, &args),
        Command::Raise(args) if args.rehearse => rehearse::run(&options, &args),
        Command::Raise(args) => raise::run(&options, &args),
        Command::Retire(args) => retire::run(&options, &args),
        Command::Strongbox(args) => strongbox::run(&options, &args),
        Command::AtRest(args) => at_rest::run(&options, &args),
        Command::TakeBack(args) => take_back::run(&options, &args),
        Command::Status(args) => status::run(&options, &args),
        Command::Verify(args) => verify::run(&options, &args),
        Command::Drill(args) => drill::run(&options, &args),
        Command::Snapshot(args) => snapshot::run(&options, &args),
        Command::Upkeep(args) => upkeep::run(&options, &args),
        Command::Copy(args) => copy::run(&options, &args),
        Command::JoinFile(args) => join_file::run(&options, &args),
        Command::Letters(args) => letters::run(&options, &args),
        Command::Joining(args) => joining::run(&options, &args),
        Command::Mesh(args) => mesh::run(&options, &args),
        Command::Tokens(args) => tokens::run(&options, &args),
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
