//! The directory for what is only needed for a while: uploads, files that are read or written for a job.
//!
//! Each process has one of its own, and removes it when it ends. What a process that was killed has left behind, the
//! next one removes.

use std::path::{Path, PathBuf};

use anyhow::Context;

const PREFIX: &str = "bothros-workflow-";

/// The directory of this process; it goes when this goes.
pub struct Scratch(PathBuf);

impl Scratch {
    /// Makes the directory of this process in `parent`, or in the system's place for such, and uses it from now on.
    ///
    /// # Errors
    /// Where it cannot be made.
    pub fn begin(parent: Option<&Path>) -> anyhow::Result<Self> {
        let parent = parent.map_or_else(std::env::temp_dir, Path::to_owned);
        std::fs::create_dir_all(&parent).with_context(|| format!("making {}", parent.display()))?;
        clear(&parent, &is_running);
        let own = parent.join(format!("{PREFIX}{}", std::process::id()));
        std::fs::create_dir_all(&own).with_context(|| format!("making {}", own.display()))?;
        // Where another part of the program has set it already, its files lie elsewhere, which does no harm.
        if tempfile::env::override_temp_dir(&own).is_err() {
            tracing::warn!("files for a while are kept elsewhere than in {}", own.display());
        }
        Ok(Self(own))
    }

    /// Where it lies.
    pub fn path(&self) -> &Path {
        &self.0
    }
}

impl Drop for Scratch {
    fn drop(&mut self) {
        if let Err(error) = std::fs::remove_dir_all(&self.0) {
            tracing::warn!(%error, "{} could not be removed", self.0.display());
        }
    }
}

/// Removes what processes have left that do not run any more.
fn clear(parent: &Path, is_running: &dyn Fn(i32) -> bool) {
    let Ok(entries) = std::fs::read_dir(parent) else { return };
    for entry in entries.flatten() {
        let name = entry.file_name();
        let pid = name.to_str().and_then(|n| n.strip_prefix(PREFIX)).and_then(|p| p.parse().ok());
        if pid.is_some_and(|pid| !is_running(pid))
            && let Err(error) = std::fs::remove_dir_all(entry.path())
        {
            tracing::warn!(%error, "{} could not be removed", entry.path().display());
        }
    }
}

fn is_running(pid: i32) -> bool {
    use nix::errno::Errno;
    // Signal 0 asks only.
    !matches!(nix::sys::signal::kill(nix::unistd::Pid::from_raw(pid), None), Err(Errno::ESRCH))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_dead_left_is_removed_and_nothing_else() {
        let dir = tempfile::tempdir().unwrap();
        for name in ["bothros-workflow-7", "bothros-workflow-8", "bothros-workflow-x", "mine"] {
            std::fs::create_dir_all(dir.path().join(name).join("deep")).unwrap();
        }
        clear(dir.path(), &|pid| pid == 8);
        let mut left: Vec<_> = std::fs::read_dir(dir.path())
            .unwrap()
            .map(|e| e.unwrap().file_name().into_string().unwrap())
            .collect();
        left.sort();
        assert_eq!(left, ["bothros-workflow-8", "bothros-workflow-x", "mine"]);
        assert!(is_running(std::process::id() as i32));
    }
}
