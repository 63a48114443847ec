//! Hands what the fuzzer finds to `query`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| gossip_fuzz::query::run(data));
