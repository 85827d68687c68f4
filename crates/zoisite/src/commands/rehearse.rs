//! A raise on simulated hosts.

use std::fs;
use std::path::Path;
use std::process::ExitCode;
use std::sync::{Arc, Mutex, PoisonError};

use zoisite_core::cluster::HostName;
use zoisite_core::holdings::Part;
use zoisite_core::item::{ComponentSums, KeyText};
use zoisite_core::join_file::windows::{Brought, acts as windows_acts};
use zoisite_core::pki::{AuthorityKind, Secret, SecretRef};
use zoisite_core::script::Depth;
use zoisite_core::sequence::Engine;
use zoisite_reach::{Reach as _, Sighted, WindowsMachine, World};

use super::Time;
use super::raise::{Ground, RaiseArgs, Run, accepted, recorded, simulated_sums};
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::prepared::prepare;
use crate::road;
use crate::site::{Site, now};
use crate::view::{self, Style};

/// A raise on simulated hosts, with a store of theirs: nothing else is touched.
pub fn run(options: &Options, args: &RaiseArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let accept = &accepted(&site, &args.accept)?;
    let passing = tempfile::tempdir()
        .map_err(|e| Failure::file("making a folder in", &std::env::temp_dir(), &e))?;
    let folder = args.stage.as_deref().unwrap_or(passing.path());
    fs::create_dir_all(folder).map_err(|e| Failure::file("making", folder, &e))?;
    let seen = match args.as_they_are {
        true => Some(super::block_on(as_they_are(&site, args, folder))??),
        false => None,
    };
    let site = site.on_stage(folder);
    let file = folder.join("hosts.json");
    let mut world = match fs::read(&file) {
        _ if seen.is_some() => seen.unwrap_or_default(),
        Ok(text) => serde_json::from_slice(&text).map_err(|error| {
            let what = format!("{} holds no simulated hosts: {error}", file.display());
            Failure::new(Kind::Usage, what, "name another folder with --stage")
        })?,
        Err(_) => World::default(),
    };
    world.set_clock(now());
    world.switch_on(site.cluster.hosts.iter().map(|h| (h.name.clone(), h.address)));
    let before = world.operations();
    let mishaps = args.mishaps.map(|seed| world.go_wrong(seed));
    let world = Arc::new(Mutex::new(world));
    let ended = rehearse_on(&site, options, args, accept, (&world, Time::Virtual));
    if let Some(mishaps) = mishaps {
        let mut world = world.lock().unwrap_or_else(PoisonError::into_inner);
        if !options.json {
            tell_story(&world, before, &mishaps);
        }
        world.is_whole_again();
    }
    let text = serde_json::to_vec(&*world.lock().unwrap_or_else(PoisonError::into_inner)).map_err(
        |e| Failure::new(Kind::Run, format!("writing {}: {e}", file.display()), "report this"),
    )?;
    fs::write(&file, text).map_err(|e| Failure::file("writing", &file, &e))?;
    let ended = ended.and_then(|status| windows(&site, options).map(|()| status));
    if !options.json {
        view::note(&match &args.stage {
            None => "this was a rehearsal: no host was touched, and nothing was stored".to_owned(),
            Some(stage) => format!(
                "this was a rehearsal: no host was touched; the simulated ones are in {}",
                stage.display()
            ),
        });
    }
    ended
}

/// The join files of hosts that run Windows, carried out by a machine that only says that it does: whole, and once more.
fn windows(site: &Site, options: &Options) -> Result<(), Failure> {
    if site.cluster.windows().next().is_none() {
        return Ok(());
    }
    let mut scratch = site.scratch()?;
    let prepared = prepare(site, &mut scratch, Part::ALL)?;
    let all = prepared.offline(site, &mut scratch, None)?;
    let authority = prepared.ledger.bundle(AuthorityKind::Cluster).unwrap_or_default();
    for (host, _) in site.cluster.windows() {
        let Some(own) = all.host(&host.name).and_then(|holds| holds.windows.as_ref()) else {
            continue;
        };
        // What the programs are does not matter here.
        let mut sums = ComponentSums::default();
        for pinned in own.programs() {
            sums.insert(pinned.path_on_windows(), "0".repeat(64));
        }
        let brought = Brought { sums: &sums, from: None, authority: &authority };
        let keys = site.keys_of_windows(own, &mut scratch, site.strongbox()?)?;
        let open = |secret: &SecretRef| match secret {
            // One is made when a file is written, and published then.
            SecretRef::JoinToken(_) => Some(Secret::new("rehear.sedonly000000000".into())),
            kept => keys.get(kept).cloned(),
        };
        let failed = |why: String| {
            Failure::new(
                Kind::Run,
                format!("rehearsing the join file of {}: {why}", host.name),
                "report this, please",
            )
        };
        let acts = windows_acts(own, brought, KeyText::Opened(&open)).map_err(failed)?;
        let mut machine = WindowsMachine::default();
        let changed = machine.carry_out(&acts).map_err(failed)?;
        let again = machine.carry_out(&acts).map_err(failed)?;
        if again > 0 {
            return Err(failed(format!("done again, it changed {again} things")));
        }
        if !options.json {
            view::say(&format!(
                "{} {}, which runs Windows: its join file was carried out on a simulated machine, {}, {} run",
                Style::stderr().good("✓"),
                host.name,
                view::count(changed, "thing"),
                machine.services().collect::<Vec<_>>().join(", ")
            ));
        }
    }
    Ok(())
}

/// Simulated hosts that begin as the real ones are, with a copy of the store in `folder`: what is rehearsed then goes
/// on from there. Nothing is changed on hosts, nor in the store itself.
async fn as_they_are(site: &Site, args: &RaiseArgs, folder: &Path) -> Result<World, Failure> {
    site.raised_state()?;
    site.copy_store(folder)?;
    let mut scratch = site.scratch()?;
    let mut prepared = prepare(site, &mut scratch, &args.parts.chosen())?;
    let mut reach = road::hosts(site, &prepared.departed, 0)?;
    let how = (Depth::Quick, &[][..]);
    let found = async {
        let mut found = road::sighting(site, &mut scratch, &mut reach, &mut prepared, how).await?;
        found.met()?;
        let holdings = prepared.held_as_it_stands(site, &mut scratch, &found.looks)?;
        // Of a member that the file does not name any more only what is left of it was looked at.
        let named = |host: &HostName| site.cluster.etcd.members.contains(host);
        for host in holdings.hosts.iter().filter(|one| one.etcd.is_some() && !named(&one.host)) {
            let look = reach.observe(host, Depth::Quick).await;
            found.looks.insert(host.host.clone(), look);
        }
        Ok::<_, Failure>((found, holdings))
    };
    let found = found.await;
    reach.close().await;
    let (found, holdings) = found?;
    for trouble in found.troubles() {
        view::note(&format!("{trouble}: it has no power in this rehearsal"));
    }
    let keys = site.keys_on_hosts(&mut scratch, &holdings)?;
    let sighted = Sighted {
        cluster: &site.cluster,
        holdings: &holdings,
        looks: &found.looks,
        api: &found.api,
        objects: &prepared.objects,
        shelf: &prepared.shelf,
        keys: &|secret| keys.get(secret).cloned(),
    };
    Ok(World::as_seen(sighted, now()))
}

/// What went wrong in a rehearsal, and what became of it.
fn tell_story(world: &World, before: u64, mishaps: &[String]) {
    let style = Style::stderr();
    let all = world.operations() - before;
    view::say(&format!("\n{}", style.bold(&format!("what went wrong, in {all} operations"))));
    for mishap in mishaps {
        view::say(&format!("  {mishap}"));
    }
    let writes = world.acknowledged();
    match world.broken() {
        [] => view::say(&format!(
            "{} no safety rule was broken, and none of {writes} writes that etcd acknowledged was lost",
            style.good("✓")
        )),
        broken => {
            for how in broken {
                view::say(&style.bad(&format!("broken: {how}")));
            }
        }
    }
    view::say(
        "all hosts have power again; with --stage the same command goes on from here. Not modelled: \
         kernels, pods, slow disks, names and routes of the site's",
    );
}

/// A raise on simulated hosts, with the site's store.
pub fn rehearse_on(
    site: &Site,
    options: &Options,
    args: &RaiseArgs,
    accept: &[HostName],
    (world, time): (&Arc<Mutex<World>>, Time),
) -> Result<ExitCode, Failure> {
    let mut work = site.working()?;
    recorded(&mut work.state, "raise, rehearsed", |state, record| {
        super::block_on_time(time, async {
            // What real hosts hold is held against what is really pinned.
            let sums = match args.as_they_are {
                true => site.sums()?,
                false => ComponentSums::default(),
            };
            let mut run = Run::new(site, options, args, accept, (sums, record))?;
            run.stages(state, None, &mut Ground::World(world)).await
        })?
    })
}

/// Raises on simulated hosts in no time, and prints nothing.
pub fn on_world(site: &Site, world: &Arc<Mutex<World>>) -> Result<(), Failure> {
    let mut work = site.working()?;
    let mut draft = site.draft()?;
    let mut prepared = prepare(site, &mut draft, Part::ALL)?;
    super::block_on_time(Time::Virtual, async {
        let mut looking = road::rehearsal(world, site.no_contents(), 1);
        let how = (Depth::Quick, &[][..]);
        let mut found = road::sighting(site, &mut draft, &mut looking, &mut prepared, how).await?;
        let pins = found.met()?;
        let sums = simulated_sums(&prepared);
        let sequence = found.plan(&prepared, &sums, &[], 300)?;
        prepared.keep(site, &mut draft, &found.looks, &pins)?;
        drop(draft);
        let contents =
            site.contents((&prepared.cluster, &sequence), &mut work.state, site.strongbox()?)?;
        let reach = road::rehearsal(world, contents, 1);
        let mut engine = Engine::new(sequence, road::PARALLEL);
        let nobody = || std::future::pending();
        zoisite_reach::run(&mut engine, &reach, (nobody(), nobody()), &mut |_, _| {}).await;
        match engine.troubles().next() {
            None => Ok(()),
            Some(_) => Err(Failure::new(
                Kind::Run,
                "the rehearsed raise did not come to its end",
                "zoisite raise --rehearse shows where it stops",
            )),
        }
    })?
}
