use std::process::ExitCode;

use clap::Args;
use serde_json::json;
use zoisite_core::cluster::HostName;
use zoisite_core::holdings::Part;
use zoisite_core::script::Depth;
use zoisite_core::sequence::{Refusal, Rule};
use zoisite_reach::{Defragmented, DefragmentedMember, Hosts};
use zoisite_store::State;

use super::block_on;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::prepared::Prepared;
use crate::road::{self, Sighting};
use crate::site::{Site, begin_run, end_run};
use crate::view::{self, Style, bytes, table::ranked};

/// Defragment the databases of etcd's members, one at a time, and clear alarms
///
/// Deleted data leaves free space in a member's database, and the file never shrinks by itself. Each member in
/// turn rewrites its database. It serves no requests meanwhile, so the next one begins only when it agrees with
/// the others again; the leader hands over first and goes last. When etcd is out of space, its history is
/// compacted before, and the alarm is cleared at the end. A member with little to gain is skipped.
#[derive(Args, Debug)]
#[command(after_help = "Examples:\n  zoisite defragment\n  zoisite defragment --json")]
pub struct DefragmentArgs {}

pub fn run(options: &Options, _: &DefragmentArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    site.raised_state()?;
    let mut work = site.working()?;
    let run = begin_run(&mut work.state, "defragment")?;
    let done = block_on(defragment(&site, &mut work.state, run.generation))?;
    let outcome = match &done {
        Ok(done) => format!("{} won", bytes(won(done))),
        Err(failure) if failure.kind() == Kind::Refused => {
            format!("refused: {}", failure.summary())
        }
        Err(failure) => format!("failed: {}", failure.summary()),
    };
    end_run(&mut work.state, run, &outcome)?;
    let done = done?;
    if options.json {
        let members: Vec<_> = done
            .members
            .iter()
            .map(|one| json!({"host": one.host, "before": one.before, "after": one.after}))
            .collect();
        view::json(&json!({"members": members, "won": won(&done), "alarm_taken_back": done.room}));
    } else {
        view::out(&render(&done, Style::stdout()));
    }
    Ok(ExitCode::SUCCESS)
}

fn won(done: &Defragmented) -> i64 {
    done.members.iter().filter_map(|one| Some(one.before - one.after?)).sum()
}

fn render(done: &Defragmented, style: Style) -> String {
    let rows = done.members.iter().map(|DefragmentedMember { host, before, after }| {
        let (after, what) = match after {
            Some(after) => (bytes(*after), format!("{} won", bytes(before - after))),
            None => (bytes(*before), "little to win: left as it is".to_owned()),
        };
        vec![host.to_string(), bytes(*before), after, what]
    });
    let table = ranked(&[("member", 0), ("before", 1), ("after", 1), ("", 0)], rows);
    let alarm = match done.room {
        true => "; the alarm is cleared, and writes go through",
        false => "",
    };
    format!("{table}\n{} {} won{alarm}", style.good("✓"), bytes(won(done)))
}

async fn defragment(
    site: &Site,
    state: &mut State,
    generation: u64,
) -> Result<Defragmented, Failure> {
    let work = async |reach: &mut Hosts,
                      prepared: &mut Prepared,
                      scratch: &mut State,
                      sighting: &mut Sighting| {
        sighting.met()?;
        prepared.turn_to_what_stands(site, scratch, &sighting.looks)?;
        let voters = all_well(site, prepared)?;
        reach.set_access(road::etcd_access(site, state, &prepared.ledger)?);
        let tell = |what: String| view::note(&what);
        reach.defragment(&voters, &tell).await.map_err(|trouble| Failure::troubles([&trouble]))
    };
    let how = (&[Part::Etcd][..], Depth::Quick, generation);
    let (_, _, done) = road::visit(site, how, work).await?;
    Ok(done)
}

/// All that vote, where every one of them is well: one of them is away for a moment (rule S2).
fn all_well(site: &Site, prepared: &Prepared) -> Result<Vec<HostName>, Failure> {
    let refused = |found: String| {
        let fix = "bring the members back first: zoisite status says which do not serve".into();
        Failure::from(vec![Refusal { rule: Rule::OneAtATime, host: None, found, fix }])
    };
    let all = prepared.real.voters();
    let well: Vec<&str> = prepared.real.well().map(|member| member.name.as_str()).collect();
    let ailing: Vec<&str> =
        all.iter().map(|one| one.name.as_str()).filter(|name| !well.contains(name)).collect();
    if all.is_empty() {
        return Err(refused("no member gave the list of members".into()));
    }
    if !ailing.is_empty() {
        return Err(refused(format!(
            "{} is not known to be well, and another one would be away for a moment",
            view::names(&ailing)
        )));
    }
    all.iter()
        .map(|member| {
            site.known_host(&member.name).ok_or_else(|| {
                refused(format!("{} is a member, and the file has no such host", member.name))
            })
        })
        .collect()
}
