//! How near a plan comes to what is packed then: `cargo bench --bench plan`, on the corpus of the speed bench.
//!
//! For each squeeze: the estimate against the real size (1 is exact), whether the real one lies in the range that the
//! plan was sure of, and planning's time against packing's.

#![allow(
    clippy::unwrap_used,
    dead_code,
    missing_docs,
    reason = "a bench stops at the first thing that is not as it should be"
)]

mod support;

use std::time::Instant;
use support::{lay_out_corpus, with_context};
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::formats::sealed::KeyCost;
use under_seal_core::ground::secrets::Password;
use under_seal_core::source::Choice;
use under_seal_core::tasks::pack::{Delivery, PackRequest, Target};
use under_seal_core::tasks::plan::{Outline, Plan};

const SQUEEZES: [Squeeze; 5] = Squeeze::ALL;

fn main() {
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let place = tempfile::tempdir().unwrap();
    let (sources, choice) = ([place.path().join("source")], Choice::default());
    lay_out_corpus(&sources[0]);
    let credentials = [Password::new("twelve panes").unwrap().into()];
    let target = Target { folder: place.path().join("out"), stem: "set".into() };
    let request = PackRequest::new(&sources, &choice, &target);
    let started = Instant::now();
    let (plan, _) = with_context(threads, |context| {
        Plan::make(Delivery::prepare(&request, context).unwrap().catalogue(), &SQUEEZES, request.fit, context).unwrap()
    });
    let planning = started.elapsed().as_secs_f64();
    for estimate in &plan.estimates {
        let target = Target { stem: format!("{:?}", estimate.squeeze).into(), ..target.clone() };
        let request = PackRequest { squeeze: estimate.squeeze, ..PackRequest::new(&sources, &choice, &target) };
        let started = Instant::now();
        let (packed, _) = with_context(threads, |context| {
            Delivery::prepare(&request, context).unwrap().pack(&credentials, KeyCost::CHEAPEST, context).unwrap()
        });
        let packing = started.elapsed().as_secs_f64();
        let real = packed.volumes[0].bytes as f64;
        let bytes = |stream| Outline::new(stream, request.fit, request.format).unwrap().bytes as f64;
        let range = bytes(estimate.stream_bytes.low)..=bytes(estimate.stream_bytes.high);
        println!(
            "{:8} estimate against packed {:.4}, in its range: {}; time foreseen against real {:.2}; planning took {:.2} of packing",
            format!("{:?}", estimate.squeeze),
            bytes(estimate.stream_bytes.likely) / real,
            range.contains(&real),
            estimate.seconds / packing,
            planning / packing
        );
    }
}
