//! What may be lost on purpose, what forbids it, what a drill adds up to, and the scripts that hosts run.

use crate::common::{changed, host, saltmarsh};
use zoisite_core::cluster::{Cluster, DrillLimits, read};
use zoisite_core::drill::{
    Ask, Asked, By, Change, Dialled, Drill, DrillLine, Kind, Measured, NoDrill, Sight, Stands,
    Wanted, choose, fix_script, lose_script, picture, read_line, watch_script,
};
use zoisite_core::sequence::Rule;

fn stands() -> Stands {
    Stands { holder: Some(host("jetty-b")), leader: Some(host("egret")), ailing: Vec::new() }
}

fn wanted(kind: Kind) -> Wanted {
    Wanted { kind, host: None, from: None, by: None, seconds: None }
}

fn at(kind: Kind, name: &str) -> Wanted {
    Wanted { host: Some(host(name)), ..wanted(kind) }
}

#[test]
fn who_it_is_about_follows_from_how_things_stand() {
    let cluster = saltmarsh();
    let chosen = |wanted: Wanted| choose(&cluster, &stands(), &wanted).unwrap();
    for (kind, name, by) in [
        (Kind::Holder, "jetty-b", By::Cut),
        (Kind::LoadBalancer, "jetty-a", By::Stop),
        (Kind::ApiServer, "curlew", By::Stop),
        (Kind::Leader, "egret", By::Stop),
        // Not the one that leads.
        (Kind::Member, "heron", By::Stop),
        (Kind::ControlPlane, "curlew", By::Cut),
        (Kind::Worker, "tern-1", By::Cut),
    ] {
        let drill = chosen(wanted(kind));
        assert_eq!((drill.host, drill.by), (host(name), by), "{kind:?}");
    }
    let link = Wanted { from: Some(host("heron")), ..at(Kind::Link, "egret") };
    let link = chosen(link);
    assert_eq!(link.title(), "egret gets no packets from heron for 20 s");
    assert!(!link.isolates(&host("egret")), "the others hear it");
    let reboot = chosen(Wanted { by: Some(By::Reboot), ..at(Kind::Worker, "tern-2") });
    assert!(reboot.isolates(&host("tern-2")) && !reboot.isolates(&host("tern-1")));
    assert_ne!(reboot.key(), chosen(at(Kind::Worker, "tern-2")).key(), "compared with its like");
}

#[test]
fn what_makes_no_sense_is_told_with_what_would() {
    let cluster = saltmarsh();
    let wrong = |wanted: Wanted| match choose(&cluster, &stands(), &wanted) {
        Err(NoDrill::Wrong(what, fix)) => format!("{what}: {fix}"),
        other => panic!("{other:?}"),
    };
    let says = wrong(at(Kind::Holder, "jetty-a"));
    assert!(says.contains("it is jetty-b that holds the virtual IP now"), "{says}");
    let says = wrong(at(Kind::Member, "egret"));
    assert!(says.contains("egret is not an etcd member that follows"), "{says}");
    let says = wrong(at(Kind::Worker, "heron"));
    assert!(says.contains("one of tern-1, tern-2, tern-3"), "{says}");
    let says = wrong(Wanted { by: Some(By::Cut), ..wanted(Kind::ApiServer) });
    assert!(says.contains("cannot be lost by cut: ways to lose it: stop"), "{says}");
    let says = wrong(at(Kind::Link, "egret"));
    assert!(says.contains("two ends"), "{says}");
    let says = wrong(Wanted { from: Some(host("egret")), ..at(Kind::Link, "egret") });
    assert!(says.contains("have no link"), "{says}");
    let says = wrong(Wanted { from: Some(host("egret")), ..at(Kind::Worker, "tern-1") });
    assert!(says.contains("one host is lost"), "{says}");
    let without = read(&changed("virtual-ip = \"10.77.0.5\"\n", "")).cluster.unwrap();
    let none = choose(&without, &stands(), &wanted(Kind::Holder));
    assert!(matches!(none, Err(NoDrill::Wrong(what, _)) if what.contains("no virtual IP")));
}

fn refused(cluster: &Cluster, stands: &Stands, wanted: &Wanted) -> Vec<Rule> {
    match choose(cluster, stands, wanted) {
        Err(NoDrill::Refused(refusals)) => {
            refusals.into_iter().map(|refusal| refusal.rule).collect()
        }
        other => panic!("{other:?}"),
    }
}

#[test]
fn nothing_is_lost_that_cannot_be_spared() {
    let cluster = saltmarsh();
    let ailing = Stands { ailing: vec!["tern-3: the node is not Ready".into()], ..stands() };
    assert_eq!(refused(&cluster, &ailing, &wanted(Kind::Holder)), [Rule::OneAtATime]);
    // Nobody leads, just after a leader was lost: that is one more loss, and told with what is lost already.
    let off = Stands { leader: None, ailing: vec!["ibis: it does not answer".into()], ..stands() };
    let told = |stands: &Stands, kind| match choose(&cluster, stands, &wanted(kind)) {
        Err(NoDrill::Refused(refusals)) if refusals[0].rule == Rule::OneAtATime => {
            refusals[0].found.clone()
        }
        other => panic!("{other:?}"),
    };
    let both =
        "something is lost already: ibis: it does not answer; no host leads the etcd members now";
    assert_eq!(told(&off, Kind::Leader), both);
    let held = "no host holds the virtual IP 10.77.0.5";
    let nobody = Stands { holder: None, ailing: vec![held.into()], ..stands() };
    assert_eq!(told(&nobody, Kind::Holder), format!("something is lost already: {held}"));
    // A lone member, a lone API server, a lone load balancer; and a host that is all of them is refused for each.
    let text = changed("members = [\"heron\", \"egret\", \"ibis\"]", "members = [\"curlew\"]")
        .replace("hosts = [\"curlew\", \"plover\", \"sandpiper\"]", "hosts = [\"curlew\"]")
        .replace("hosts = [\"jetty-{a,b}\"]", "hosts = [\"curlew\"]");
    let reading = read(&text);
    let alone = reading.cluster.unwrap_or_else(|| panic!("{:?}", reading.findings));
    let stands =
        Stands { holder: Some(host("curlew")), leader: Some(host("curlew")), ailing: vec![] };
    assert_eq!(refused(&alone, &stands, &wanted(Kind::Leader)), [Rule::QuorumFirst]);
    assert_eq!(refused(&alone, &stands, &wanted(Kind::ApiServer)), [Rule::OneAtATime]);
    assert_eq!(
        refused(&alone, &stands, &wanted(Kind::ControlPlane)),
        [Rule::QuorumFirst, Rule::OneAtATime, Rule::OneAtATime]
    );
    // Three members spare what one of them hears of another.
    let link = Wanted { from: Some(host("heron")), ..at(Kind::Link, "egret") };
    assert!(choose(&cluster, &self::stands(), &link).is_ok());
}

fn asked(ask: Ask, at: i64, took: i64, fault: Option<&str>) -> Asked {
    Asked { ask, from: host("tern-1"), at, took, fault: fault.map(ToOwned::to_owned) }
}

/// Asked every second for ten; between 2 and 5 nobody answers, and at 7 somebody is slow.
fn measured() -> Measured {
    let mut all: Vec<Asked> = (-2..10)
        .map(|second| match second {
            2..5 => asked(Ask::Read, second * 1_000, 900, Some("no answer")),
            7 => asked(Ask::Read, 7_000, 1_500, None),
            _ => asked(Ask::Read, second * 1_000, 10, None),
        })
        .collect();
    all.push(asked(Ask::Dial, 0, 3, None));
    let change = |at, of, is: &str| Change { at, of, is: is.to_owned() };
    Measured {
        drill: choose(&saltmarsh(), &stands(), &wanted(Kind::Holder)).unwrap(),
        began: "2026-11-26T12:00:00Z".parse().unwrap(),
        asked: all,
        changes: vec![
            change(-1_900, Sight::Holder, "jetty-b"),
            change(2_000, Sight::Holder, ""),
            change(4_500, Sight::Holder, "jetty-a <b>"),
        ],
        fixed: Some(8_000),
        whole: Some(9_000),
        left: None,
        lost_writes: Vec::new(),
    }
}

#[test]
fn gaps_failures_and_slow_answers_are_added_up() {
    let measured = measured();
    let sums = measured.sums();
    assert_eq!(sums.iter().map(|sum| sum.ask).collect::<Vec<_>>(), [Ask::Dial, Ask::Read]);
    let read = &sums[1];
    assert_eq!((read.asked, read.failed, read.slow), (12, 3, 1));
    // From the last answer before to the first one after.
    assert_eq!((read.gap_at, read.longest_gap), (1_010, 4_000));
    let moments: Vec<String> =
        measured.moments().into_iter().map(|(at, what)| format!("{at} {what}")).collect();
    for moment in [
        "0 jetty-b is cut off",
        "2000 no host holds the virtual IP",
        "5010 read is answered again, after 4.0 s",
        "8000 what was lost is given back",
        "9000 all is as before",
    ] {
        assert!(moments.iter().any(|told| told == moment), "{moment}: {moments:#?}");
    }
    assert!(!moments.iter().any(|told| told.contains("went unanswered")), "all within the gap");
    let mut late = measured.clone();
    late.asked.push(asked(Ask::Read, 6_500, 900, Some("no answer")));
    let last = (6_500, "the last of 4 that went unanswered: read".to_owned());
    assert!(late.moments().contains(&last), "{:#?}", late.moments());
    // A gap that does not end counts too.
    let mut silent = measured;
    silent.asked.retain(|asked| asked.at < 5_000);
    assert_eq!(silent.sums()[1].longest_gap, 4_900 - 1_010);
}

#[test]
fn limits_of_the_file_are_held_against_it() {
    let file = changed(
        "[login]",
        "[drill]\nlongest-gap = \"3s\"\nrecovered-within = \"800ms\"\n\n[login]",
    );
    let limits = read(&file).cluster.unwrap().drill;
    assert_eq!(limits, DrillLimits { longest_gap: Some(3_000), recovered_within: Some(800) });
    let beyond = measured().beyond(&limits);
    assert_eq!(beyond.len(), 2, "{beyond:?}");
    assert!(beyond[0].starts_with("read: 4.0 s without an answer"), "{beyond:?}");
    assert!(beyond[1].contains("1.0 s after the loss ended"), "{beyond:?}");
    assert!(measured().beyond(&DrillLimits::default()).is_empty());
    // What must never be needs no limit.
    let never =
        Measured { whole: None, lost_writes: vec![7], left: Some("egret".into()), ..measured() };
    let beyond = never.beyond(&DrillLimits::default());
    assert!(beyond[0].contains("not all is as before: egret"), "{beyond:?}");
    assert!(beyond[1].contains("1 of the writes"), "{beyond:?}");
    let bad = read(&file.replace("\"3s\"", "\"soon\"").replace("800ms", "2h"));
    assert_eq!(
        bad.findings.iter().filter(|f| f.code == "bad-time").count(),
        2,
        "{:?}",
        bad.findings
    );
}

#[test]
fn it_is_compared_with_the_last_of_its_kind_at_its_own_place_if_there_was_one() {
    let of = |kind: Kind, name: &str, began: i64| {
        let drill = Drill { kind, host: host(name), by: By::Stop, ..measured().drill };
        let began = jiff::Timestamp::from_second(began).unwrap();
        Measured { drill, began, ..measured() }
    };
    let earlier = [
        of(Kind::Member, "egret", 100),
        of(Kind::Member, "ibis", 200),
        of(Kind::Leader, "heron", 300),
    ];
    let before = |kind, name| of(kind, name, 400).before(&earlier).map(|earlier| earlier.began);
    // Who leads has changed, and another member follows: it is the same loss to whoever asks.
    assert_eq!(before(Kind::Member, "heron"), Some(earlier[1].began));
    assert_eq!(before(Kind::Member, "egret"), Some(earlier[0].began));
    assert_eq!(before(Kind::LoadBalancer, "heron"), None);
    let cut = Measured { drill: Drill { by: By::Cut, ..earlier[2].drill.clone() }, ..measured() };
    assert_eq!(cut.before(&earlier), None, "another way to lose it");
    let hears = |from| Some(host(from));
    let link = Drill { kind: Kind::Link, from: hears("ibis"), ..earlier[0].drill.clone() };
    let other = Drill { from: hears("heron"), ..link.clone() };
    let [link, other] = [link, other].map(|drill| Measured { drill, ..measured() });
    assert_eq!(link.before([&other]), None, "another link is another loss");
    assert_eq!(link.before([&other, &link]), Some(&link));
}

#[test]
fn what_was_measured_is_drawn_and_kept_as_it_is() {
    let measured = measured();
    let svg = picture(&measured, "saltmarsh & sons");
    assert!(svg.starts_with("<svg ") && svg.ends_with("</svg>\n"));
    assert!(svg.contains("saltmarsh &amp; sons · jetty-b is cut off"), "{svg}");
    assert!(svg.contains("jetty-a &lt;b&gt;") && !svg.contains("<b>"), "{svg}");
    let kept = serde_json::to_string(&measured).unwrap();
    assert_eq!(serde_json::from_str::<Measured>(&kept).unwrap(), measured);
}

#[test]
fn each_loss_is_a_script_of_its_own() {
    let cluster = saltmarsh();
    let script = |drill: &Drill| lose_script(&cluster, drill, 7);
    let chosen = |wanted: Wanted| choose(&cluster, &stands(), &wanted).unwrap();
    let stop = script(&chosen(wanted(Kind::Leader)));
    assert!(stop.contains("\nlose_unit zoisite-etcd.service 20\n"), "{stop}");
    let cut = script(&chosen(wanted(Kind::Holder)));
    assert!(cut.contains("\nlose_network 10.77.0.32 22 20 10.77.0.5 ''\n"), "{cut}");
    let link = script(&chosen(Wanted { from: Some(host("heron")), ..at(Kind::Link, "egret") }));
    assert!(link.contains("\nlose_network 10.77.0.12 22 20 10.77.0.5 10.77.0.11\n"), "{link}");
    let reboot = script(&chosen(Wanted { by: Some(By::Reboot), ..wanted(Kind::Worker) }));
    assert!(reboot.contains("\nlose_machine\n"), "{reboot}");
    for text in [&stop, &cut] {
        assert!(text.contains("\nlock 7\n"), "one hand at a time");
    }
    assert!(fix_script(&host("egret"), 7).contains("\nfix_drill\n"));
    let to = cluster.control_plane.endpoint.clone();
    let watch = watch_script(&host("egret"), 60, cluster.load_balancers.virtual_ip, &[to]);
    assert!(watch.contains("\nwatch 60 10.77.0.5 api.saltmarsh.example 6443\n"), "{watch}");
}

#[test]
fn who_watches_is_understood_and_noise_is_not() {
    assert_eq!(read_line("@\tclock\t1000"), Some(DrillLine::Clock(1_000)));
    assert_eq!(read_line("@\theld\t1005\tyes"), Some(DrillLine::Held(1_005, true)));
    let dialled = Dialled { which: 1, span: (10, 12), fault: None };
    assert_eq!(read_line("@\tdialled\t1\t10\t12"), Some(DrillLine::Dialled(dialled)));
    let refused = Dialled { which: 0, span: (1, 3), fault: Some("Connection refused".into()) };
    assert_eq!(
        read_line("@\tdialled\t0\t1\t3\tConnection refused"),
        Some(DrillLine::Dialled(refused))
    );
    for noise in ["", "@", "@\tbeat\t1", "Welcome to egret", "@\tdialled\tx\t1\t3", "@\tclock\tnow"]
    {
        assert_eq!(read_line(noise), None, "{noise}");
    }
}
