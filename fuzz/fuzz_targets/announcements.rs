//! `cargo fuzz run announcements`; without a fuzzer, runs the files that it is given.
#![cfg_attr(fuzzing, no_main)]

#[cfg(fuzzing)]
libfuzzer_sys::fuzz_target!(|data: &[u8]| adzeman_fuzz::announcements(data));

#[cfg(not(fuzzing))]
fn main() -> std::io::Result<()> {
    adzeman_fuzz::run_files(adzeman_fuzz::announcements)
}
