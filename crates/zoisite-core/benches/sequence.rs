//! From the text of a cluster file to the sequence, for 500 and 5,000 hosts: reading and checking, the
//! certificates wanted, the holdings, and the plan for hosts that hold nothing yet.

#![allow(missing_docs, clippy::unwrap_used, reason = "a benchmark")]

#[path = "../tests/all/common/mod.rs"]
#[allow(dead_code, reason = "a benchmark uses a part of it")]
mod common;

use criterion::{Criterion, criterion_group, criterion_main};

use common::{Known, Trust, at, workers_text};
use zoisite_core::cluster::{Topology, read};
use zoisite_core::holdings::{Part, holdings, node_wanted, objects};
use zoisite_core::item::ComponentSums;
use zoisite_core::pki::{due, edges, wanted};
use zoisite_core::script::Observed;
use zoisite_core::sequence::{ApiLook, Looks, PlanInput, PlanOptions, plan};

fn sequence(c: &mut Criterion) {
    for hosts in [500, 5_000] {
        let text = workers_text(hosts);
        let cluster = read(&text).cluster.unwrap();
        let mut trust = Trust::new(&cluster, at("2026-11-23"));
        trust.issue(&cluster, at("2026-11-23"));
        let mut sums = ComponentSums::default();
        let known = Known::of(&cluster);
        let sources = known.sources(&trust.ledger, "0123456789abcdef");
        let all = holdings(&cluster, sources, Part::ALL).unwrap();
        for component in all.hosts.iter().flat_map(|host| host.components()) {
            sums.insert(component.pinned.path("amd64"), "ab".repeat(32));
        }
        let bare = Observed { arch: "amd64".into(), init: "systemd".into(), ..Observed::default() };
        let looks: Looks =
            cluster.hosts.iter().map(|host| (host.name.clone(), Ok(bare.clone()))).collect();
        let mut group = c.benchmark_group(format!("{hosts} hosts"));
        group.sample_size(10);
        group.bench_function("check, certificates due, holdings, sequence", |b| {
            b.iter(|| {
                let cluster = read(&text).cluster.unwrap();
                let topology = Topology::of(&cluster);
                let due = due(&wanted(&cluster), &trust.ledger, at("2026-11-23"));
                assert!(due.is_empty());
                let sources = known.sources(&trust.ledger, "0123456789abcdef");
                let holdings = holdings(&cluster, sources, Part::ALL).unwrap();
                let nodes: Vec<_> = cluster
                    .nodes()
                    .iter()
                    .map(|host| node_wanted(&cluster, &host.name, &known.subnets[&host.name]))
                    .collect();
                let (next, real) = common::next(&cluster, &looks, None, true);
                let input = PlanInput {
                    cluster: &cluster,
                    aim: &common::stage(next),
                    real: &real,
                    holdings: &holdings,
                    looks: &looks,
                    sums: &sums,
                    api: &ApiLook::Absent,
                    objects: &objects(&cluster, &known.images),
                    shelf: &[],
                    nodes: &nodes,
                    tokens: &[],
                    accepted: &[],
                    identity: "0123456789abcdef",
                    begun: None,
                    marked: false,
                    departed: &Default::default(),
                    now: at("2026-11-23"),
                };
                (topology.tolerance, plan(input, PlanOptions::default()).unwrap())
            });
        });
        group.bench_function("edges listed", |b| b.iter(|| edges(&cluster).len()));
        group.finish();
    }
}

criterion_group!(benches, sequence);
criterion_main!(benches);
