//! Files that came a moment ago and lie on disk still: a job that reads one need not wait for the database.

use std::collections::HashMap;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use tempfile::TempDir;

/// How long a file that nobody reads stays at hand.
const FOR: Duration = Duration::from_secs(60);

/// What a file is called in its directory.
const NAME: &str = "file";

/// Files by their numbers, each in a directory that goes with it.
#[derive(Clone, Default)]
pub(crate) struct AtHand(Arc<Mutex<HashMap<i64, TempDir>>>);

impl AtHand {
    fn files(&self) -> MutexGuard<'_, HashMap<i64, TempDir>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Keeps a file at hand that this process has written for itself, for whoever asks for it first. One that anybody else may
    /// change, or that has no other name on its disk, is read from the database.
    pub fn keep(&self, id: i64, path: &Path) {
        if !path.starts_with(tempfile::env::temp_dir()) {
            return;
        }
        let Ok(dir) = tempfile::tempdir() else { return };
        if std::fs::hard_link(path, dir.path().join(NAME)).is_err() {
            return;
        }
        self.files().insert(id, dir);
        let files = self.clone();
        tokio::spawn(async move {
            tokio::time::sleep(FOR).await;
            files.files().remove(&id);
        });
    }

    /// Puts a file at `to` where it is at hand, and tells whether it was.
    pub fn take(&self, id: i64, to: &Path) -> bool {
        let found = self.files().remove(&id);
        found.is_some_and(|dir| std::fs::rename(dir.path().join(NAME), to).is_ok())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_file_is_at_hand_once_and_only_where_it_is_ours() {
        let dir = tempfile::tempdir().unwrap();
        let (from, to) = (dir.path().join("from"), dir.path().join("to"));
        std::fs::write(&from, "elevations").unwrap();
        let files = AtHand::default();
        files.keep(1, &from);
        std::fs::remove_file(&from).unwrap();
        assert!(!files.take(2, &to) && files.take(1, &to) && !files.take(1, &to));
        assert_eq!(std::fs::read_to_string(&to).unwrap(), "elevations");
        files.keep(3, Path::new("/etc/hostname"));
        assert!(!files.take(3, &to));
    }
}
