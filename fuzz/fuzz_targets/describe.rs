//! Any text is read and laid out without a panic, laying out twice changes nothing, and a text that
//! is laid out has no mistakes.
//!
//!     cargo install cargo-fuzz && cargo fuzz run describe -- -max_total_time=60
#![no_main]

use handloom_core::language::parse;
use handloom_core::language::tidy;
use handloom_core::text::Diagnostic;
use handloom_core::text::SourceId;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let parsed = parse(SourceId(0), text);
    let wrong = parsed.diagnostics.iter().any(Diagnostic::is_error);
    match tidy(text) {
        None => assert!(wrong),
        Some(tidied) => {
            assert!(!wrong);
            assert_eq!(tidy(&tidied).as_deref(), Some(tidied.as_str()));
        }
    }
});
