//! Ranges of bytes, as requests name them.

use std::ops::Range;

/// The range of bytes that a header asks for: `bytes=5-`, `bytes=5-9` or `bytes=-9`. `None` for all; an error where no
/// byte lies in it. Of several ranges all is sent, as the standard allows (RFC 9110, 14.2).
pub(crate) fn range(asked: Option<&str>, bytes: u64) -> std::result::Result<Option<Range<u64>>, ()> {
    let Some(spec) = asked.and_then(|a| a.strip_prefix("bytes=")).filter(|s| !s.contains(',')) else {
        return Ok(None);
    };
    let Some((first, last)) = spec.trim().split_once('-') else { return Ok(None) };
    let found = match (first.parse::<u64>(), last.parse::<u64>()) {
        (Ok(first), Ok(last)) if first <= last => first..last.saturating_add(1).min(bytes),
        (Ok(first), Err(_)) if last.is_empty() => first..bytes,
        (Err(_), Ok(last)) if first.is_empty() => bytes.saturating_sub(last)..bytes,
        _ => return Ok(None),
    };
    if found.is_empty() { Err(()) } else { Ok(Some(found)) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_as_the_standard_has_them() {
        let of = |asked: &str| range(Some(asked), 100);
        assert_eq!(range(None, 100), Ok(None));
        assert_eq!(of("bytes=0-9"), Ok(Some(0..10)));
        assert_eq!(of("bytes=90-"), Ok(Some(90..100)));
        assert_eq!(of("bytes=-5"), Ok(Some(95..100)));
        assert_eq!(of("bytes=50-1000"), Ok(Some(50..100)));
        for none in ["bytes=100-", "bytes=200-300", "bytes=-0"] {
            assert_eq!(of(none), Err(()), "{none}");
        }
        for all in ["bytes=9-3", "bytes=a-b", "lines=1-2", "bytes=0-1,5-6", "bytes=18446744073709551616-"] {
            assert_eq!(of(all), Ok(None), "{all}");
        }
        assert_eq!(of("bytes=0-18446744073709551615"), Ok(Some(0..100)));
    }
}
