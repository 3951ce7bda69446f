#![no_main]

#[path = "../targets.rs"]
mod targets;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| targets::budgets(bytes));
