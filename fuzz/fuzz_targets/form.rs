//! Any bytes as a form, and any text as a typed number: what is let in can be kept, and is finite.
#![no_main]

use bothros_web::{fields, typed_number};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    if let Ok(all) = fields(data) {
        for (key, value) in all {
            assert!(!value.contains('\0') && value.chars().count() <= 1 << 20, "{key}");
            if let Ok(number) = typed_number(&value, &key) {
                assert!(number.is_finite());
            }
        }
    }
    if let Ok(text) = std::str::from_utf8(data)
        && let Ok(number) = typed_number(text, "it")
    {
        assert!(number.is_finite());
    }
});
