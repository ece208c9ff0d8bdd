//! Carries out `yostel_testkit::fuzz::inventory` on whatever the fuzzer makes up.
#![no_main]
libfuzzer_sys::fuzz_target!(|data: &[u8]| yostel_testkit::fuzz::inventory(data));
