//! The hidden folder in which a run makes its results, beside the place that they are for.

use std::fs::File;
use std::path::Path;

use tempfile::TempDir;

use crate::{Error, Result};

/// What names of such folders begin with.
const PREFIX: &str = ".bothros-";

/// Name of the file that is locked while the run lives.
const LOCK: &str = "lock";

/// A folder of a run; it goes when this goes.
pub(super) struct Workplace {
    dir: TempDir,
    /// the system takes it back from a process that ends, however it ends
    _lock: File,
}

impl Workplace {
    /// Makes a folder in `parent`, and removes those that runs which were killed have left there.
    ///
    /// # Errors
    /// [`Error::Write`] where it cannot be made.
    pub fn begin(parent: &Path) -> Result<Self> {
        clear(parent);
        let dir = tempfile::Builder::new()
            .prefix(PREFIX)
            .tempdir_in(parent)
            .map_err(|e| Error::write(parent, e))?;
        // It is locked before it has its name: what has a lock that is free belongs to nobody.
        let (unnamed, path) = (dir.path().join("unnamed"), dir.path().join(LOCK));
        let lock = File::create(&unnamed).map_err(|e| Error::write(&unnamed, e))?;
        // Some file systems know no locks; nothing is cleared there.
        if lock.try_lock().is_ok() {
            std::fs::rename(&unnamed, &path).map_err(|e| Error::write(&path, e))?;
        }
        Ok(Self { dir, _lock: lock })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        self.dir.path()
    }
}

/// Removes what killed runs have left.
fn clear(parent: &Path) {
    // What cannot be looked at or removed harms no run; that the folder cannot be written to is told when it is.
    let Ok(entries) = std::fs::read_dir(parent) else { return };
    for entry in entries.flatten().filter(|e| e.file_name().to_string_lossy().starts_with(PREFIX)) {
        let Ok(lock) = File::open(entry.path().join(LOCK)) else { continue };
        if lock.try_lock().is_ok() {
            let _ = std::fs::remove_dir_all(entry.path());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_killed_run_left_goes_and_what_lives_stays() {
        let parent = tempfile::tempdir().unwrap();
        let lives = Workplace::begin(parent.path()).unwrap();
        // The lock of a process that was killed is free.
        let left = parent.path().join(".bothros-left");
        std::fs::create_dir(&left).unwrap();
        std::fs::write(left.join(LOCK), "").unwrap();
        std::fs::write(left.join("ground.tif"), "half").unwrap();
        // Nobody knows whose this is.
        let other = parent.path().join(".bothros-of-somebody");
        std::fs::create_dir(&other).unwrap();
        let next = Workplace::begin(parent.path()).unwrap();
        assert!(!left.exists() && other.exists());
        assert!(lives.path().exists() && next.path() != lives.path());
        let path = next.path().to_owned();
        drop(next);
        assert!(!path.exists());
    }
}
