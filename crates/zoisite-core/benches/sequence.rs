//! From the text of a cluster file to the sequence, for 500 and 5,000 hosts: reading and checking, the
//! certificates wanted, the blueprint, and the plan for hosts that hold nothing yet.

#![allow(missing_docs, clippy::unwrap_used, reason = "a benchmark")]

#[path = "../tests/common/mod.rs"]
mod common;

use criterion::{Criterion, criterion_group, criterion_main};

use common::{Trust, at, workers_text};
use zoisite_core::blueprint::{ComponentSums, Part, Sources, blueprint};
use zoisite_core::cluster::{Topology, read};
use zoisite_core::pki::{due, edges, wanted};
use zoisite_core::script::Observed;
use zoisite_core::sequence::{Looks, PlanInput, PlanOptions, plan};

fn sequence(c: &mut Criterion) {
    for hosts in [500, 5_000] {
        let text = workers_text(hosts);
        let cluster = read(&text).cluster.unwrap();
        let mut trust = Trust::new(&cluster, at("2026-11-23"));
        trust.issue(&cluster, at("2026-11-23"));
        let mut sums = ComponentSums::default();
        for file in ["etcd", "etcdctl"] {
            sums.insert(format!("etcd/3.6.16/linux-amd64/{file}"), "ab".repeat(32));
        }
        let bare = Observed { arch: "amd64".into(), init: "systemd".into(), ..Observed::default() };
        let looks: Looks =
            cluster.etcd.members.iter().map(|m| (m.clone(), Ok(bare.clone()))).collect();
        let mut group = c.benchmark_group(format!("{hosts} hosts"));
        group.sample_size(10);
        group.bench_function("check, certificates due, blueprint, sequence", |b| {
            b.iter(|| {
                let cluster = read(&text).cluster.unwrap();
                let topology = Topology::of(&cluster);
                let due = due(&wanted(&cluster), &trust.ledger, at("2026-11-23"));
                assert!(due.is_empty());
                let sources = Sources { ledger: &trust.ledger, cluster_id: "0123456789abcdef" };
                let blueprint = blueprint(&cluster, sources, Part::ALL).unwrap();
                let input = PlanInput {
                    cluster: &cluster,
                    blueprint: &blueprint,
                    looks: &looks,
                    sums: &sums,
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
