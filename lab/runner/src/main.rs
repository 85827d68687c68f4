//! Runs the tests that need the lab's hosts, several labs beside each other.
//!
//! Which tests there are is asked of the test programs. Which of them run is in `lab/scenes.toml`: some in every run, the
//! others in turn by the number of commits, and those that a change touches. Tests that share a cluster run one after
//! another in the lane that has it. Each has a limit; what one printed is shown as it ends. One that waited in vain is
//! tried once more, alone. What was planned and did not run is a failure.

use std::path::PathBuf;
use std::process::ExitCode;
use std::time::{Duration, Instant};

use clap::Parser;

mod lanes;
mod speed;
mod table;

use lanes::{Ended, Lanes};
use table::{Durations, Plan, Program, Table};

/// Run the tests that need the lab
#[derive(Debug, Parser)]
struct Args {
    /// A test program with its package's folder, as FOLDER=PROGRAM; may be repeated
    #[arg(long = "program", value_name = "FOLDER=PROGRAM", required_unless_present = "page")]
    programs: Vec<String>,
    /// The table of scenes
    #[arg(long, value_name = "FILE", default_value = "lab/scenes.toml")]
    table: PathBuf,
    /// The program, by which one host is booted to measure the machine; without it hashing alone is measured
    #[arg(long, value_name = "PROGRAM")]
    zoisite: Option<PathBuf>,
    /// How many labs there are beside each other
    #[arg(long, value_name = "NUMBER", default_value_t = 2)]
    lanes: usize,
    /// How long it should take, in seconds: so much is planned of what is not in every run
    #[arg(long, value_name = "SECONDS", default_value_t = 1_400)]
    budget: u64,
    /// After how many seconds nothing more is begun [default: twice the budget]
    #[arg(long, value_name = "SECONDS")]
    until: Option<u64>,
    /// The number of this run: which of those in turn are due
    #[arg(long, value_name = "NUMBER", default_value_t = 0)]
    turn: u64,
    /// A file with the paths that were changed, a line each: what they touch runs too
    #[arg(long, value_name = "FILE")]
    changed: Option<PathBuf>,
    /// Where the durations of the last runs on this machine are kept
    #[arg(long, value_name = "FILE", default_value = "/var/cache/zoisite-ci/durations.json")]
    durations: PathBuf,
    /// Run those whose names have this text, whosever turn it is
    #[arg(long, value_name = "TEXT")]
    only: Vec<String>,
    /// Print what would run, and end
    #[arg(long)]
    list: bool,
    /// Print the page of the documentation, and end
    #[arg(long)]
    page: bool,
}

fn main() -> ExitCode {
    match run(&Args::parse()) {
        Ok(true) => ExitCode::SUCCESS,
        Ok(false) => ExitCode::FAILURE,
        Err(why) => {
            say(&format!("lab tests: {why}"));
            ExitCode::FAILURE
        }
    }
}

/// A line for whoever reads the log.
fn say(text: &str) {
    use std::io::Write as _;
    let mut stdout = std::io::stdout().lock();
    let _ = writeln!(stdout, "{text}");
    let _ = stdout.flush();
}

fn run(args: &Args) -> Result<bool, String> {
    let read = |path: &PathBuf| {
        std::fs::read_to_string(path).map_err(|error| format!("{}: {error}", path.display()))
    };
    let table = Table::parse(&read(&args.table)?)?;
    if args.page {
        say(table.page().trim_end());
        return Ok(true);
    }
    let programs = args.programs.iter().map(|text| Program::parse(text));
    let programs = programs.collect::<Result<Vec<Program>, String>>()?;
    let mut scenes = Vec::new();
    for program in &programs {
        scenes.extend(program.scenes()?);
    }
    let scenes = table.known(scenes)?;
    let changed = args.changed.as_ref().map(read).transpose()?.unwrap_or_default();
    let changed: Vec<&str> = changed.lines().collect();
    let mut durations = Durations::read(&args.durations);
    let boot = match (&args.zoisite, args.list) {
        (Some(zoisite), false) => Some(speed::boot(zoisite)?),
        _ => None,
    };
    let slowness = speed::measured().max(boot.unwrap_or(1.0));
    let plan = Plan::of(
        scenes,
        table::Choice {
            turn: args.turn,
            changed: &changed,
            only: &args.only,
            capacity: args.budget.saturating_mul(args.lanes as u64),
            slowness,
        },
        &durations,
    );
    say(&format!("this machine counts as {slowness:.1} times slower than a quiet one"));
    if let Some(boot) = boot {
        say(&format!("  by one host's boot {boot:.1} times"));
    }
    for scene in &plan.chosen {
        say(&format!("  runs   {} ({}; {} s)", scene.name, scene.why, scene.seconds));
    }
    for (name, why) in &plan.left {
        say(&format!("  not    {name} ({why})"));
    }
    if args.list {
        return Ok(true);
    }
    let began = Instant::now();
    let end = began + Duration::from_secs(args.until.unwrap_or(2 * args.budget));
    let lanes = Lanes::make(args.lanes, boot.unwrap_or(1.0))?;
    let ended = lanes.run(&plan.chosen, end);
    for one in ended.iter().filter(|one| one.passed()) {
        durations.learn(&one.name, one.took);
    }
    durations.write(&args.durations);
    Ok(report(&ended, began.elapsed()))
}

/// One table at the end: what ran and how long, and what came of it. What failed is said last: the end of a long log is what
/// one sees first.
fn report(ended: &[Ended], took: Duration) -> bool {
    say("");
    say(&format!("{:<8} {:>6}  {:<10} test", "came", "s", "cluster"));
    for one in ended {
        let cluster = if one.cluster.is_empty() { "its own" } else { &one.cluster };
        say(&format!("{:<8} {:>6}  {:<10} {}", one.outcome, one.took.as_secs(), cluster, one.name));
    }
    for one in ended.iter().filter(|one| one.outcome == lanes::Outcome::Flaky) {
        say(&format!("FLAKY: {} waited in vain at first, and passed alone", one.name));
    }
    for one in ended.iter().filter(|one| !one.passed()) {
        say(&format!("\n{}: {}\n{}", one.outcome, one.name, one.why));
    }
    let passed = ended.iter().filter(|one| one.passed()).count();
    let failed = ended.len() - passed;
    say(&format!("lab tests took {} s", took.as_secs()));
    say(&format!("lab: {passed} passed, {failed} failed"));
    failed == 0 && passed > 0
}
