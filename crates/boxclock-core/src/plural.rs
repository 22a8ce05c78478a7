//! Counts in words.

/// A count of things, of which there may be one: `1 file`, `12 files`.
///
/// ```
/// assert_eq!(boxclock_core::many(1, "message"), "1 message");
/// assert_eq!(boxclock_core::many(0, "message"), "0 messages");
/// ```
pub fn many(count: impl TryInto<u64>, thing: &str) -> String {
    let count = count.try_into().unwrap_or(u64::MAX);
    let plural = if count == 1 { "" } else { "s" };
    format!("{count} {thing}{plural}")
}
