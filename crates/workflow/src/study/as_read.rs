//! Results are kept only if the study has not changed since they were computed.

use bothros_store::{Change, Store};

use crate::{Error, Facts, Result, boxed};

/// Attempts to compute a result again because another user changed the study meanwhile.
const ROUNDS: usize = 100;

/// The rounds in which something is computed from a study and kept; each begins with the study as it is then.
pub(crate) struct Rounds<'a> {
    store: &'a Store,
    study: i64,
    left: usize,
}

impl<'a> Rounds<'a> {
    pub fn new(store: &'a Store, study: i64) -> Self {
        Self { store, study, left: ROUNDS }
    }

    /// The study as it is now, to compute from.
    ///
    /// # Errors
    /// [`Error::Refused`] if other users changed the study in every round.
    #[boxed]
    pub async fn next(&mut self) -> Result<Facts> {
        self.left = self.left.checked_sub(1).ok_or_else(|| {
            Error::Refused("other users are changing this study at this moment: try again".into())
        })?;
        Facts::of(&self.store.study(self.study).await?)
    }

    /// Begins the change that keeps what was computed; `None` where the study was changed since it was read.
    ///
    /// # Errors
    /// Those of the store.
    #[boxed]
    pub async fn keep(&self, facts: &Facts) -> Result<Option<Change>> {
        let change = self.store.change(self.study).await?;
        Ok((change.study().revision == facts.revision).then_some(change))
    }
}
