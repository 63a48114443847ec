//! Hands what the fuzzer finds to `arranged`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| gossip_fuzz::arranged::run(data));
