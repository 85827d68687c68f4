//! Certificates for 50 and 500 hosts against the cryptography alone: as many keys made and as many
//! signatures given, on all cores, in the same run.

#![allow(missing_docs, clippy::unwrap_used, reason = "a benchmark")]

#[path = "../tests/all/common/mod.rs"]
#[allow(dead_code, reason = "a benchmark uses a part of it")]
mod common;

use aws_lc_rs::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, EcdsaKeyPair};
use criterion::{Criterion, criterion_group, criterion_main};
use rayon::prelude::*;

use common::{Trust, at, workers};
use zoisite_core::pki::{Ledger, due, issue_all, wanted};

fn certificates(c: &mut Criterion) {
    for hosts in [50, 500] {
        let cluster = workers(hosts);
        let trust = Trust::new(&cluster, at("2026-11-23"));
        let ledger = Ledger { authorities: trust.ledger.authorities.clone(), entries: Vec::new() };
        let count = wanted(&cluster).len();
        let mut group = c.benchmark_group(format!("{hosts} hosts, {count} certificates"));
        group.sample_size(10);
        group.bench_function("issue", |b| {
            b.iter(|| {
                let dues = due(&wanted(&cluster), &ledger, at("2026-11-23"));
                let find = |kind| trust.authorities.iter().find(|a| a.certificate().kind == kind);
                issue_all(&dues, find, &trust.keys, at("2026-11-23")).unwrap()
            });
        });
        let random = aws_lc_rs::rand::SystemRandom::new();
        let signer = EcdsaKeyPair::generate(&ECDSA_P256_SHA256_ASN1_SIGNING).unwrap();
        let message = [7_u8; 500];
        group.bench_function("keys and signatures alone", |b| {
            b.iter(|| {
                (0..count)
                    .into_par_iter()
                    .map(|_| {
                        let key = EcdsaKeyPair::generate(&ECDSA_P256_SHA256_ASN1_SIGNING).unwrap();
                        (key, signer.sign(&random, &message).unwrap())
                    })
                    .collect::<Vec<_>>()
            });
        });
        group.finish();
    }
}

criterion_group!(benches, certificates);
criterion_main!(benches);
