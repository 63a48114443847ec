//! Hands what the fuzzer finds to `configuration`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| gossip_fuzz::configuration::run(data));
