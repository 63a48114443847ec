//! Hands what the fuzzer finds to `cursors`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| gossip_fuzz::cursors::run(data));
