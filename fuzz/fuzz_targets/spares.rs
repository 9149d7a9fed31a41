#![no_main]
libfuzzer_sys::fuzz_target!(|data: &[u8]| under_seal_fuzz::spares(data));
