//! The full-screen application.
/// Runs.
pub fn run(_case: boxclock_core::case::Case) -> std::io::Result<()> { Ok(()) }
