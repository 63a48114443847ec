//! Hands what the fuzzer finds to `pgoutput`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| gossip_fuzz::pgoutput::run(data));
