//! Hands what the fuzzer finds to `calls`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| gossip_fuzz::calls::run(data));
