//! Current problems, for the log and for every page.

use std::collections::BTreeMap;
use std::sync::Arc;

use tokio::sync::watch;

/// The parts of the program that have a problem, with a message for each. Clones share it.
#[derive(Clone)]
pub struct Health(Arc<watch::Sender<BTreeMap<&'static str, String>>>);

impl Default for Health {
    fn default() -> Self {
        Self(Arc::new(watch::Sender::new(BTreeMap::new())))
    }
}

impl Health {
    /// Says that a part is in trouble.
    pub fn trouble(&self, part: &'static str, what: impl Into<String>) {
        let what = what.into();
        let new = self.0.send_if_modified(|all| all.insert(part, what.clone()).is_none_or(|old| old != what));
        if new {
            tracing::error!(part, what, "trouble");
        }
    }
    /// Says that a part works.
    pub fn well(&self, part: &'static str) {
        if self.0.send_if_modified(|all| all.remove(part).is_some()) {
            tracing::warn!(part, "works again");
        }
    }
    /// What does not work, one sentence each.
    pub fn told(&self) -> Vec<String> {
        self.0.borrow().values().cloned().collect()
    }
    /// Subscribes to changes.
    pub(crate) fn changes(&self) -> watch::Receiver<BTreeMap<&'static str, String>> {
        self.0.subscribe()
    }
}
