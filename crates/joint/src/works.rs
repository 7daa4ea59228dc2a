//! Works that lie in one place, each in a part of its own, and those who help with them.

use std::sync::Arc;
use std::time::{Duration, Instant};

use bothros_core::{Monitor, Quiet};

use crate::error::Result;
use crate::ground::{Computed, Ground};
use crate::joint::{Joint, Outcome, Terms, check, pace};
use crate::shelf::Shelf;

/// Where works that may be helped with are told: their names, with what they are called and where they lie.
const OPEN: &str = "open";
/// Where they lie.
const WORKS: &str = "works";
/// After so long without anything to do in a work a helper leaves it; it comes back if the work is still there.
const LEAVES_AFTER: Duration = Duration::from_secs(5);

/// A place in which works lie.
pub struct Works {
    shelf: Arc<Shelf>,
}

/// A work that others may help with; whoever opened it finishes it. It lies there until it is closed.
pub struct Opened {
    joint: Joint,
    at: At,
    works: Arc<Shelf>,
}

/// What a work is called, and which of that name it is.
#[derive(Clone, PartialEq)]
struct At {
    name: String,
    id: String,
}

impl At {
    fn mark(&self) -> String {
        format!("{OPEN}/{}/{}", self.name, self.id)
    }

    fn part(&self) -> String {
        format!("{WORKS}/{}", self.id)
    }
}

impl Works {
    /// Those in a directory, which is made where it is not there, or in `s3://bucket/prefix`.
    ///
    /// # Errors
    /// [`Error::Place`](crate::Error::Place).
    pub fn at(place: &str) -> Result<Self> {
        Ok(Self { shelf: Arc::new(Shelf::open(place)?) })
    }

    /// Opens the work of a name, one at a time: it goes on from what was done of the same before its process ended, and what
    /// else lies there under the name is taken away. Bands are kept in memory as by [`Joint::join`].
    ///
    /// # Errors
    /// [`Error::Access`](crate::Error::Access), [`Error::Damaged`](crate::Error::Damaged).
    pub fn open(&self, name: &str, terms: Terms, room: u64) -> Result<Opened> {
        let mut same = None;
        for at in self.all()?.into_iter().filter(|at| at.name == name) {
            let begun = Joint::begun(&self.shelf.below(&at.part()))?;
            if same.is_none() && begun.as_ref() == Some(&terms) {
                same = Some(at);
            } else {
                self.take_away(&at)?;
            }
        }
        let id = || uuid::Uuid::new_v4().simple().to_string();
        let at = same.unwrap_or_else(|| At { name: name.to_owned(), id: id() });
        // The terms are those of whoever began it, which is this process or one before.
        let joint = Joint::on(self.shelf.below(&at.part()), terms, room, |_| "it is another".into())?;
        self.shelf.put(&at.mark(), Vec::new())?;
        Ok(Opened { joint, at, works: Arc::clone(&self.shelf) })
    }

    /// Helps with the works that are open, begun by this `program`, until none has anything to do; how many bands were worked
    /// on, a band counted in each phase.
    ///
    /// # Errors
    /// Those of [`Joint::work`], but for what a work lacks that was closed meanwhile.
    pub fn help(&self, program: &str, room: u64, monitor: &dyn Monitor) -> Result<usize> {
        let mut count = 0;
        for at in self.all()? {
            let part = self.shelf.below(&at.part());
            let Some(terms) = Joint::begun(&part)?.filter(|terms| terms.program == program) else { continue };
            let helped = Joint::on(part, terms, room, |_| "it is another".into())
                .and_then(|mut joint| joint.help(LEAVES_AFTER, &Quiet(monitor), &mut count));
            let is_open = self.all()?.contains(&at);
            if !is_open {
                // What was put after it was closed.
                self.shelf.below(&at.part()).clear(&[])?;
            }
            match helped {
                Err(crate::Error::Core(error)) => return Err(error.into()),
                Err(error) if is_open => return Err(error),
                _ => {}
            }
        }
        Ok(count)
    }

    fn all(&self) -> Result<Vec<At>> {
        let at = |told: String| {
            told.split_once('/').map(|(name, id)| At { name: name.to_owned(), id: id.to_owned() })
        };
        Ok(self.shelf.list(OPEN)?.into_iter().filter_map(at).collect())
    }

    fn take_away(&self, at: &At) -> Result<()> {
        self.shelf.remove(&at.mark())?;
        self.shelf.below(&at.part()).clear(&[])
    }
}

impl Opened {
    /// Works with those who help until all is computed.
    ///
    /// # Errors
    /// Those of [`Joint::work`].
    pub fn work(
        &mut self,
        prepare: impl FnMut(&dyn Monitor) -> Result<Ground>,
        begin: &dyn Fn(&str),
        monitor: &dyn Monitor,
    ) -> Result<Computed> {
        match self.joint.work(prepare, begin, monitor)? {
            Outcome::Mine(computed) => Ok(*computed),
            // Who helps finishes nothing.
            Outcome::Done(_) => Err(self.joint.shelf.damaged(&self.at.part())),
        }
    }

    /// Takes away what lies there.
    ///
    /// # Errors
    /// [`Error::Access`](crate::Error::Access).
    pub fn close(self) -> Result<()> {
        let Self { joint, at, works } = self;
        // Its last sign of life goes with it.
        drop(joint);
        Works { shelf: works }.take_away(&at)
    }
}

impl Joint {
    /// Does what is to be done until nothing is, neither preparing nor finishing; `count` goes up with each band.
    fn help(&mut self, patience: Duration, monitor: &dyn Monitor, count: &mut usize) -> Result<()> {
        let (mut wait, mut idle) = (pace(), Instant::now());
        while Self::begun(&self.shelf)?.is_some() && idle.elapsed() < patience {
            check(monitor)?;
            let worked = match self.land()? {
                None => false,
                Some(land) => {
                    let done = self.done_names()?;
                    match self.next(&land, &done)? {
                        None => return Ok(()),
                        Some(next) => self.turn(&land, &done, next, monitor)?,
                    }
                }
            };
            if worked {
                *count += 1;
                idle = Instant::now();
            }
            wait(worked);
        }
        Ok(())
    }
}
