//! Hands what the fuzzer finds to `relay`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| gossip_fuzz::relay::run(data));
