//! What the program may take of its machine: memory, open files; and the processes that read files for it.

use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use anyhow::Context;
use bothros_core::memory;
use bothros_formats::{ReaderProcess, read_apart};
use bothros_recipe::Bytes;
use bothros_spill::Limit;
use bothros_workflow::GridCache;
use nix::sys::resource::{Resource, getrlimit, setrlimit};

/// Bytes for the grids of studies that are worked on.
static GRIDS: OnceLock<u64> = OnceLock::new();

/// Sets the memory for grids, MB; without a number, what the machine can spare.
pub fn set_room_for_grids(mb: Option<u64>) {
    let room = mb.map_or_else(|| (memory::limit() / 6).max(USUAL_GRIDS), |mb| mb.saturating_mul(1_000_000));
    // Set once, at the start.
    let _ = GRIDS.set(room);
}

/// The default minimum of memory for grids: a study of 81 million cells.
const USUAL_GRIDS: u64 = 700 << 20;

/// Memory for grids, as it was set.
pub fn grids() -> GridCache {
    GridCache::with_room(GRIDS.get().copied().unwrap_or(USUAL_GRIDS))
}

/// Sets the limit of memory, takes as many open files as are allowed, and has files read by processes of their own.
///
/// # Errors
/// Where it is not known which program this is.
pub fn apply(memory_mb: Option<u64>, reader_memory_mb: u64) -> anyhow::Result<()> {
    memory::set_limit(memory_mb.map_or_else(usual_limit, |mb| mb.saturating_mul(1_000_000)));
    let (_, most) = getrlimit(Resource::RLIMIT_NOFILE)?;
    // Each visitor takes one, and so does each file; the usual 1,024 are soon used up.
    setrlimit(Resource::RLIMIT_NOFILE, most, most)?;
    let program = std::env::current_exe().context("finding this program")?;
    read_files_with(program, reader_memory_mb);
    Ok(())
}

/// Most memory that this process may hold, bytes, where the rest is to lie on disk.
static HELD: OnceLock<u64> = OnceLock::new();

/// Sets the most memory that this process may hold; what does not fit lies on disk once [`hold`] has been called.
pub fn set_most_memory(bytes: Option<Bytes>) {
    if let Some(bytes) = bytes {
        let _ = HELD.set(bytes.0);
    }
}

/// Most memory that this process may hold, if it was set.
pub fn most_memory() -> Option<u64> {
    HELD.get().copied()
}

/// Share of a disk's room that may be taken by what does not fit memory; results need room too.
const OF_DISK: f64 = 0.85;

/// Holds to the most memory that was set, for as long as what is returned lives: what does not fit lies in files without
/// names in a directory.
///
/// # Errors
/// Where it cannot be kept there.
pub fn hold(directory: &Path) -> anyhow::Result<Option<Limit>> {
    let Some(bytes) = most_memory() else { return Ok(None) };
    let limit = Limit::begin(directory, bytes)
        .with_context(|| format!("--max-memory, in {}", directory.display()))?;
    let directory = directory.to_owned();
    memory::lies_on_disk(move || {
        let room = bothros_spill::room(&directory).unwrap_or(0);
        bytes + (room as f64 * OF_DISK) as u64
    });
    Ok(Some(limit))
}

/// How many visitors may be connected at a time: half of the files that may be open, since a request may open some.
pub fn connections() -> usize {
    let (now, _) = getrlimit(Resource::RLIMIT_NOFILE).unwrap_or((1024, 1024));
    usize::try_from(now / 2).unwrap_or(512).clamp(64, 4096)
}

/// Has files read by processes of the program `bothros` at a path.
pub fn read_files_with(program: PathBuf, memory_mb: u64) {
    let usual = ReaderProcess::new(program, vec!["read-file".into()]);
    read_apart(ReaderProcess { memory_bytes: memory_mb.saturating_mul(1_000_000), ..usual });
}

/// Three quarters of what the machine, or the group of processes that this one is in, has.
fn usual_limit() -> u64 {
    let machine = std::fs::read_to_string("/proc/meminfo").ok().and_then(|text| total_memory(&text));
    let group = ["/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"]
        .iter()
        .filter_map(|path| std::fs::read_to_string(path).ok()?.trim().parse::<u64>().ok())
        .min();
    match machine.into_iter().chain(group).min() {
        Some(bytes) => bytes / 4 * 3,
        // Where it cannot be told, nothing is refused.
        None => u64::MAX,
    }
}

/// Bytes of memory, from the text of /proc/meminfo.
fn total_memory(text: &str) -> Option<u64> {
    let line = text.lines().find_map(|l| l.strip_prefix("MemTotal:"))?;
    Some(line.trim().strip_suffix("kB")?.trim().parse::<u64>().ok()? * 1024)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_machine_tells_its_memory() {
        assert_eq!(total_memory("MemTotal:       24580000 kB\nMemFree: 1 kB\n"), Some(24_580_000 * 1024));
        assert_eq!(total_memory("nothing"), None);
        assert!(usual_limit() > 100_000_000);
    }
}
