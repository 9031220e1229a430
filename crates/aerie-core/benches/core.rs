//! The core's hot paths, for comparing one change with another: `cargo bench -p aerie-core`.

#![allow(clippy::unwrap_used, missing_docs, reason = "a benchmark that cannot go on fails")]

use aerie_core::audit::{AccessLog, LogClock};
use aerie_core::directory::Directory;
use aerie_core::policy::{Capability, Facts, Policy, Request, read};
use aerie_core::recording::{Compressor, DataKey, Encoder, Frame, Header};
use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use jiff::Timestamp;
use std::hint::black_box;
use std::sync::Arc;

fn decide(c: &mut Criterion) {
    let rules: String = (0..1000)
        .map(|n| {
            format!(
                "[[allow]]\nname = \"r{n}\"\npeople = \"group:g{}\"\nmachines = \"*\"\ncapabilities = [\"shell\"]\naccounts = [\"op\"]\n",
                n % 100
            )
        })
        .collect();
    let person = serde_json::from_value(serde_json::json!({ "name": "ines", "groups": ["g1"] })).unwrap();
    let machine = serde_json::from_value(serde_json::json!({ "name": "dome", "accounts": ["op"] })).unwrap();
    let policy = Policy::compile(read(&rules).unwrap(), Arc::new(Directory::new(vec![person], vec![machine])), Timestamp::UNIX_EPOCH);
    let request = Request {
        person: "ines",
        capability: Capability::Shell,
        machine: "dome",
        account: None,
        at: Timestamp::UNIX_EPOCH,
        from: None,
        facts: Facts::default(),
    };
    c.bench_function("decide among ten candidates", |b| b.iter(|| black_box(policy.decide(&request))));
}

fn log_line(c: &mut Criterion) {
    let line = b"Nov 23 22:00:00 dome-east sshd[7]: Failed password for invalid user admin from 203.0.113.9 port 4000 ssh2";
    let mut group = c.benchmark_group("log");
    group.throughput(Throughput::Bytes(line.len() as u64 + 1));
    let mut log = AccessLog::new("x", LogClock::of_year(jiff::tz::TimeZone::UTC, 2026));
    group.bench_function("failed login", |b| b.iter(|| log.handle_line(black_box(line), 0, |f| assert_eq!(black_box(f).account, "admin"))));
}

fn record(c: &mut Criterion) {
    let started = Timestamp::UNIX_EPOCH;
    let header = Header { session: "s".into(), person: "p".into(), machine: "m".into(), account: "a".into(), started, key: String::new() };
    let output: Vec<u8> = (0..32_768u32).map(|n| ((n * n) >> 7) as u8).collect();
    let mut group = c.benchmark_group("recording");
    group.throughput(Throughput::Bytes(output.len() as u64));
    let (mut encoder, _) = Encoder::new(&header, &DataKey::new([0; 32]));
    let mut compressor = Compressor::new().unwrap();
    group.bench_function("a packet of output", |b| {
        b.iter(|| {
            encoder.handle_frame(0, 1, &Frame::Output(output.clone()));
            black_box(encoder.poll_chunk(&mut compressor).unwrap());
        })
    });
}

criterion_group!(benches, decide, log_line, record);
criterion_main!(benches);
